package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"insegna.example/internal/core/estate"
	"insegna.example/internal/store"
	"insegna.example/internal/work"
)

// How the schedule is kept.
const (
	scheduleEach = 20 * time.Second    // between two looks at what is due
	firstAfter   = time.Minute         // an estate was applied that nobody has looked at
	staleEach    = 5 * time.Minute     // between two looks for what is stale
	hungAfter    = 24 * time.Hour      // a survey that is not at its end is waited for no more
	foldAfter    = 30 * 24 * time.Hour // the parts of a survey are put together
)

// Watching is what is looked at by itself, and when.
type Watching struct {
	Schedule *estate.Schedule // of the estate in force
	Parts    []WatchedPart    // what is looked at apart from the rest
	Quiet    bool             // it is a quiet hour: nothing begins
	Stale    int              // bindings with faces that are stale
}

// WatchedPart is what one survey of the schedule looks at.
type WatchedPart struct {
	Scope  store.Scope
	Every  time.Duration // 0 for never
	Last   time.Time     // a survey of it was begun, by anybody; zero for never
	Next   time.Time     // one will be, quiet hours counted; zero for never
	Missed int           // that were due before that and did not come
	Runs   bool          // one is under way
}

// scheduleJob begins the surveys that are due.
type scheduleJob struct{}

// Kind implements work.Args.
func (scheduleJob) Kind() string { return "surveys_due" }

// scheduled registers what the schedule does.
func (s *Surveying) scheduled() {
	work.Handle(s.jobs, work.Looks, 1, func(ctx context.Context, _ scheduleJob) error {
		if !s.schedule.turn.TryLock() {
			return nil // somebody does it
		}
		defer s.schedule.turn.Unlock()
		return s.beginScheduled(ctx)
	})
	s.jobs.Every(scheduleEach, scheduleJob{})
}

// Watching tells what is looked at by itself, and when.
func (s *Surveying) Watching(ctx context.Context) (*Watching, error) {
	e, _, err := s.declaring.estateInForce(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return nil, ErrNoEstate
	} else if err != nil {
		return nil, err
	}
	now := s.cfg.Clock()
	w := &Watching{Schedule: &e.Schedule, Quiet: e.Schedule.Quiet != nil && e.Schedule.Quiet.At(now)}
	if w.Parts, err = s.watched(ctx, e, now); err != nil {
		return nil, err
	}
	w.Stale, err = s.store.CountStale(ctx)
	return w, err
}

// watched works out what is looked at apart, and when next.
func (s *Surveying) watched(ctx context.Context, e *estate.Estate, now time.Time) ([]WatchedPart, error) {
	parts := partsOf(e)
	scopes := []string{store.Scope{}.String(), store.Scope{Common: true}.String()}
	for i := range parts {
		scopes = append(scopes, parts[i].Scope.String())
	}
	begun, err := s.store.LastBegun(ctx, scopes, now)
	if err != nil {
		return nil, err
	}
	running, err := s.store.RunningScopes(ctx, now.Add(-hungAfter))
	if err != nil {
		return nil, err
	}
	_, id, err := s.declaring.estateInForce(ctx)
	if err != nil {
		return nil, err
	}
	applied, err := s.store.DeclaredAt(ctx, id)
	if err != nil {
		return nil, err
	}
	for i := range parts {
		p := &parts[i]
		for _, scope := range []string{p.Scope.String(), store.Scope{}.String(), store.Scope{Common: true}.String()} {
			if scope == (store.Scope{Common: true}).String() && !p.Scope.Troubled { // what has its own schedule is not among them
				continue
			}
			if begun[scope].After(p.Last) {
				p.Last = begun[scope]
			}
			p.Runs = p.Runs || slices.Contains(running, scope)
		}
		p.Next, p.Missed = nextOf(&e.Schedule, p, applied, now)
	}
	return parts, nil
}

