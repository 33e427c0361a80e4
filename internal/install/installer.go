package install

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"
)

// Bounds of an installation's steps.
const (
	patience  = 30 * time.Second
	steady    = 250 * time.Millisecond // that only the new one is seen
	between   = 10 * time.Millisecond  // looks; longer the longer the old one is seen
	longest   = time.Second
	mostTries = 40 // without a way to the server
	againIn   = 5 * time.Second
)

// Installer carries installations out on one server. Safe for concurrent use,
// though one server is for one installation at a time.
type Installer struct {
	Destination Destination // does the acts
	Records     Records     // store each state before its first act
	// SHA-256, "" for none, and what was seen in words
	Look     func(ctx context.Context, b *Binding) (leaf, seen string)
	Patience time.Duration // until the old certificate is gone; half a minute when 0
}

// Run takes an installation that was begun as far as it goes: to Done, Returned
// or Stuck, each stored and without an error; a *WaitError when the way to the
// server broke off; or the context's error.
func (m *Installer) Run(ctx context.Context, i *Installation) error {
	for !i.State.Ended() {
		err := m.step(ctx, i)
		if err == nil {
			i.Tries = 0
			continue
		}
		if err := m.failed(ctx, i, err); err != nil {
			return err
		}
	}
	return nil
}

// savedError is an error of the records, not of the installation.
type savedError struct{ error }

// enter stores the next state, with what to tell of the step that led there.
func (m *Installer) enter(ctx context.Context, i *Installation, next State, step string, words string) error {
	i.State = next
	if err := m.Records.Save(ctx, i, step, Well, words); err != nil {
		return savedError{err}
	}
	return nil
}

// step does the act of a state and enters the next one.
func (m *Installer) step(ctx context.Context, i *Installation) error {
	d := m.Destination
	switch i.State {
	case Staging:
		words, err := d.Stage(ctx, &i.Plan, &i.Material)
		if err != nil {
			return err
		}
		return m.enter(ctx, i, Testing, "stage", words)
	case Testing:
		return m.test(ctx, i)
	case Switching:
		words, err := d.Switch(ctx, &i.Plan)
		if err != nil {
			return err
		}
		return m.enter(ctx, i, Reloading, "switch", words)
	case Reloading:
		words, err := d.TakeIn(ctx, &i.Plan)
		if err != nil {
			return err
		}
		return m.enter(ctx, i, Looking, "reload", words)
	case Looking:
		return m.see(ctx, i)
	case Returning:
		return m.back(ctx, i)
	}
	return fmt.Errorf("an installation cannot be %q", i.State)
}

// failed decides what becomes of an installation after an error.
func (m *Installer) failed(ctx context.Context, i *Installation, err error) error {
	var saved savedError
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.As(err, &saved):
		return saved.error
	case lost(err) && i.Tries < mostTries:
		i.Tries++
		if err := m.Records.Save(ctx, i, "way", Doing, err.Error()); err != nil {
			return err
		}
		return &WaitError{time.Now().Add(againIn), err}
	}
	advice := "see the reason; what served goes on serving"
	var f *FaultError
	var changed *ChangedError
	switch {
	case errors.As(err, &f):
		advice = f.Advice
	case errors.As(err, &changed):
		advice = "look at a new preview, and install from that"
	}
	step := string(i.State)
	if i.State == Returning || lost(err) {
		i.State, i.Advice = Stuck, "look at the server by hand: "+i.Plan.Where+" and the files of the preview"
		if i.Reason == "" {
			i.Reason = err.Error()
		} else {
			i.Reason += "; and on the way back: " + err.Error()
		}
		return m.Records.Save(ctx, i, step, Wrong, err.Error())
	}
	i.State, i.Reason, i.Advice = Returning, err.Error(), advice
	return m.Records.Save(ctx, i, step, Wrong, err.Error())
}

// test has the server test what it is to take in; a rehearsal ends here, with
// what was staged taken away.
func (m *Installer) test(ctx context.Context, i *Installation) error {
	words, err := m.Destination.Try(ctx, &i.Plan)
	switch {
	case err != nil:
		return err
	case i.Rehearsal:
		if err := m.Destination.Clear(ctx, &i.Plan, false); err != nil {
			return err
		}
		return m.enter(ctx, i, Rehearsed, "test", words+"; nothing was changed")
	}
	i.Switched = true
	return m.enter(ctx, i, Switching, "test", words)
}

