package service

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"time"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/fault"
	"insegna.example/internal/core/lifetime"
	"insegna.example/internal/look"
	"insegna.example/internal/store"
	"insegna.example/internal/work"
)

// Sizes of a shard's steps: how many targets are in memory at once, and how
// many looks are stored together.
const (
	pageTargets = 500
	saveLooks   = 250
	saveAfter   = 700 * time.Millisecond
)

// Surveying is the room of surveys and of what they have brought: what is looked
// at when, and the records of it.
type Surveying struct {
	base
	declaring *Declaring // knows what is to be judged how
	reading   *Reading   // brings the configured face
	pool      *look.Pool // of looks
	jobs      *work.Jobs // for shards, readings and the end

	schedule struct { // what was done for it last, by this process
		turn           sync.Mutex // held while it is kept
		stale, glanced time.Time
	}
	today *costly[*Today]
	ends  *marked[[]store.DayCount] // of certificates, by day
}

// surveyTries is how often a job of a survey is begun again after failures.
const surveyTries = 25

// shardJob looks at a part of a survey.
type shardJob struct {
	Survey int64 `json:"survey"` // it belongs to
	Number int   `json:"number"` // of the shard
	store.Scope
}

// Kind implements work.Args.
func (shardJob) Kind() string { return "survey_shard" }

// readJob reads a server's configuration for a survey.
type readJob struct {
	Survey int64  `json:"survey"` // it belongs to
	Name   string `json:"name"`   // of the server
	store.Scope
	Within time.Duration `json:"within,omitempty"` // the survey is spread over this while
}

// Kind implements work.Args.
func (readJob) Kind() string { return "survey_read" }

// finishJob ends a survey whose shards are done.
type finishJob struct {
	Survey int64 `json:"survey"` // that has ended
	store.Scope
}

// Kind implements work.Args.
func (finishJob) Kind() string { return "survey_finish" }

// register registers the jobs of surveys.
func (s *Surveying) register() {
	work.Handle(s.jobs, work.Readings, surveyTries, s.readServer)
	work.Handle(s.jobs, work.Looks, surveyTries, s.lookShard)
	work.Handle(s.jobs, work.Looks, surveyTries,
		func(ctx context.Context, j finishJob) error { return s.finishSurvey(ctx, j) })
	s.scheduled()
}

// readServer reads one server's configuration for a survey and stores what
// came of it. It can be run again at any time.
func (s *Surveying) readServer(ctx context.Context, r readJob) error {
	e, _, err := s.declaring.estateInForce(ctx)
	if err != nil {
		return err
	}
	server := e.Server(r.Name)
	if server == nil || server.Reach == nil {
		server = &estate.Server{Name: r.Name} // another file was applied meanwhile
	}
	end, err := s.reading.readingOf(ctx, e, server)
	if err != nil {
		return err
	}
	err = s.store.FinishRead(ctx, r.Survey, r.Name, end, time.Now().UTC(),
		s.enqueue(r.Scope, r.Within))
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err == nil && server.AllHosts {
		s.takeAll(ctx, server, end.Unlisted)
	}
	return err
}

// The most that is left between two readings, and between two shards, of a survey that is
// spread.
const (
	readsApart  = 5 * time.Second
	shardsApart = time.Minute
)

// enqueue queues what a survey does next: first readings, then shards. One that nobody waits
// for is spread over a while, a half of it for each.
func (s *Surveying) enqueue(scope store.Scope, within time.Duration) store.Enqueue {
	return func(ctx context.Context, tx store.Tx, survey int64, names []string, shards int) error {
		if len(names) > 0 {
			jobs := make([]readJob, len(names))
			for i, name := range names {
				jobs[i] = readJob{survey, name, scope, within}
			}
			return work.AddSpread(ctx, s.jobs, tx, min(readsApart, within/2/time.Duration(len(names))), jobs...)
		}
		jobs := make([]shardJob, shards)
		for i := range jobs {
			jobs[i] = shardJob{survey, i, scope}
		}
		return work.AddSpread(ctx, s.jobs, tx, min(shardsApart, within/2/time.Duration(max(shards, 1))), jobs...)
	}
}

