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
		return nil, &RefusedError{fmt.Sprintf("%s is declared in the estate file, at %s", h.Name, had.Place.AtLine()),
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

// takeHosts takes hosts of a server in that it has sites for, by itself, and gives how many
// are new there.
func (s *Declaring) takeHosts(ctx context.Context, server string, list []store.Unlisted) (taken int, err error) {
	s.taking.Lock() // several servers are read at once
	defer s.taking.Unlock()
	d, e, err := s.Declared(ctx)
	if err != nil {
		return 0, err
	}
	at := e.Server(server)
	if at == nil || !at.AllHosts {
		return 0, nil // another file was applied meanwhile
	}
	d.Made = slices.Clone(d.Made)
	var names []string
	for _, u := range list {
		ref := estate.Ref{Server: server, Port: u.Port}
		switch had := e.Host(u.Host); {
		case had == nil:
			h := estate.Host{Name: u.Host, At: []estate.Ref{ref}, Audiences: []string{e.Audiences[0].Name}, By: itself}
			d.Made = append(d.Made, estate.Made{Host: h, At: time.Now().UTC(), Found: true})
			e.Hosts = append(e.Hosts, h)
		case had.By != itself || slices.Contains(had.At, ref): // where a person wants it is for that person to say
			continue
		default:
			had.At = append(had.At, ref)
			for i := range d.Made {
				if d.Made[i].Host.Name == u.Host {
					d.Made[i].Host.At = had.At
				}
			}
		}
		names = append(names, u.Host)
	}
	if len(names) == 0 {
		return 0, nil
	}
	told := names[:min(len(names), takenTold)]
	return len(names), s.again(ctx, d, e, &store.Act{Actor: itself, Action: "host.add", Subject: server,
		Detail: map[string]any{"hosts": told, "number": len(names)}})
}

// takenTold is how many hosts that are taken in at once the journal names.
const takenTold = 100

// ChangeHost makes a host that was taken in here another: where it is wanted, and what.
func (s *Declaring) ChangeHost(ctx context.Context, text []byte) (*estate.Host, error) {
	d, e, err := s.Declared(ctx)
	if err != nil {
		return nil, err
	}
	h, err := estate.ParseHost(text, e)
	if err != nil {
		return nil, err
	}
	had := e.Host(h.Name)
	switch {
	case had == nil:
		return nil, &UnknownError{"host", h.Name, "estate show"}
	case had.By == "":
		return nil, &RefusedError{fmt.Sprintf("%s is declared in the estate file, at %s", h.Name, had.Place.AtLine()), "change it there, and apply the file"}
	}
	h.By = had.By
	if had.By == itself { // a person says from now on
		h.By = actor(ctx)
	}
	d.Made = slices.Clone(d.Made)
	for i := range d.Made {
		if d.Made[i].Host.Name == h.Name {
			d.Made[i].Host, d.Made[i].Found = *h, false
		}
	}
	*had = *h
	return h, s.again(ctx, d, e, &store.Act{Actor: actor(ctx), Action: "host.change", Subject: h.Name, Detail: map[string]any{"at": textsOf(h.At)}})
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
		return &RefusedError{fmt.Sprintf("%s is declared in the estate file, at %s", name, had.Place.AtLine()),
			"take it out there, and apply the file"}
	}
	d.Made = slices.DeleteFunc(slices.Clone(d.Made), func(m estate.Made) bool { return m.Host.Name == name })
	e.Hosts = slices.DeleteFunc(e.Hosts, func(h estate.Host) bool { return h.Name == name })
	return s.again(ctx, d, e, &store.Act{Actor: actor(ctx), Action: "host.remove", Subject: name})
}

// again puts the declaration in force with other hosts beside the file.
func (s *Declaring) again(ctx context.Context, d *store.Declaration, e *estate.Estate, act *store.Act) error {
	before := d.ID
	next := &store.Declaration{Name: d.Name, File: d.File, Content: d.Content, Parts: d.Parts, Files: d.Files, Made: d.Made, AppliedAt: s.cfg.Clock().UTC(),
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
