package service

import (
	"context"
	"errors"
	"fmt"
	"time"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/install"
	"insegna.example/internal/issue"
	"insegna.example/internal/store"
)

// Outcomes of a link of a trail.
const (
	TrailOpen   = "open"
	TrailDone   = "done"
	TrailFailed = "failed"
)

// TrailEntry is one link of the chain from an order to what visitors see.
type TrailEntry struct {
	Step         string    // ordered, proved, issued, installed, reloaded, seen
	Outcome      string    // done, open or failed
	At           time.Time // zero while it is open
	Where, Words string    // it happened, and what was seen
	Order        int64     // 0 when it is none's
	Installation int64     // 0 when it is none's
}

// seenShown is how many places a trail tells where a certificate is seen.
const seenShown = 24

// Trail tells how a mandate's certificate in force came to where it is seen,
// link by link; none when no order has brought one.
func (s *Installing) Trail(ctx context.Context, m *MandateView) ([]TrailEntry, error) {
	o := m.InForce
	if o == nil {
		return nil, nil
	}
	list, err := s.ordered(ctx, o)
	if err != nil {
		return nil, err
	}
	for _, server := range m.Spec.Servers() {
		links, err := s.installed(ctx, m, o, server)
		if err != nil {
			return nil, err
		}
		list = append(list, links...)
	}
	sightings, err := s.store.SightingsOf(ctx, o.Leaf, seenShown)
	if err != nil {
		return nil, err
	}
	for _, g := range sightings {
		if !g.Current {
			continue
		}
		host := g.Host
		if host == "" {
			host = "without a name"
		}
		list = append(list, TrailEntry{Step: "seen", Outcome: TrailDone, At: g.FirstSeen,
			Where: fmt.Sprintf("%s at %s:%d, from %s", host, g.Address, g.Port, g.Vantage),
			Words: "shown by " + g.Server + ", last seen " + instant(g.LastSeen)})
	}
	if list[len(list)-1].Step != "seen" {
		list = append(list,
			TrailEntry{Step: "seen", Outcome: TrailOpen, Where: "nowhere", Words: "no survey has seen it yet"})
	}
	return list, nil
}

// ordered are the links from the order to the certificate.
func (s *Installing) ordered(ctx context.Context, o *store.Order) ([]TrailEntry, error) {
	steps, err := s.store.OrderSteps(ctx, o.ID)
	if err != nil {
		return nil, err
	}
	list := []TrailEntry{{Step: "ordered", Outcome: TrailDone, At: o.CreatedAt, Where: o.CA,
		Words: fmt.Sprintf("by %s; the CA has it as %s", o.By, o.URL), Order: o.ID}}
	places := "names the CA had seen proved before"
	for _, step := range steps {
		switch {
		case step.Step == "proof":
			places = step.Words
		case step.Step == "validation" && step.Outcome == string(issue.Done):
			list = append(list,
				TrailEntry{Step: "proved", Outcome: TrailDone, At: step.At, Where: o.CA, Words: places, Order: o.ID})
		case step.Step == "certificate":
			words := step.Words
			if chain, err := certs.ReadCertificates(o.Chain); err == nil && len(chain) > 0 {
				words += fmt.Sprintf("; serial %x", chain[0].SerialNumber)
			}
			list = append(list,
				TrailEntry{Step: "issued", Outcome: TrailDone, At: step.At, Where: o.CA, Words: words, Order: o.ID})
		}
	}
	return list, nil
}

// installed are the links of one server.
func (s *Installing) installed(ctx context.Context, m *MandateView, o *store.Order,
	server string) ([]TrailEntry, error) {
	v, err := s.store.LastInstallation(ctx, m.ID, o.ID, server)
	if errors.Is(err, store.ErrNotFound) {
		return []TrailEntry{{Step: "installed", Outcome: TrailOpen, Where: server, Words: "not installed there yet"}}, nil
	} else if err != nil {
		return nil, err
	}
	switch state := install.State(v.State); {
	case state == install.Returned || state == install.Stuck:
		return []TrailEntry{{Step: "installed", Outcome: TrailFailed, At: *v.FinishedAt, Where: server,
			Words: v.State + ": " + v.Reason, Installation: v.ID}}, nil
	case state != install.Done:
		return []TrailEntry{{Step: "installed", Outcome: TrailOpen, Where: server, Words: v.State, Installation: v.ID}}, nil
	}
	steps, err := s.store.InstallationSteps(ctx, v.ID)
	if err != nil {
		return nil, err
	}
	var list []TrailEntry
	for _, step := range steps {
		if name := map[string]string{"switch": "installed", "reload": "reloaded"}[step.Step]; name != "" {
			list = append(list,
				TrailEntry{Step: name, Outcome: TrailDone, At: step.At, Where: server, Words: step.Words, Installation: v.ID})
		}
	}
	return list, nil
}