// lookShard looks at every target of a shard that is not stored yet. It can be
// run again at any time.
func (s *Surveying) lookShard(ctx context.Context, sh shardJob) error {
	v, err := s.store.Survey(ctx, sh.Survey)
	if err != nil || v.State == store.Finished {
		return err
	}
	judge, err := s.declaring.currentJudge(ctx)
	if err != nil {
		return err
	}
	var after store.Target
	for {
		page, err := s.store.Pending(ctx, sh.Survey, sh.Scope, sh.Number, after, pageTargets)
		if err != nil {
			return err
		}
		if len(page) == 0 {
			break
		}
		if err := s.lookPage(ctx, v, sh.Number, judge, page); err != nil {
			return err
		}
		if after = page[len(page)-1]; len(page) < pageTargets {
			break // all of it was in this page
		}
	}
	return s.store.FinishShard(ctx, sh.Survey, sh.Number, func(ctx context.Context, tx store.Tx) error {
		return work.Add(ctx, s.jobs, tx, finishJob{sh.Survey, sh.Scope})
	})
}

// lookPage looks at targets side by side and stores what comes back in
// batches, as it comes.
func (s *Surveying) lookPage(ctx context.Context, v *store.Survey, shard int, judge *check.Judge,
	page []store.Target) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	results := make(chan store.Look, saveLooks)
	failed := make(chan error, len(page))
	byDefault := newDefaults(page)
	configured, err := s.reading.viewsFor(ctx, page)
	if err != nil {
		return err
	}
	orphans, err := s.orphans(ctx)
	if err != nil {
		return err
	}
	for _, t := range page {
		go func() {
			l, err := s.lookAt(ctx, judge, t, byDefault, configured, orphans)
			if err != nil {
				failed <- err
				return
			}
			select {
			case results <- l:
			case <-ctx.Done():
			}
		}()
	}
	return s.saveAsTheyCome(ctx, v, shard, len(page), results, failed)
}

// orphans are the certificates of mandates that were removed.
func (s *Surveying) orphans(ctx context.Context) (map[certs.Fingerprint]check.Orphan, error) {
	list, err := s.store.Orphans(ctx, time.Now().UTC())
	out := make(map[certs.Fingerprint]check.Orphan, len(list))
	for _, o := range list {
		var f certs.Fingerprint
		copy(f[:], o.Leaf)
		out[f] = check.Orphan{Mandate: o.Mandate, Removed: o.RemovedAt}
	}
	return out, err
}

// lookAt looks at one target and judges it, with what is configured for it and
// what its endpoint shows by default.
func (s *Surveying) lookAt(ctx context.Context, judge *check.Judge, t store.Target, byDefault *defaults,
	configured *views, orphans map[certs.Fingerprint]check.Orphan) (store.Look, error) {
	seen, err := s.pool.Look(ctx, t.Endpoint, t.Host)
	if err != nil {
		return store.Look{}, err
	}
	now := time.Now().UTC()
	c, err := configured.of(ctx, &t)
	if err == nil {
		err = configured.plainOf(ctx, &t, c)
	}
	if err != nil {
		return store.Look{}, err
	}
	j := judge.Judge(t.Target, seen, now, check.Around{Configured: c, Orphans: orphans})
	if leaf := j.Leaf(); t.Host == "" {
		byDefault.set(t.EndpointID, leaf)
	} else if j.Has(check.NameNotCovered) {
		// Only then does it matter whether it is the endpoint's default.
		around, err := byDefault.around(ctx, t)
		if err != nil {
			return store.Look{}, err
		}
		around.Configured, around.Orphans = c, orphans
		j = judge.Judge(t.Target, seen, now, around)
	}
	return store.Look{Target: t, Seen: seen, Judgement: j}, nil
}

// saveAsTheyCome stores looks in batches until all have come.
func (s *Surveying) saveAsTheyCome(ctx context.Context, v *store.Survey, shard, expected int,
	results <-chan store.Look, failed <-chan error) error {
	var batch []store.Look
	flush := func() error {
		if len(batch) == 0 {
			return nil
		}
		err := s.store.SaveLooks(ctx, v, shard, batch)
		batch = batch[:0]
		return err
	}
	tick := time.NewTicker(saveAfter)
	defer tick.Stop()
	for got := 0; got < expected; {
		full := false
		select {
		case l := <-results:
			batch = append(batch, l)
			got++
			full = len(batch) >= saveLooks
		case err := <-failed:
			return err
		case <-ctx.Done():
			return ctx.Err()
		case <-tick.C:
			full = true
		}
		if full {
			if err := flush(); err != nil {
				return err
			}
		}
	}
	return flush()
}