// partsOf are what an estate's schedule looks at apart.
func partsOf(e *estate.Estate) []WatchedPart {
	var own []WatchedPart
	for i := range e.Servers {
		if v := &e.Servers[i]; v.Every != nil {
			own = append(own, WatchedPart{Scope: store.Scope{Server: v.Name}, Every: *v.Every})
		}
	}
	apart := len(own)
	for i := range e.Groups {
		if g := &e.Groups[i]; g.Every != nil {
			own = append(own, WatchedPart{Scope: store.Scope{Group: g.Name}, Every: *g.Every})
		}
	}
	parts := []WatchedPart{{Scope: store.Scope{Common: len(own) > 0}, Every: e.Schedule.Every}}
	if apart == len(e.Servers) {
		parts = nil
	}
	return append(append(parts, own...), WatchedPart{Scope: store.Scope{Troubled: true}, Every: e.Schedule.Troubled})
}

// nextOf says when a part is due, behind quiet hours, and how many were missed.
func nextOf(s *estate.Schedule, p *WatchedPart, applied, now time.Time) (next time.Time, missed int) {
	switch {
	case p.Every == 0, p.Scope.Troubled && p.Last.IsZero(): // nothing is known to be in trouble
		return time.Time{}, 0
	case p.Last.IsZero():
		next = applied.Add(firstAfter)
	default:
		next, _ = estate.Next(p.Last, now, p.Every)
	}
	next = s.After(next.In(now.Location()))
	since := next // none was missed in quiet hours, nor before this was the schedule
	for _, t := range []time.Time{applied, s.Spoke(now)} {
		if t.After(since) {
			since = t
		}
	}
	if late := now.Sub(since); late > 0 && !p.Last.IsZero() {
		missed = int(late / p.Every)
	}
	if next.Before(now) {
		next = s.After(now)
	}
	return next, missed
}

// BeginScheduled begins the surveys that are due by the schedule, those that were missed once,
// and shows what was read too long ago as stale.
func (s *Surveying) BeginScheduled(ctx context.Context) error {
	s.schedule.turn.Lock()
	defer s.schedule.turn.Unlock()
	return s.beginScheduled(ctx)
}

func (s *Surveying) beginScheduled(ctx context.Context) error {
	e, _, err := s.declaring.estateInForce(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	} else if err != nil {
		return err
	}
	now := s.cfg.Clock()
	err = s.markStale(ctx, e, now)
	if e.Schedule.Quiet != nil && e.Schedule.Quiet.At(now) {
		return err
	}
	parts, partsErr := s.watched(ctx, e, now)
	whole := false // what is in trouble is looked at with the rest
	for i := range parts {
		p := &parts[i]
		if p.Next.IsZero() || p.Next.After(now) || p.Runs || p.Scope.Troubled && whole {
			continue
		}
		if p.Scope.Troubled {
			if is, troubledErr := s.store.Troubled(ctx); !is {
				err = errors.Join(err, troubledErr)
				continue
			}
		}
		const share = 4 // of the interval that a survey is spread over
		_, startErr := s.startSurvey(ctx, p.Scope, &store.Survey{BegunBy: itself, Missed: p.Missed}, p.Every/share)
		var nothing *ScopeError
		if !errors.As(startErr, &nothing) { // the server has no hosts
			err = errors.Join(err, startErr)
		}
		whole = whole || p.Scope == store.Scope{} || p.Scope.Common
	}
	return errors.Join(err, partsErr, s.glance(ctx, e, now))
}

// markStale shows what was read too long ago as that.
func (s *Surveying) markStale(ctx context.Context, e *estate.Estate, now time.Time) error {
	if now.Sub(s.schedule.stale) < staleEach {
		return nil
	}
	s.schedule.stale = now
	ended, err := s.store.EndAcceptances(ctx, now)
	if ended > 0 {
		s.today.forget()
		s.cfg.Log.Info("findings were accepted until now and are open again", "findings", ended)
	}
	if err != nil {
		return err
	}
	never := time.Duration(0)
	n, err := s.store.MarkStale(ctx, now, now.Add(-e.Schedule.Stale(nil)), now.Add(-e.Schedule.Stale(&never)))
	if n > 0 {
		s.today.forget()
		err = s.store.AddEvents(ctx, store.Event{At: now.UTC(), Kind: store.FacesStale,
			Note: fmt.Sprintf("%d bindings were looked at longer ago than the schedule allows", n)})
		s.cfg.Log.Warn("faces are stale: they were read longer ago than the schedule allows", "bindings", n)
	}
	return errors.Join(err, s.store.FoldSurveys(ctx, now.Add(-foldAfter)))
}
