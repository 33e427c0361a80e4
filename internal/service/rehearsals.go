package service

import (
	"context"
	"encoding/hex"
	"errors"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"insegna.example/internal/core/estate"
	"insegna.example/internal/install"
	"insegna.example/internal/kind/nginx"
	"insegna.example/internal/store"
)

// copyOf makes a copy of a server's configuration, to lie at a path, as an
// installation leaves it, for the server to test; nil when its command for that cannot be led to
// another file.
func copyOf(fsys fs.FS, way *estate.Reach, i *install.Installation, at string) (*install.Copy, error) {
	test := onFile(way.Test, way.Configuration, at)
	if test == "" {
		return nil, nil
	}
	version := path.Join(i.Folder, "versions", i.Version)
	flat, err := nginx.Flatten(fsys, way.Configuration, i.Edits, map[string]string{
		install.Certificate(i.Folder): path.Join(version, "chain.pem"),
		install.Key(i.Folder):         path.Join(version, "key.pem"),
	})
	if err != nil {
		return nil, err
	}
	return &install.Copy{Text: []byte(flat.Text), Test: test, Translate: func(said string) string { return flat.Translate(said, at) }}, nil
}

// severalCommands are signs of a shell's line that is more than one plain
// command.
var severalCommands = regexp.MustCompile("[;&|<>`\n(){}#]")

// onFile is the command that tests a configuration led to another file: where
// it names the file, that is exchanged; a plain nginx is told the file at its
// end, where the last word counts. It is empty when neither can be.
func onFile(command, file, other string) string {
	quoted := "'" + strings.ReplaceAll(other, "'", `'\''`) + "'"
	named := regexp.MustCompile(`(^|[\s='"])` + regexp.QuoteMeta(file) + `($|[\s'"])`)
	if named.MatchString(command) {
		return named.ReplaceAllStringFunc(command, func(s string) string { return strings.Replace(s, file, other, 1) })
	}
	words := strings.Fields(command)
	for n, w := range words {
		if path.Base(w) == "nginx" && n < len(words)-1 && !severalCommands.MatchString(command) {
			return command + " -c " + quoted
		}
	}
	return ""
}

// How long a rehearsal waits for its turn on a server, and how often it asks.
const (
	turnLimit = time.Minute
	turnEach  = 500 * time.Millisecond
)

// rehearseInstallation tries what a rehearsal brought on the mandate's servers:
// it is staged, tested, and taken away.
func (s *Service) rehearseInstallation(ctx context.Context, row *store.Order) {
	m, err := s.Mandate(ctx, row.Mandate.Name)
	if err != nil {
		s.cfg.Log.Warn("the rehearsal goes no further", "mandate", row.Mandate.Name, "error", err)
		return
	}
	begun, err := s.store.Rehearsals(ctx, row.ID)
	if err != nil {
		s.cfg.Log.Warn("the rehearsal goes no further", "mandate", m.Name, "error", err)
		return
	}
	for _, server := range m.Spec.Servers() {
		if slices.ContainsFunc(begun, func(v store.Installation) bool { return v.Server == server && v.StartedAt != nil }) {
			continue // before the process that did it died
		}
		if err := s.rehearseOn(ctx, m, row, server); err != nil && ctx.Err() == nil {
			s.cfg.Log.Warn("the rehearsal goes no further", "mandate", m.Name, "server", server, "error", err)
		}
	}
}

// rehearseOn tries it on one server. What stands in the way of a preview is
// kept as an installation that came to nothing.
func (s *Service) rehearseOn(ctx context.Context, m *MandateView, row *store.Order, server string) error {
	v, err := s.previewOf(ctx, m, row, server)
	var refused *RefusedError
	var unknown *UnknownError
	if errors.As(err, &refused) || errors.As(err, &unknown) {
		now := time.Now().UTC()
		failed := &store.Installation{MandateID: m.ID, OrderID: row.ID, Rehearsal: true, Server: server, Leaf: hex.EncodeToString(row.Leaf), Edits: "[]", Bindings: "[]", Notes: "[]",
			State: string(install.Returned), Reason: err.Error(), By: actor(ctx), CreatedAt: now, StartedAt: &now, FinishedAt: &now}
		if refused != nil {
			failed.Advice = refused.Next
		}
		return s.store.AddPreview(ctx, failed)
	} else if err != nil {
		return err
	}
	for deadline := time.Now().Add(turnLimit); ; {
		_, err := s.BeginInstallation(ctx, v.ID)
		if !errors.Is(err, store.ErrInstallationRunning) || time.Now().After(deadline) {
			return err
		}
		select {
		case <-time.After(turnEach):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// RehearsedOn tells how a mandate's last rehearsal went on its servers.
func (s *Service) RehearsedOn(ctx context.Context, m *MandateView) ([]*InstallationView, error) {
	if m.Rehearsed == nil {
		return nil, nil
	}
	rows, err := s.store.Rehearsals(ctx, m.Rehearsed.ID)
	list := make([]*InstallationView, len(rows))
	for i := range rows {
		rows[i].Mandate, rows[i].Edits = m.Mandate, ""
		if list[i], err = viewInstallation(&rows[i]); err != nil {
			return nil, err
		}
	}
	return list, err
}