// defaults tells the looks with a host name what is known around them: the
// leaf seen without SNI at the same endpoint, and the other hosts there.
type defaults struct{ byEndpoint map[int64]*vicinity }

// vicinity is what is known of an endpoint beside one look at it.
type vicinity struct {
	bare  bool              // a look without SNI is in this page
	done  chan struct{}     // closed when it was made
	leaf  certs.Fingerprint // served by default; zero for none
	hosts []string          // of the page at this endpoint
}

// newDefaults prepares the endpoints of a page; a look that needs the default
// waits for the one that brings it.
func newDefaults(page []store.Target) *defaults {
	d := &defaults{map[int64]*vicinity{}}
	for _, t := range page {
		v := d.byEndpoint[t.EndpointID]
		if v == nil {
			v = &vicinity{done: make(chan struct{})}
			d.byEndpoint[t.EndpointID] = v
		}
		if t.Host == "" {
			v.bare = true
		} else {
			v.hosts = append(v.hosts, t.Host)
		}
	}
	return d
}

// set tells what an endpoint shows a visitor who names no host.
func (d *defaults) set(endpoint int64, leaf *certs.Certificate) {
	v := d.byEndpoint[endpoint]
	if leaf != nil {
		v.leaf = leaf.Fingerprint
	}
	close(v.done)
}

// around waits for the look without SNI of this page, or takes what was stored
// when that look was in an earlier one.
func (d *defaults) around(ctx context.Context, t store.Target) (check.Around, error) {
	v := d.byEndpoint[t.EndpointID]
	if v.bare {
		select {
		case <-v.done:
			return check.Around{Default: v.leaf, Hosts: v.hosts}, nil
		case <-ctx.Done():
			return check.Around{}, ctx.Err()
		}
	}
	around := check.Around{Hosts: v.hosts}
	copy(around.Default[:], t.DefaultLeaf)
	return around, nil
}

// followed reads how certificates followed each other: the one shown now, and those it
// replaced. nil is none that can be read.
func followed(list []store.Shown) (current *certs.Certificate, history []lifetime.Replacement, err error) {
	var before *certs.Certificate
	for i := range list {
		c, err := certs.Parse(list[i].Der)
		if err != nil {
			return nil, nil, err
		}
		if before != nil {
			history = append(history, lifetime.Replacement{NotBefore: before.NotBefore, NotAfter: before.NotAfter, At: list[i].FirstSeen,
				Issuer: c.IssuerName(), SameIssuer: bytes.Equal(c.RawIssuer, before.RawIssuer),
				NewKey: !bytes.Equal(c.RawSubjectPublicKeyInfo, before.RawSubjectPublicKeyInfo)})
		}
		before = c
		if list[i].Current {
			current = c
		}
	}
	if current != before { // an older one is shown again
		return nil, nil, nil
	}
	return current, history, nil
}

