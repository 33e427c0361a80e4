package service

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"insegna.example/internal/core/estate"
	"insegna.example/internal/kind"
	"insegna.example/internal/store"
)

// Limits of a glance at the files of a configuration.
const (
	glanceLimit  = 30 * time.Second // for one server
	glanceBeside = 8                // servers at once
	glancePaths  = 5000             // files and folders of one server
	pathsBeside  = 16               // of them at once
)

// glance sees whether files of read configurations have changed since, and has the servers
// read and looked at where they have. A server that cannot be reached is left to its next
// survey, which tells why.
func (s *Surveying) glance(ctx context.Context, e *estate.Estate, now time.Time) error {
	if e.Schedule.Files == 0 || now.Sub(s.schedule.glanced) < e.Schedule.Files {
		return nil
	}
	s.schedule.glanced = now
	list, err := s.store.Glances(ctx)
	if err != nil {
		return err
	}
	running, err := s.store.RunningScopes(ctx, now.Add(-hungAfter))
	if err != nil {
		return err
	}
	if len(running) > 0 {
		return nil // it reads them, or has just done so
	}
	var g errgroup.Group
	g.SetLimit(glanceBeside)
	for _, had := range list {
		server := e.Server(had.Server)
		if server == nil || server.Reach == nil || server.Every != nil && *server.Every == 0 {
			continue
		}
		g.Go(func() error {
			inTime, cancel := context.WithTimeout(ctx, glanceLimit)
			defer cancel()
			changed, err := s.changedOn(inTime, server, &had, now)
			if err != nil || changed == "" {
				return err
			}
			s.cfg.Log.Info("files of a configuration have changed", "server", server.Name, "first", changed)
			_, err = s.startSurvey(ctx, store.Scope{Server: server.Name}, &store.Survey{BegunBy: itself}, 0)
			var nothing *ScopeError
			if errors.As(err, &nothing) {
				return nil
			}
			return err
		})
	}
	return g.Wait()
}

// changedOn names a file of a server's configuration that is not as it was read, or a folder
// that is not as it was seen last; "" for none, also where the server is not reached.
func (s *Surveying) changedOn(ctx context.Context, server *estate.Server, had *store.Glanced, now time.Time) (string, error) {
	c, err := s.reading.configurationOf(ctx, had.Reading)
	if err != nil {
		return "", err
	}
	over, err := open(ctx, server.Reach)
	if err != nil {
		return "", nil //nolint:nilerr // the next survey tells
	}
	defer func() { _ = over.Close() }()
	files, folders := watchedFiles(c.reading)
	seen := make([]string, len(folders))
	changed := make([]bool, len(files))
	var g errgroup.Group
	g.SetLimit(pathsBeside)
	for i, f := range files {
		g.Go(func() error {
			info, err := fs.Stat(over.FS(), strings.TrimPrefix(f.path, "/"))
			switch {
			case kind.Lost(err):
				return err
			case err != nil:
				changed[i] = errors.Is(err, fs.ErrNotExist)
			default:
				changed[i] = !info.ModTime().UTC().Equal(f.modified)
			}
			return nil
		})
	}
	for i, folder := range folders {
		g.Go(func() error {
			info, err := fs.Stat(over.FS(), strings.TrimPrefix(folder, "/"))
			if kind.Lost(err) {
				return err
			} else if err == nil {
				seen[i] = info.ModTime().UTC().String()
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return "", nil //nolint:nilerr // the connection is lost, which the next survey tells
	}
	which, when := sha256.Sum256(fmt.Appendf(nil, "%q", folders)), sha256.Sum256(fmt.Appendf(nil, "%q", seen))
	if digest := slices.Concat(which[:], when[:]); !bytes.Equal(digest, had.Digest) {
		if err := s.store.SaveGlance(ctx, server.Name, digest, now); err != nil {
			return "", err
		}
		if bytes.HasPrefix(had.Digest, which[:]) { // it was read since where there are other folders
			return "in a folder", nil
		}
	}
	if i := slices.Index(changed, true); i >= 0 {
		return files[i].path, nil
	}
	return "", nil
}

// watchedFile is a file as it was read.
type watchedFile struct {
	path     string
	modified time.Time
}

// watchedFiles are the files of a reading and the folders they lie in, in order, at most so
// many.
func watchedFiles(r *kind.Reading) (files []watchedFile, folders []string) {
	in := map[string]bool{}
	add := func(p string, modified time.Time) {
		if path.IsAbs(p) && !modified.IsZero() && len(files) < glancePaths {
			files = append(files, watchedFile{p, modified})
			in[path.Dir(p)] = true
		}
	}
	for i := range r.Files {
		add(r.Files[i].Path, r.Files[i].Modified)
	}
	for _, p := range slices.Sorted(maps.Keys(r.Material)) {
		add(p, r.Material[p].Modified)
	}
	return files, slices.Sorted(maps.Keys(in))
}
