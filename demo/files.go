package demo

import (
	"bytes"
	"embed"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"text/template"

	"insegna.example/internal/standin/sshd"
)

// templates are every server's configuration and the estate file.
//
//go:embed files
var templates embed.FS

// view is what the templates see.
type view struct {
	*Estate
	Root bool        // started by root: the workers of nginx drop to an ordinary user
	SSH  *sshd.Setup // how pier-2 is reached; nil when whoever starts the demo cannot log in
}

// forgotten are the sites nobody linked into sites-enabled.
var forgotten = []string{"pier-2/sites-available/events"}

// writeFiles writes every server's configuration and the estate file, and
// switches sites on.
func (e *Estate) writeFiles() error {
	v := view{e, os.Geteuid() == 0, e.ssh}
	err := fs.WalkDir(templates, "files", func(name string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		t, err := template.ParseFS(templates, name)
		if err != nil {
			return err
		}
		var out bytes.Buffer
		if err := t.Execute(&out, v); err != nil {
			return err
		}
		rel, err := filepath.Rel("files", filepath.FromSlash(name))
		if err != nil {
			return err
		}
		return e.put(rel, out.Bytes())
	})
	if err != nil {
		return err
	}
	return e.joinForBalancer()
}

// put writes one file; a site is linked as well, unless it was forgotten.
func (e *Estate) put(name string, text []byte) error {
	path := e.path(name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	if was, err := os.ReadFile(path); err == nil && bytes.Contains(was, []byte("/insegna/")) {
		return nil // a certificate was installed there: what was mended stays mended
	}
	mode := os.FileMode(0o644)
	if bytes.HasPrefix(text, []byte("#!")) {
		mode = 0o755
	}
	if err := os.WriteFile(path, text, mode); err != nil {
		return err
	}
	dir := filepath.Dir(path)
	if filepath.Base(dir) != "sites-available" {
		return nil
	}
	link := filepath.Join(filepath.Dir(dir), "sites-enabled", filepath.Base(path))
	if err := os.MkdirAll(filepath.Dir(link), 0o755); err != nil {
		return err
	}
	if err := os.RemoveAll(link); err != nil || slices.Contains(forgotten, name) {
		return err
	}
	return os.Symlink(filepath.Join("..", "sites-available", filepath.Base(path)), link)
}

// joinForBalancer puts certificate, chain and key in one file each, as HAProxy
// reads them.
func (e *Estate) joinForBalancer() error {
	for _, name := range []string{"booking", "tickets", "wildcard", "status/1-status", "status/2-status-2026", "api"} {
		cert, err := os.ReadFile(e.path("quay-lb", name+".pem"))
		if errors.Is(err, fs.ErrNotExist) {
			continue // joined at an earlier start
		} else if err != nil {
			return err
		}
		key, err := os.ReadFile(e.path("quay-lb", name+".key"))
		if err != nil {
			return err
		}
		if err := os.WriteFile(e.path("quay-lb", name+".both"), append(cert, key...), 0o600); err != nil {
			return err
		}
		for _, part := range []string{".pem", ".key"} {
			if err := os.Remove(e.path("quay-lb", name+part)); err != nil {
				return err
			}
		}
	}
	return nil
}

// swaps are the files that change while their server runs: FILE.before is in
// place when it starts, FILE.after from then on.
var swaps = []string{"pier-1/timetable.pem", "pier-1/timetable.key", "pier-1/anchorage.pem", "freight-1/crane.key"}

// swap puts the version of every swapped file in place.
func (e *Estate) swap(version string) error {
	for _, name := range swaps {
		data, err := os.ReadFile(e.path("pki", "swaps", name+version))
		if err != nil {
			return err
		}
		if err := os.WriteFile(e.path(name), data, 0o600); err != nil {
			return err
		}
	}
	return nil
}
