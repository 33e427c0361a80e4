package service

import (
	"context"
	"errors"
	"time"

	"insegna.example/internal/store"
)

// Metrics are figures for a monitoring that is there already.
type Metrics struct {
	At          time.Time           // when they were put together
	Findings    [4]int              // open ones by severity, worst first
	Accepted    int                 // open ones that are let be
	Undelivered int                 // messages to owners that do not arrive
	Bindings    store.VerdictCounts // by verdict
	Stale       int                 // bindings that were looked at longer ago than the schedule allows
	Parts       []WatchedPart       // what is looked at by itself
	Ends        []store.BindingEnd  // of certificates served, those that end first
	EndsLeft    int                 // bindings that are not among these
	Mandates    []MandateMetric     // in the order of their names
	CAs         []CAMetric          // those with a budget
	Jobs        map[string]int      // by what they wait for
}

// MandateMetric is what is told of one mandate.
type MandateMetric struct {
	Name, CA string
	NotAfter *time.Time // of what is in force; nil for nothing
	Failed   bool       // the last order
}

// CAMetric is what is told of one CA.
type CAMetric struct {
	Name   string
	Budget Budget
}

// How many of them are told.
const (
	endsTold      = 5000
	mandatesInAll = 5000
)

// Metrics gathers figures. With very many records they may be a few seconds old.
func (s *Service) Metrics(ctx context.Context) (*Metrics, error) {
	return s.measured.get(ctx, func(ctx context.Context) (*Metrics, error) {
		m := &Metrics{At: time.Now().UTC()}
		w, err := s.Watching(ctx)
		if err != nil && !errors.Is(err, ErrNoEstate) {
			return nil, err
		}
		if w != nil {
			m.Stale, m.Parts = w.Stale, w.Parts
		}
		for _, step := range []func() error{
			func() (err error) { m.Findings, m.Accepted, err = s.store.CountFindings(ctx); return },
			func() (err error) { m.Bindings, err = s.store.CountBindings(ctx); return },
			func() (err error) { m.Ends, m.EndsLeft, err = s.store.BindingEnds(ctx, endsTold); return },
			func() error {
				list, err := s.store.Undelivered(ctx)
				for _, u := range list {
					m.Undelivered += u.Messages
				}
				return err
			},
			func() (err error) { m.Jobs, err = s.jobs.Waiting(ctx); return },
			func() error { return s.mandateMetrics(ctx, m) },
		} {
			if err := step(); err != nil {
				return nil, err
			}
		}
		return m, nil
	})
}

// mandateMetrics gathers what is told of mandates and their CAs.
func (s *Service) mandateMetrics(ctx context.Context, m *Metrics) error {
	list, err := s.Mandates(ctx, "", "", mandatesInAll)
	if err != nil {
		return err
	}
	met := map[string]bool{}
	for i := range list {
		v := &list[i]
		mandate := MandateMetric{Name: v.Name, CA: v.Spec.CA, Failed: v.Last != nil && v.Last.Failure != nil}
		if v.InForce != nil {
			mandate.NotAfter = v.InForce.NotAfter
		}
		m.Mandates = append(m.Mandates, mandate)
		if v.Budget.Certificates > 0 && !met[v.Spec.CA] {
			met[v.Spec.CA] = true
			m.CAs = append(m.CAs, CAMetric{v.Spec.CA, v.Budget})
		}
	}
	return nil
}
