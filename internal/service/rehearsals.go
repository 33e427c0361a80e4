package service

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"insegna.example/internal/install"
	"insegna.example/internal/store"
)

// How long a rehearsal waits for its turn on a server, and how often it asks.
const (
	turnLimit = time.Minute
	turnEach  = 500 * time.Millisecond
)

// rehearseInstallation tries what a rehearsal brought on the mandate's servers:
// it is staged, tested, and taken away.
func (s *Installing) rehearseInstallation(ctx context.Context, row *store.Order) {
	m, err := s.ordering.Mandate(ctx, row.Mandate.Name)
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
func (s *Installing) rehearseOn(ctx context.Context, m *MandateView, row *store.Order, server string) error {
	v, err := s.previewOf(ctx, m, row, server, nil)
	var refused *RefusedError
	var unknown *UnknownError
	if errors.As(err, &refused) || errors.As(err, &unknown) {
		now := time.Now().UTC()
		failed := &store.Installation{MandateID: m.ID, OrderID: row.ID, Rehearsal: true, Server: server,
			Leaf: hex.EncodeToString(row.Leaf), Plan: json.RawMessage("{}"), Bindings: []store.InstallationBinding{},
			Notes: []string{},
			State: string(install.Returned), Reason: err.Error(), By: actor(ctx), CreatedAt: now, StartedAt: &now,
			FinishedAt: &now}
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
func (s *Installing) RehearsedOn(ctx context.Context, m *MandateView) ([]*InstallationView, error) {
	if m.Rehearsed == nil {
		return nil, nil
	}
	rows, err := s.store.Rehearsals(ctx, m.Rehearsed.ID)
	list := make([]*InstallationView, len(rows))
	for i := range rows {
		rows[i].Mandate = m.Mandate
		list[i] = &InstallationView{Installation: &rows[i]}
	}
	return list, err
}
