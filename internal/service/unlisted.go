package service

import (
	"context"
	"net/netip"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"insegna.example/internal/core/binding"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/kind"
	"insegna.example/internal/store"
)

// Limits of looking at hosts nobody has declared.
const (
	unlistedMost   = 300              // of one server
	unlistedBeside = 16               // at once
	unlistedLimit  = 30 * time.Second // for all of a server
)

// looking looks at a host at an endpoint.
type looking func(ctx context.Context, at netip.AddrPort, host string) (*binding.Observation, error)

// asFound looks at the hosts a server has sites for and the estate does not want there, and
// judges them like those it wants, for the estate's first audience.
func (s *Reading) asFound(ctx context.Context, facts *check.ServerFacts, r *kind.Reading, e *estate.Estate, server *estate.Server) error {
	if len(facts.Unwanted) == 0 || len(e.Audiences) == 0 {
		return nil
	}
	judge, err := s.declaring.currentJudge(ctx)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, unlistedLimit)
	defer cancel()
	c := newConfiguration(s.cfg.Kinds.Of(server.Kind), r)
	var g errgroup.Group
	g.SetLimit(unlistedBeside)
	var mu sync.Mutex                                   // a configuration remembers what it was asked
	closed := map[netip.AddrPort]*binding.Observation{} // where no connection comes about, whoever is asked for
	for i := range facts.Unwanted[:min(len(facts.Unwanted), unlistedMost)] {
		u := &facts.Unwanted[i]
		at, is := c.listensFor(u.Name, server)
		if !is {
			continue
		}
		g.Go(func() error {
			mu.Lock()
			seen := closed[at]
			mu.Unlock()
			if seen == nil {
				var err error
				if seen, err = s.look(ctx, at, u.Name); err != nil || ctx.Err() != nil {
					return nil //nolint:nilerr // there was no time left: it stays a note
				}
			}
			t := store.Target{Target: check.Target{Host: u.Name, Server: server.Name, Endpoint: at, Audiences: []string{e.Audiences[0].Name}}}
			mu.Lock()
			configured := c.configured(&t)
			switch seen.Outcome {
			case binding.Refused, binding.Filtered, binding.Unreachable:
				closed[at] = seen
			}
			mu.Unlock()
			u.Looked = at.String()
			u.Found = judge.Judge(t.Target, seen, time.Now().UTC(), check.Around{Configured: configured}).Findings
			return nil
		})
	}
	return g.Wait()
}

// listensFor is where visitors reach a host's site over TLS at one of the server's addresses.
func (v *configuration) listensFor(host string, server *estate.Server) (netip.AddrPort, bool) {
	for i := range v.reading.Listeners {
		l := &v.reading.Listeners[i]
		if !l.TLS || !l.Network() {
			continue
		}
		for _, a := range server.Addresses {
			at := netip.AddrPortFrom(a, l.Address.Port())
			if !l.Takes(at) {
				continue
			}
			if answer := v.answers.Answer(host, at); answer.Named && !answer.Unsure {
				return at, true
			}
		}
	}
	return netip.AddrPort{}, false
}

// unlistedAt are the hosts nobody has declared that are at a port which is declared for the
// server, of one that is to have all of its hosts watched.
func unlistedAt(facts *check.ServerFacts, r *kind.Reading, k *kind.Kind, server *estate.Server) (out []store.Unlisted) {
	if !server.AllHosts {
		return nil
	}
	c := newConfiguration(k, r)
	for i := range facts.Unwanted {
		if at, is := c.listensFor(facts.Unwanted[i].Name, server); is && server.AnswersAt(at.Port()) {
			out = append(out, store.Unlisted{Host: facts.Unwanted[i].Name, Port: at.Port()})
		}
	}
	return out
}

// takenMost bounds how many hosts of a server are taken in by themselves.
const takenMost = 10_000

// takeAll takes the hosts of a server in that nobody has declared, and has them looked at.
// What goes wrong is told by the log, and made up for by the next survey.
func (s *Surveying) takeAll(ctx context.Context, server *estate.Server, list []store.Unlisted) {
	if len(list) == 0 {
		return
	}
	taken, err := s.declaring.takeHosts(ctx, server.Name, list[:min(len(list), takenMost)])
	if err == nil && taken > 0 {
		s.cfg.Log.Info("hosts are watched that a server has sites for", "server", server.Name, "hosts", taken)
		_, err = s.startSurvey(ctx, store.Scope{Server: server.Name}, &store.Survey{BegunBy: itself}, 0)
	}
	if err != nil {
		s.cfg.Log.Warn("hosts that a server has sites for could not be taken in", "server", server.Name, "error", err)
	}
}
