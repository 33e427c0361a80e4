package files

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"strings"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/install"
	"insegna.example/internal/kind"
)

// Trust implements install.Truster: the CA's certificate comes to the end of the file, and
// the server takes it in. A file by which visitors are let in, or that is everybody's on
// the machine, is not changed.
func (d *Destination) Trust(_ context.Context, w *install.Trusting) (*install.Planned, error) {
	out, err := d.trust(w)
	return out, refused(err)
}

func (d *Destination) trust(w *install.Trusting) (*install.Planned, error) {
	fsys := d.Over.FS()
	reading, err := d.Reader.Read(fsys, d.Main)
	if err != nil {
		return nil, err
	}
	if err := d.outlives(reading); err != nil {
		return nil, err
	}
	if d.Verifies == nil {
		return nil, &install.RefusedError{Reason: "it is not known which files of this kind are for servers behind alone",
			Next: "add it by hand"}
	}
	at, err := kind.Resolved(fsys, w.File)
	if err != nil {
		return nil, err
	}
	if err := d.onlyBehind(reading, w.File, at); err != nil {
		return nil, err
	}
	text := ""
	switch data, _, err := d.file(at); {
	case kind.Lost(err):
		return nil, err
	case errors.Is(err, fs.ErrNotExist):
		return nil, &install.RefusedError{Reason: w.File + " is not there", Next: "lay it there by hand"}
	case err != nil:
		return nil, &install.RefusedError{Reason: fmt.Sprintf("%s cannot be read as a file: %v", w.File, err),
			Next: "add the certificate there by hand"}
	default:
		text = string(data)
	}
	after := text
	if after != "" && !strings.HasSuffix(after, "\n") {
		after += "\n"
	}
	after += string(certs.PEM(w.CA.Raw))
	l := &layout{Folder: path.Join(path.Dir(d.Main), "insegna", mendingFolder), Only: true, Test: d.Test, Reload: d.Reload,
		Copy: path.Join(path.Dir(d.Main), ".insegna-"+mendingFolder[1:]+".")}
	own, err := json.Marshal(l)
	if err != nil {
		return nil, err
	}
	p := &planner{Destination: d, wish: &install.Wish{Server: w.Server, Addresses: w.Addresses}, reading: reading, after: reading}
	return &install.Planned{
		Plan: install.Plan{Where: at, Files: []install.File{{Path: at, Before: text, After: after}}, Own: own,
			Acts: []install.Act{{Does: "trust", What: w.CA.CommonName() + " as a CA in " + at}, {Does: "test", What: l.Test},
				{Does: "reload", What: l.Reload}}},
		Bindings: p.neighbours(nil, &kind.Edits{}),
	}, nil
}

// onlyBehind refuses a file that a line of the configuration names for something else than
// servers behind, as well as one that is not the configuration's own.
func (d *Destination) onlyBehind(r *kind.Reading, named, at string) error {
	for _, shared := range []string{"/etc/ssl/certs/", "/usr/share/", "/usr/local/share/ca-certificates/", "/etc/pki/"} {
		if strings.HasPrefix(at, shared) {
			return &install.RefusedError{Reason: named + " is for the whole machine",
				Next: "let the configuration name a file of its own, or add the CA to the machine's by its own means"}
		}
	}
	word := regexp.MustCompile(`(^|[^\w.-])` + regexp.QuoteMeta(path.Base(named)) + `($|[^\w.-])`)
	for _, f := range r.Files {
		for n, line := range strings.Split(f.Text, "\n") {
			if strings.HasPrefix(strings.TrimSpace(line), "#") {
				continue
			}
			for part := range strings.SplitSeq(line, ";") { // several directives may stand on a line
				if part = strings.TrimSpace(part); word.MatchString(part) && !d.Verifies.MatchString(part) {
					return &kind.EditError{Place: kind.Place{File: f.Path, Line: n + 1},
						Reason: named + " is named here too, so that more than servers behind may be let in by it",
						Remedy: "let the servers behind be verified with a file of their own"}
				}
			}
		}
	}
	return nil
}