// until looks at every binding until all have been as wanted for a while: for a
// moment after a reload a server's old workers may take connections as well. It
// gives the bindings that were not when its time was over.
func (m *Installer) until(ctx context.Context, i *Installation,
	wanted func(d *Binding, leaf string) bool, words func(d *Binding, seen string) string) (wrong []string, err error) {
	limit := m.Patience
	if limit == 0 {
		limit = patience
	}
	began := time.Now()
	for good := time.Now(); ; {
		wrong = wrong[:0]
		for n := range i.Bindings {
			d := &i.Bindings[n]
			if leaf, seen := m.Look(ctx, d); !wanted(d, leaf) {
				wrong = append(wrong, words(d, seen))
			}
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		pause := between
		if len(wrong) > 0 {
			if good = time.Now(); good.Sub(began) > limit {
				return wrong, nil
			}
			pause = min(max(between, time.Since(began)/10), longest)
		} else if len(i.Bindings) == 0 || time.Since(good) > steady {
			return nil, nil
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// wrong says what is wrong with what a binding shows.
func (b *Binding) wrong(seen string) string {
	if b.Neighbour {
		return fmt.Sprintf("the neighbour %s no longer shows its certificate: it shows %s", b, seen)
	}
	if b.Header != "" {
		return fmt.Sprintf("%s does not send %s: %s: it sends %s", b, b.Header, strings.Join(b.Wants, " or "), seen)
	}
	if b.Plain != "" {
		return fmt.Sprintf("%s is not answered in plain http with %s: it is answered with %s", b, strings.Join(b.Wants, " or "), seen)
	}
	if len(b.Wants) > 0 {
		return fmt.Sprintf("%s does not show what lies on the disk: it shows %s", b, seen)
	}
	return fmt.Sprintf("the new certificate is not seen: %s shows %s", b, seen)
}

// see waits until visitors get the new certificate; then it is done, and what
// is too old is taken away.
func (m *Installer) see(ctx context.Context, i *Installation) error {
	wrong, err := m.until(ctx, i, func(b *Binding, leaf string) bool { return b.Well(leaf, i.Leaf) }, (*Binding).wrong)
	if err != nil {
		return err
	}
	if len(wrong) > 0 {
		return &FaultError{Words: strings.Join(wrong, "; "),
			Advice: "see which server answers at that address, and whether its reload takes the files in"}
	}
	if err := m.enter(ctx, i, Done, "look", i.seen()); err != nil {
		return err
	}
	// What stays too long is taken away by the next installation.
	if err := m.Destination.Clear(ctx, &i.Plan, true); err != nil && ctx.Err() == nil {
		if err := m.Records.Save(ctx, i, "clear", Wrong, err.Error()); err != nil {
			return savedError{err}
		}
	}
	return nil
}

// seen says where the new certificate was seen, and that nobody else got
// another one. Where nothing was looked at it says that.
func (i *Installation) seen() string {
	var seen []string
	kept := 0
	for n := range i.Bindings {
		switch b := &i.Bindings[n]; {
		case !b.Neighbour:
			seen = append(seen, b.String())
		case b.Before != "": // one that showed nothing is not judged
			kept++
		}
	}
	words := "the new certificate is seen: " + strings.Join(seen, ", ")
	switch {
	case i.Leaf == "" && len(seen) == 0:
		words = "nothing of it is to be seen from outside"
	case i.Leaf == "":
		words = "what lies on the disk is seen: " + strings.Join(seen, ", ")
	case len(seen) == 0:
		words = "taken in, and looked at nowhere: no address of the server is known at which it is served"
	}
	switch kept {
	case 0:
	case 1:
		words += "\none neighbour shows what it showed"
	default:
		words += fmt.Sprintf("\n%d neighbours show what they showed", kept)
	}
	return words
}

// back makes everything as it was: what lies there, and what the server has
// taken in. That the server cannot take the old in again is told, not fatal:
// what counts is what visitors get.
func (m *Installer) back(ctx context.Context, i *Installation) error {
	if !i.Switched {
		if err := m.Destination.Clear(ctx, &i.Plan, false); err != nil {
			return err
		}
		return m.enter(ctx, i, Returned, "back", "nothing had been changed; what was staged is taken away")
	}
	words, err := m.Destination.Back(ctx, &i.Plan)
	if err != nil {
		return err
	}
	if _, err := m.Destination.TakeIn(ctx, &i.Plan); err != nil {
		if ctx.Err() != nil || lost(err) {
			return err
		}
		words += "; the reload fails as well: " + err.Error()
	} else {
		words += ", and the server has taken them in"
	}
	wrong, err := m.until(ctx, i, func(b *Binding, leaf string) bool {
		return len(b.Wants) > 0 || leaf != i.Leaf || b.Before == i.Leaf || b.Neighbour
	}, func(b *Binding, seen string) string { return fmt.Sprintf("%s still shows %s", b, seen) })
	if err != nil {
		return err
	}
	if len(wrong) > 0 {
		return &FaultError{Words: "the new certificate is still seen: " + strings.Join(wrong, "; ")}
	}
	if err := m.Destination.Clear(ctx, &i.Plan, false); err != nil {
		return err
	}
	return m.enter(ctx, i, Returned, "back", words)
}
