package service

import (
	"context"
	"errors"
	"time"

	"insegna.example/internal/core/check"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/install"
	"insegna.example/internal/store"
)

// mendAgain is how long a finding that was not mended by itself is left before it is
// tried again.
const mendAgain = time.Hour

// mendDue mends by itself what the estate's rules let mend itself, in their hours. The
// first mending by itself that comes back stops that, until a person mends something or
// the estate is applied anew.
func (s *Mending) mendDue(ctx context.Context) error {
	e, declared, err := s.declaring.estateInForce(ctx)
	if errors.Is(err, store.ErrNotFound) || err == nil && len(e.Mending) == 0 {
		return nil
	} else if err != nil {
		return err
	}
	now := time.Now()
	var codes []check.Code
	for i := range e.Mending {
		if e.Mending[i].At(now) {
			for _, code := range e.Mending[i].Codes {
				codes = append(codes, check.Code(code))
			}
		}
	}
	if len(codes) == 0 {
		return nil
	}
	if stopped, err := s.stopped(ctx, declared); stopped || err != nil {
		return err
	}
	list, _, err := s.store.Findings(ctx, store.FindingFilter{Codes: codes, State: "open"},
		store.Page{Sort: "severity", Limit: mendAtOnce})
	if err != nil {
		return err
	}
	return s.mendThese(ctx, s.untried(e, declared, list, now))
}

// stopped says whether the last mending was one by itself that came back, under the
// estate in force.
func (s *Mending) stopped(ctx context.Context, declared int64) (bool, error) {
	last, err := s.store.LastMending(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	} else if err != nil {
		return false, err
	}
	state := install.State(last.State)
	if last.By != itself || state != install.Returned && state != install.Stuck || last.AskedBack {
		return false, nil
	}
	at, err := s.store.DeclaredAt(ctx, declared)
	return last.StartedAt.After(at), err
}

// untried are the findings that a rule is for now, and that were not tried of late under
// the estate in force.
func (s *Mending) untried(e *estate.Estate, declared int64, list []store.Finding, now time.Time) (out []int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.under != declared {
		s.under = declared
		clear(s.tried)
	}
	for id, at := range s.tried {
		if now.Sub(at) > mendAgain {
			delete(s.tried, id)
		}
	}
	for i := range list {
		f := &list[i]
		_, met := s.tried[f.ID]
		for n := range e.Mending {
			if m := &e.Mending[n]; !met && m.At(now) && m.Mends(string(f.Code), f.Server, f.Belongs()) {
				met = true
				s.tried[f.ID] = now
				out = append(out, f.ID)
			}
		}
	}
	return out
}

// mendThese begins what mends findings on their servers, and nothing that is ordered or
// taken from elsewhere.
func (s *Mending) mendThese(ctx context.Context, findings []int64) error {
	if len(findings) == 0 {
		return nil
	}
	plan, err := s.PreviewMending(ctx, &MendRequest{Findings: findings})
	if err != nil {
		return err
	}
	var all []error
	for _, v := range plan.Installations {
		if len(v.Mends) == 0 || v.Source != nil {
			continue
		}
		_, err := s.installing.BeginInstallation(ctx, v.ID)
		if !errors.Is(err, store.ErrInstallationRunning) { // the next hour finds it
			all = append(all, err)
		}
	}
	for _, l := range plan.Left {
		s.cfg.Log.Info("not mended by itself", "finding", l.Number, "code", l.Code, "server", l.Server, "reason", l.Reason)
	}
	return errors.Join(all...)
}
