package service

import (
	"context"
	"errors"
	"time"

	"insegna.example/internal/core/estate"
	"insegna.example/internal/reach"
	"insegna.example/internal/store"
)

// HostKey is the key a server's machine shows.
type HostKey = reach.HostKey

// wayOf is how a server is reached over SSH.
func (s *Declaring) wayOf(ctx context.Context, name string) (reach.SSH, error) {
	e, _, err := s.estateInForce(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return reach.SSH{}, ErrNoEstate
	} else if err != nil {
		return reach.SSH{}, err
	}
	server := e.Server(name)
	if server == nil {
		return reach.SSH{}, &UnknownError{"server", name, "server list"}
	}
	if server.Reach == nil || server.Reach.By == "local" {
		return reach.SSH{}, &RefusedError{name + " is not reached over SSH, so there is no host key to know",
			"see its reach in the estate file"}
	}
	return sshOf(server.Reach), nil
}

// sshOf is a declared way over SSH.
func sshOf(way *estate.Reach) reach.SSH {
	return reach.SSH{Address: way.Address, User: way.User, Key: way.Key, KnownHosts: way.KnownHosts}
}

// HostKeyOf asks a server for its host key. Nobody logs in.
func (s *Declaring) HostKeyOf(ctx context.Context, name string) (*HostKey, error) {
	way, err := s.wayOf(ctx, name)
	if err != nil {
		return nil, err
	}
	k, err := reach.ShownKey(ctx, way)
	if err != nil {
		return nil, &RefusedError{err.Error(), "see that the server runs, and the address in its reach"}
	}
	return k, nil
}

// TrustHostKey keeps the host key a server shows, when it is the one that was
// seen.
func (s *Declaring) TrustHostKey(ctx context.Context, name, seen string) (*HostKey, error) {
	way, err := s.wayOf(ctx, name)
	if err != nil {
		return nil, err
	}
	k, err := reach.Trust(ctx, way, seen)
	var other *reach.HostKeyError
	switch {
	case errors.As(err, &other) && other.Changed:
		return nil, &RefusedError{err.Error(), "when the machine was set up anew, take that line out, and trust the new key"}
	case errors.As(err, &other):
		return nil, &RefusedError{"the server shows another key by now: " + other.Seen, "look again: insegna server trust " +
			name}
	case err != nil:
		return nil, &RefusedError{err.Error(), "see that the service may write there"}
	}
	return k, s.store.Note(ctx, &store.Act{Actor: actor(ctx), Action: "server.trust", Subject: name,
		Detail: map[string]any{"key": k.Seen, "address": way.Address}}, time.Now().UTC())
}
