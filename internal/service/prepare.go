package service

import (
	"context"
	"errors"
	"slices"
	"time"

	"insegna.example/internal/install"
	"insegna.example/internal/issue/acmesource"
	"insegna.example/internal/store"
)

// pathIlls are what a pre-flight finds that a change of the server's own
// configuration mends.
var pathIlls = []string{acmesource.PathRedirected, acmesource.PathDenied, acmesource.PathPassed, acmesource.PathAstray}

// afterReload is how often the pre-flight is tried after a server was prepared.
const afterReload = 10

// allWell says whether nothing stands in the way.
func allWell(trials []acmesource.Trial) bool {
	return !slices.ContainsFunc(trials, func(t acmesource.Trial) bool { return !t.Well() })
}

// PlanOf gives what the preparation of a run changes.
func (s *TakingToHTTPS) PlanOf(v *HTTPSRun) (*install.Plan, error) {
	plan, err := openPlan(s.ordering.safe, v.Server, v.Preparation.Plan)
	return &plan, err
}

// onlyPath says whether nothing stands in the way but what a change of the
// server's own configuration mends.
func onlyPath(trials []acmesource.Trial) bool {
	return !slices.ContainsFunc(trials, func(t acmesource.Trial) bool {
		return !t.Well() && !slices.Contains(pathIlls, t.Code)
	})
}

// offer works out what the server needs before the CA is asked; then the run
// waits for a person to agree. false when it cannot be prepared.
func (s *TakingToHTTPS) offer(ctx context.Context, v *HTTPSRun, m *MandateView) (bool, error) {
	d, wish, done, err := s.preparing(ctx, v, m)
	if err != nil {
		return false, err
	}
	defer done()
	planned, err := d.Prepare(ctx, wish)
	if err != nil {
		v.Advice = append(v.Advice, "it cannot be prepared from here: "+err.Error())
		return false, ctx.Err()
	}
	plan, err := sealPlan(s.ordering.safe, v.Server, &planned.Plan)
	if err != nil {
		return false, err
	}
	v.Preparation = &store.HTTPSPreparation{Plan: plan}
	if v.Preparation.Notes, err = s.installing.atNextReload(ctx, v.Server); err != nil {
		return false, err
	}
	for _, b := range planned.Bindings {
		b.Before, _ = s.installing.lookAtBinding(ctx, &b)
		v.Preparation.Bindings = append(v.Preparation.Bindings, store.InstallationBinding(b))
	}
	v.State = httpsPrepared
	return true, nil
}

// preparing opens the way to the server of a run.
func (s *TakingToHTTPS) preparing(ctx context.Context, v *HTTPSRun, m *MandateView) (d install.Destination,
	w *install.Wish, done func(), err error) {
	e, at, port, err := s.installing.installedOn(ctx, m, v.Server)
	if err != nil {
		return nil, nil, nil, err
	}
	over, err := open(ctx, at.Reach)
	if err != nil {
		return nil, nil, nil, &RefusedError{err.Error(), "see the way to it: insegna server show " + at.Name}
	}
	leaf, err := install.Throwaway(m.Spec.Names)
	if err != nil {
		return nil, nil, nil, err
	}
	w = s.installing.wishFor(e, m, at, port, leaf)
	w.Agreed, w.PlainPort = v.Also, e.CA(m.Spec.CA).PlainPort()
	return s.cfg.Kinds.Of(at.Kind).Installs(over, at), w, func() { _ = over.Close() }, nil
}

// prepare carries out what a person has agreed to, as an installation that lays
// nothing: tested on a copy first, looked at afterwards, and taken back when a
// neighbour shows something else. It stays when the rest fails. Then the
// pre-flight is tried anew.
func (s *TakingToHTTPS) prepare(ctx context.Context, v *HTTPSRun) error {
	m, err := s.ordering.Mandate(ctx, v.Mandate)
	if err != nil {
		return err
	}
	p := v.Preparation
	plan, err := s.PlanOf(v)
	if err != nil {
		return err
	}
	d, _, done, err := s.preparing(ctx, v, m)
	if err != nil {
		return err
	}
	defer done()
	for busy := true; busy; { // a server is for one change at a time
		if busy, err = s.store.Installing(ctx, v.Server); err != nil {
			return err
		}
		if busy {
			if err := pause(ctx); err != nil {
				return err
			}
		}
	}
	if p.State == "" {
		p.State = string(install.Staging)
	}
	i := &install.Installation{Plan: *plan, State: install.State(p.State), Switched: p.Switched, Tries: p.Tries,
		Reason: p.Reason, Advice: p.Advice}
	for _, b := range p.Bindings {
		i.Bindings = append(i.Bindings, install.Binding(b))
	}
	installer := &install.Installer{Destination: d, Records: preparationRecords{s, v}, Look: s.installing.lookAtBinding}
	err = installer.Run(ctx, i)
	for wait := (*install.WaitError)(nil); errors.As(err, &wait); err = installer.Run(ctx, i) {
		for time.Now().Before(wait.Until) {
			if err := pause(ctx); err != nil {
				return err
			}
		}
	}
	s.reading.forget(v.Server)
	switch {
	case err != nil:
		return err
	case i.State == install.Stuck:
		return &RefusedError{"the server could not be prepared: " + i.Reason, i.Advice}
	case i.State != install.Done:
		return &RefusedError{"the server could not be prepared, and is as it was: " + i.Reason, i.Advice}
	}
	v.State = httpsChecking
	return nil
}

// preparationRecords keep a preparation with its run.
type preparationRecords struct {
	s *TakingToHTTPS // stores it
	v *HTTPSRun      // it belongs to
}

// Save implements install.Records.
func (r preparationRecords) Save(ctx context.Context, i *install.Installation, step string, outcome install.Outcome,
	words string) error {
	p := r.v.Preparation
	p.State, p.Switched, p.Tries, p.Reason, p.Advice = string(i.State), i.Switched, i.Tries, i.Reason, i.Advice
	if step == "look" && outcome == install.Well {
		words = "the server has taken it in"
	}
	if step != "" {
		p.Steps = append(p.Steps, store.InstallationStep{Number: len(p.Steps) + 1, Step: step, Outcome: string(outcome),
			Words: words, At: time.Now().UTC()})
	}
	return r.s.store.SaveHTTPSRun(ctx, r.v)
}