// finishSurvey applies the rules that need several targets and ends the survey.
func (s *Surveying) finishSurvey(ctx context.Context, j finishJob) error {
	survey, scope := j.Survey, j.Scope
	now := time.Now().UTC()
	expected, err := s.store.WaveShown(ctx)
	if err != nil {
		return err
	}
	found := func(add func(store.TargetFinding) error) error {
		return s.store.DifferingSiblings(ctx, survey, scope, func(host string, rows []store.SiblingRow) error {
			list, err := s.siblings(ctx, host, rows)
			if err != nil {
				return err
			}
			if inWave(expected[host], list) {
				return nil
			}
			for i, f := range check.Siblings(host, list, now) {
				if err := add(store.TargetFinding{TargetID: rows[i].TargetID,
					Found: check.Found{Finding: f, Leaf: list[i].Leaf}}); err != nil {
					return err
				}
			}
			return nil
		})
	}
	if _, err := s.ends.renew(ctx); err != nil { // who asks once it has ended sees what it saw
		return err
	}
	late := func(add func(store.TargetFinding) error) error {
		return s.store.Rhythms(ctx, survey, scope, func(list []store.Shown) error {
			current, history, err := followed(list)
			if err != nil || current == nil {
				return err
			}
			if f := check.Replaced(list[0].Host, current, history, now); f != nil {
				return add(store.TargetFinding{TargetID: list[0].TargetID, Found: *f})
			}
			return nil
		})
	}
	err = s.store.FinishSurvey(ctx, survey, scope, found, late, now)
	s.today.forget() // as that
	s.reading.listed.forget()
	if err != nil {
		return err
	}
	if v, err := s.store.Survey(ctx, survey); err == nil {
		s.cfg.Log.Info("a survey has ended", "survey", v.ID, "scope", v.Scope, "looked", v.Done, "connected", v.Connected,
			"changed", v.Changed, "opened", v.Opened, "closed", v.Closed, "servers", v.Servers,
			"took", now.Sub(v.CreatedAt).Round(time.Millisecond))
	}
	return nil
}

// inWave says whether all a host shows is what a wave that is under way lets it show.
func inWave(expected []string, list []check.Sibling) bool {
	return len(expected) > 0 && !slices.ContainsFunc(list, func(o check.Sibling) bool {
		return !slices.Contains(expected, o.Leaf.String())
	})
}

// siblings gathers the endpoints of one host, for the rule that compares them.
func (s *Surveying) siblings(ctx context.Context, host string, rows []store.SiblingRow) ([]check.Sibling, error) {
	list := make([]check.Sibling, len(rows))
	targets := make([]store.Target, len(rows))
	for i, r := range rows {
		addr, err := netip.ParseAddr(r.Address)
		if err != nil {
			return nil, err
		}
		list[i] = check.Sibling{Endpoint: netip.AddrPortFrom(addr, uint16(r.Port)), Server: r.Server,
			Leaf: certs.Fingerprint(r.Leaf), Begins: r.NotBefore, Ends: r.NotAfter}
		targets[i] = store.Target{ServerID: r.ServerID,
			Target: check.Target{Host: host, Server: r.Server, Endpoint: list[i].Endpoint}}
	}
	configured, err := s.reading.viewsFor(ctx, targets)
	if err != nil {
		return nil, err
	}
	for i := range list {
		if list[i].Configured, err = configured.of(ctx, &targets[i]); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// StartSurvey begins a survey of the estate or a part of it.
func (s *Surveying) StartSurvey(ctx context.Context, scope store.Scope) (*store.Survey, error) {
	if _, err := s.store.DeclaredID(ctx); errors.Is(err, store.ErrNotFound) {
		return nil, ErrNoEstate
	} else if err != nil {
		return nil, err
	}
	return s.startSurvey(ctx, scope, &store.Survey{BegunBy: actor(ctx)}, 0)
}

// startSurvey begins one, of which is given who begins it, spread over a while.
func (s *Surveying) startSurvey(ctx context.Context, scope store.Scope, v *store.Survey, within time.Duration) (*store.Survey, error) {
	v.Vantage, v.CreatedAt = s.cfg.Vantage, s.cfg.Clock().UTC()
	v, err := s.store.StartSurvey(ctx, scope, v, s.enqueue(scope, within))
	if errors.Is(err, store.ErrNothing) {
		return nil, &ScopeError{scope}
	}
	if err == nil {
		s.cfg.Log.Info("a survey has begun", "survey", v.ID, "scope", v.Scope, "by", v.BegunBy)
	}
	return v, err
}

// ScopeError says that a survey's scope holds nothing to look at.
type ScopeError struct{ Scope store.Scope }

// Error says what a survey may be limited to.
func (e *ScopeError) Error() string {
	if e.Scope == (store.Scope{}) {
		return "the estate holds no endpoint with a host; add hosts to the estate file"
	}
	return fmt.Sprintf("the estate has no %s; expected a host or server of the estate file, see: insegna estate show",
		e.Scope)
}

// Told implements fault.Error.
func (e *ScopeError) Told() fault.Told {
	return fault.Told{Class: fault.NotTaken, Title: "Nothing to look at", Next: "name a host or server of the estate"}
}
