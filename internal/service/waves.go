package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"insegna.example/internal/core/estate"
	"insegna.example/internal/install"
	"insegna.example/internal/store"
	"insegna.example/internal/work"
)

// waveWidth is how many servers go together once the first of their kind is well.
const waveWidth = 5

// waveEvery is how often a wave looks at its installations.
const waveEvery = time.Second

// WaveView is a wave with the installations of its servers.
type WaveView struct {
	*store.Wave
	Installations map[string]*InstallationView // by server; without steps, and in lists without the plan
}

// PreviewWave works out what installing a mandate's certificate on all its servers
// changes, one server after the other, and in which order they go. Nothing is
// changed.
func (s *Installing) PreviewWave(ctx context.Context, mandate string, also []string) (*WaveView, error) {
	m, err := s.ordering.Mandate(ctx, mandate)
	if err != nil {
		return nil, err
	}
	servers := m.Spec.Servers()
	switch {
	case m.InForce == nil:
		return nil, &RefusedError{"the mandate " + mandate + " has brought no certificate yet",
			"order it first: insegna mandate order " + mandate}
	case len(servers) == 0:
		return nil, &RefusedError{"the mandate " + mandate + " names no server", "name them under install in the estate file"}
	}
	var list []*estate.Server
	for _, name := range servers {
		_, at, _, err := s.installedOn(ctx, m, name)
		if err != nil {
			return nil, err
		}
		list = append(list, at)
	}
	w := &store.Wave{MandateID: m.ID, OrderID: m.InForce.ID, There: []string{}, State: store.WavePreviewed, By: actor(ctx),
		CreatedAt: time.Now().UTC(), Mandate: m.Mandate}
	view := &WaveView{w, map[string]*InstallationView{}}
	var ids []int64
	list = slices.DeleteFunc(list, func(at *estate.Server) bool {
		if err != nil {
			return false
		}
		var v *InstallationView
		var there *thereError
		if v, err = s.previewOf(ctx, m, m.InForce, at.Name, also); errors.As(err, &there) {
			w.There, err = append(w.There, at.Name), nil
			return true
		} else if err == nil {
			view.Installations[at.Name] = v
			ids = append(ids, v.ID)
		}
		return false
	})
	var refused *RefusedError
	switch {
	case errors.As(err, &refused):
		return nil, &RefusedError{"the wave is not possible: " + refused.Reason, refused.Next}
	case err != nil:
		return nil, err
	case len(ids) == 0:
		return nil, &thereError{&RefusedError{fmt.Sprintf("the certificate of %s is installed on %s already, and visitors get it",
			m.Name, strings.Join(w.There, ", ")), "order anew: insegna mandate order " + m.Name}}
	}
	w.Groups = s.waveGroups(list)
	if err := s.store.AddWave(ctx, w, ids); err != nil {
		return nil, err
	}
	return view, nil
}

// waveGroups puts servers in the order they go: those that stand furthest behind
// the visitor first, so that a balancer never shows what its nodes do not have; of
// equal ones the first alone, and then some together.
func (s *Installing) waveGroups(list []*estate.Server) [][]string {
	hops := func(at *estate.Server) int { return s.cfg.Kinds.Of(at.Kind).Hops }
	list = slices.Clone(list)
	slices.SortStableFunc(list, func(a, b *estate.Server) int { return cmp.Compare(hops(b), hops(a)) })
	var out [][]string
	for len(list) > 0 {
		equal := 1
		for equal < len(list) && hops(list[equal]) == hops(list[0]) {
			equal++
		}
		var names []string
		for _, at := range list[:equal] {
			names = append(names, at.Name)
		}
		out = append(out, names[:1])
		for rest := range slices.Chunk(names[1:], waveWidth) {
			out = append(out, rest)
		}
		list = list[equal:]
	}
	return out
}

// thereError is a refusal because all is as wanted.
type thereError struct{ *RefusedError }

// Unwrap gives the refusal.
func (e *thereError) Unwrap() error { return e.RefusedError }

