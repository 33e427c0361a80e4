package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/names"
	"insegna.example/internal/store"
)

// AddHost takes a host into the estate, written as in an estate file or as JSON: it is
// looked at and judged like those the file declares, and stays when that is applied anew.
func (s *Declaring) AddHost(ctx context.Context, text []byte) (*estate.Host, error) {
	d, e, err := s.Declared(ctx)
	if err != nil {
		return nil, err
	}
	h, err := estate.ParseHost(text, e)
	if err != nil {
		return nil, err
	}
	if had := e.Host(h.Name); had != nil && had.By == "" {
		return nil, &RefusedError{fmt.Sprintf("%s is declared in the estate file, at line %d", h.Name, had.Place.Line),
			"change it there, and apply the file"}
	} else if had != nil {
		return nil, &RefusedError{h.Name + " is taken in already, by " + had.By, "see it: insegna estate show"}
	}
	h.By = actor(ctx)
	d.Made = append(slices.Clone(d.Made), estate.Made{Host: *h, At: time.Now().UTC()})
	e.Hosts = append(e.Hosts, *h)
	return h, s.again(ctx, d, e, &store.Act{Actor: actor(ctx), Action: "host.add", Subject: h.Name,
		Detail: map[string]any{"at": textsOf(h.At)}})
}

// RemoveHost lets a host go that was taken in here.
func (s *Declaring) RemoveHost(ctx context.Context, name string) error {
	d, e, err := s.Declared(ctx)
	if err != nil {
		return err
	}
	if host, err := names.Host(name); err == nil {
		name = host
	}
	had := e.Host(name)
	switch {
	case had == nil:
		return &UnknownError{"host", name, "estate show"}
	case had.By == "":
		return &RefusedError{fmt.Sprintf("%s is declared in the estate file, at line %d", name, had.Place.Line),
			"take it out there, and apply the file"}
	}
	d.Made = slices.DeleteFunc(slices.Clone(d.Made), func(m estate.Made) bool { return m.Host.Name == name })
	e.Hosts = slices.DeleteFunc(e.Hosts, func(h estate.Host) bool { return h.Name == name })
	return s.again(ctx, d, e, &store.Act{Actor: actor(ctx), Action: "host.remove", Subject: name})
}

// again puts the declaration in force with other hosts beside the file.
func (s *Declaring) again(ctx context.Context, d *store.Declaration, e *estate.Estate, act *store.Act) error {
	before := d.ID
	next := &store.Declaration{Name: d.Name, File: d.File, Content: d.Content, Files: d.Files, Made: d.Made, AppliedAt: time.Now().UTC(),
		Act: act, Replaces: before}
	_, err := s.store.Apply(ctx, next, e)
	if errors.Is(err, store.ErrReplaced) {
		return &RefusedError{"the estate was changed meanwhile", "try it again"}
	}
	s.applied()
	return err
}

// textsOf writes references as the estate file has them.
func textsOf(list []estate.Ref) (out []string) {
	for _, r := range list {
		out = append(out, r.String())
	}
	return out
}
