package service

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"time"

	"insegna.example/internal/core/estate"
	"insegna.example/internal/store"
)

// EstateFile is an estate file with the certificate files it mentions.
type EstateFile struct {
	Name        string // said in errors and kept as the origin of what it declares
	Text        []byte
	Attachments map[string][]byte // by the path written in the file
}

// LoadEstateFile reads an estate file and what it mentions; paths in it are
// relative to it. Files that cannot be read are told by the parser, with the
// line that mentions them.
func LoadEstateFile(path string, read func(string) ([]byte, error)) (*EstateFile, error) {
	text, err := read(path)
	if err != nil {
		return nil, fmt.Errorf("cannot read the estate file: %w", err)
	}
	f := &EstateFile{Name: path, Text: text, Attachments: map[string][]byte{}}
	for _, mentioned := range estate.Mentioned(text) {
		at := mentioned
		if !filepath.IsAbs(at) {
			at = filepath.Join(filepath.Dir(path), at)
		}
		if data, err := read(at); err == nil {
			f.Attachments[mentioned] = data
		}
	}
	return f, nil
}

// Parse reads the file. The error is an estate.Errors.
func (f *EstateFile) Parse(kinds estate.Kinds) (*estate.Estate, error) {
	return estate.Parse(f.Name, f.Text, kinds, func(path string) ([]byte, error) {
		if data, ok := f.Attachments[path]; ok {
			return data, nil
		}
		return nil, errors.New("no such file, or not readable")
	})
}

// EstateChanges are what applying a file changes or has changed.
type EstateChanges struct {
	Estate   string
	File     string
	Replaces string // the file applied before, when it has another name
	Changes  []estate.Change
	Applied  bool
}

// PreviewEstate says what applying a file would change.
func (s *Service) PreviewEstate(ctx context.Context, f *EstateFile) (*EstateChanges, error) {
	changes, _, err := s.preview(ctx, f)
	return changes, err
}

func (s *Service) preview(ctx context.Context, f *EstateFile) (*EstateChanges, *estate.Estate, error) {
	next, err := f.Parse(s.cfg.Kinds.Declared())
	if err != nil {
		return nil, nil, err
	}
	out := &EstateChanges{Estate: next.Name, File: f.Name}
	before, err := s.store.Declared(ctx)
	if errors.Is(err, store.ErrNotFound) {
		out.Changes = estate.Diff(nil, next)
		return out, next, nil
	}
	if err != nil {
		return nil, nil, err
	}
	if before.File != f.Name {
		out.Replaces = before.File
	}
	was, err := before.Estate(s.cfg.Kinds.Declared())
	if err != nil {
		return nil, nil, err
	}
	out.Changes = estate.Diff(was, next)
	return out, next, nil
}

// ApplyEstate puts a file in force, in one transaction.
func (s *Service) ApplyEstate(ctx context.Context, f *EstateFile) (*EstateChanges, error) {
	changes, next, err := s.preview(ctx, f)
	if err != nil {
		return nil, err
	}
	d := &store.Declaration{Name: next.Name, File: f.Name, Content: f.Text, Files: f.Attachments, AppliedAt: time.Now().UTC()}
	d.Act = &store.Act{Actor: actor(ctx), Action: "estate.apply", Subject: f.Name, Detail: actDetail(changes)}
	changes.Applied, err = s.store.Apply(ctx, d, next)
	return changes, err
}

// actDetail says for the journal what applying a file changes.
func actDetail(c *EstateChanges) map[string]any {
	counts := map[string]int{}
	for _, change := range c.Changes {
		counts[change.Is]++
	}
	return map[string]any{"estate": c.Estate, "replaces": c.Replaces, "add": counts["add"], "change": counts["change"], "remove": counts["remove"]}
}

// Declared gives the estate in force with its declaration; ErrNoEstate when
// there is none.
func (s *Service) Declared(ctx context.Context) (*store.Declaration, *estate.Estate, error) {
	d, err := s.store.Declared(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil, ErrNoEstate
	}
	if err != nil {
		return nil, nil, err
	}
	e, err := d.Estate(s.cfg.Kinds.Declared())
	return d, e, err
}