// Wave gives one with its installations.
func (s *Installing) Wave(ctx context.Context, id int64) (*WaveView, error) {
	w, err := s.store.Wave(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &UnknownError{"wave", strconv.FormatInt(id, 10), "wave list"}
	} else if err != nil {
		return nil, err
	}
	list, err := s.waveViews(ctx, []store.Wave{*w}, true)
	if err != nil {
		return nil, err
	}
	for _, v := range list[0].Installations {
		if v.Steps, err = s.store.InstallationSteps(ctx, v.ID); err != nil {
			return nil, err
		}
	}
	return list[0], nil
}

// waveViews gives waves with their installations, and with what these change or
// without, as lists have them.
func (s *Installing) waveViews(ctx context.Context, list []store.Wave, plans bool) ([]*WaveView, error) {
	var ids []int64
	byID := map[int64]*WaveView{}
	out := make([]*WaveView, len(list))
	for i := range list {
		out[i] = &WaveView{&list[i], map[string]*InstallationView{}}
		ids, byID[list[i].ID] = append(ids, list[i].ID), out[i]
	}
	if len(ids) == 0 {
		return out, nil
	}
	rows, err := s.store.WaveInstallations(ctx, ids, plans)
	if err != nil {
		return nil, err
	}
	for i := range rows {
		v, err := s.viewInstallation(&rows[i])
		if err != nil {
			return nil, err
		}
		byID[*rows[i].WaveID].Installations[rows[i].Server] = v
	}
	return out, nil
}

// Waves lists them, newest first, of one mandate or ("") of all.
func (s *Installing) Waves(ctx context.Context, mandate string, before int64, limit int) ([]*WaveView, error) {
	var id int64
	if mandate != "" {
		m, err := s.store.Mandate(ctx, mandate)
		if errors.Is(err, store.ErrNotFound) {
			return nil, &UnknownError{"mandate", mandate, "mandate list"}
		} else if err != nil {
			return nil, err
		}
		id = m.ID
	}
	rows, err := s.store.Waves(ctx, id, before, limit)
	if err != nil {
		return nil, err
	}
	return s.waveViews(ctx, rows, false)
}

// waveAct is the journal's entry for an act on a wave.
func (s *Installing) waveAct(ctx context.Context, action string) func(*store.Wave) *store.Act {
	return func(w *store.Wave) *store.Act {
		return &store.Act{Actor: actor(ctx), Action: action, Subject: strconv.FormatInt(w.ID, 10),
			Detail: map[string]any{"order": w.OrderID, "servers": slices.Concat(w.Groups...)}}
	}
}

// BeginWave carries out what was previewed.
func (s *Installing) BeginWave(ctx context.Context, id int64) (*WaveView, error) {
	if err := s.store.BeginWave(ctx, id, actor(ctx), s.waveAct(ctx, "wave.begin"), time.Now().UTC(),
		s.enqueueWave); err != nil {
		return nil, err
	}
	return s.Wave(ctx, id)
}

// ReturnWave takes a wave back on every server it came to.
func (s *Installing) ReturnWave(ctx context.Context, id int64) (*WaveView, error) {
	if err := s.store.ReturnWave(ctx, id, s.waveAct(ctx, "wave.return"), time.Now().UTC(), s.enqueueWave); err != nil {
		return nil, err
	}
	return s.Wave(ctx, id)
}

// KeepWave leaves a wave that stopped as it is.
func (s *Installing) KeepWave(ctx context.Context, id int64) (*WaveView, error) {
	if err := s.store.KeepWave(ctx, id, s.waveAct(ctx, "wave.keep"), time.Now().UTC()); err != nil {
		return nil, err
	}
	return s.Wave(ctx, id)
}

// waveJob takes a wave on.
type waveJob struct {
	Number int64 `json:"number"` // of the wave
}

// Kind implements work.Args.
func (waveJob) Kind() string { return "wave" }

// enqueueWave queues a wave, committed with what begins it.
func (s *Installing) enqueueWave(ctx context.Context, tx store.Tx, number int64) error {
	return work.Add(ctx, s.jobs, tx, waveJob{number})
}

// runWave takes a wave as far as it goes for now. All it knows is stored, so that it
// may be begun again anywhere.
func (s *Installing) runWave(ctx context.Context, id int64) error {
	w, err := s.store.Wave(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	} else if err != nil {
		return err
	}
	rows, err := s.store.WaveInstallations(ctx, []int64{id}, false)
	if err != nil {
		return err
	}
	on := map[string]*store.Installation{}
	for i := range rows {
		on[rows[i].Server] = &rows[i]
	}
	var more bool
	switch w.State {
	case store.WaveRunning:
		more, err = s.onward(ctx, w, on)
	case store.WaveReturning:
		more, err = s.backward(ctx, w, on)
	default:
		return nil
	}
	if err == nil && more {
		return &work.Later{At: time.Now().Add(waveEvery)}
	}
	return err
}

// endWave stores how a wave ended, or that it waits for a person.
func (s *Installing) endWave(ctx context.Context, w *store.Wave, state store.WaveState, reason, advice string) error {
	w.State, w.Reason, w.Advice = state, reason, advice
	if now := time.Now().UTC(); state != store.WaveStopped {
		w.FinishedAt = &now
	}
	s.cfg.Log.Info("a wave has ended or waits", "wave", w.ID, "mandate", w.Mandate.Name, "state", state, "reason", reason)
	return s.store.SaveWave(ctx, w)
}

// onward begins the group that is next, once the one before is well; false when
// nothing more is to be waited for.
func (s *Installing) onward(ctx context.Context, w *store.Wave, on map[string]*store.Installation) (bool, error) {
	choice := fmt.Sprintf("see it: insegna wave show %d; then go back everywhere: insegna wave return %[1]d; or leave it as it is: "+
		"insegna wave keep %[1]d", w.ID)
	for _, group := range w.Groups {
		going := false
		for _, server := range group {
			v := on[server]
			switch {
			case v == nil:
				return false, s.endWave(ctx, w, store.WaveStopped, "what was previewed for "+server+" is gone", choice)
			case v.StartedAt == nil:
				act := s.actOf(ctx, "installation.begin")
				err := s.store.BeginInstallation(ctx, v.ID, w.By, string(install.Staging), act, time.Now().UTC(), s.enqueue)
				if err != nil && !errors.Is(err, store.ErrInstallationRunning) && !errors.Is(err, store.ErrInstallationBegun) {
					return false, err
				}
				going = true
			case v.FinishedAt == nil:
				going = true
			}
		}
		if going {
			return true, nil
		}
		for _, server := range group {
			if v := on[server]; install.State(v.State) != install.Done {
				return false, s.endWave(ctx, w, store.WaveStopped,
					fmt.Sprintf("%s did not take it: %s", server, cmp.Or(v.Reason, "it was taken back")), choice)
			}
		}
	}
	return false, s.endWave(ctx, w, store.WaveDone, "", "")
}

// backward takes back what a wave installed, its last group first.
func (s *Installing) backward(ctx context.Context, w *store.Wave, on map[string]*store.Installation) (bool, error) {
	for _, group := range slices.Backward(w.Groups) {
		going := false
		for _, server := range group {
			v := on[server]
			switch {
			case v == nil || v.StartedAt == nil:
			case v.FinishedAt == nil:
				going = true
			case install.State(v.State) == install.Done:
				act := s.actOf(ctx, "installation.return")
				err := s.store.ReturnInstallation(ctx, v.ID, string(install.Returning), "taken back with its wave by "+w.By, act,
					time.Now().UTC(), s.enqueue)
				if errors.Is(err, store.ErrNotReturnable) {
					return false, s.endWave(ctx, w, store.WaveStopped, server+" was installed on anew since",
						"look at it by hand: insegna installation list --mandate "+w.Mandate.Name)
				} else if err != nil && !errors.Is(err, store.ErrInstallationRunning) {
					return false, err
				}
				going = true
			case install.State(v.State) == install.Stuck:
				return false, s.endWave(ctx, w, store.WaveStopped, server+" is neither new nor old: "+v.Reason, v.Advice)
			}
		}
		if going {
			return true, nil
		}
	}
	return false, s.endWave(ctx, w, store.WaveReturned, w.Reason, "")
}
