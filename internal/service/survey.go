package service

import (
	"context"
	"net/netip"
	"time"

	"github.com/jackc/pgx/v5"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/check"
	"insegna.example/internal/store"
	"insegna.example/internal/work"
)

// Sizes of a shard's steps: how many targets are in memory at once, and how
// many looks are stored together.
const (
	pageTargets = 500
	saveLooks   = 125
	saveAfter   = 400 * time.Millisecond
)

// sharedCode is the finding that needs all endpoints of a host.
const sharedCode = "differs-from-siblings"

// lookShard looks at every target of a shard that is not stored yet. It can be
// run again at any time.
func (s *Service) lookShard(ctx context.Context, sh work.Shard) error {
	v, err := s.store.Survey(ctx, sh.Survey)
	if err != nil || v.State == store.Finished {
		return err
	}
	judge, err := s.currentJudge(ctx)
	if err != nil {
		return err
	}
	scope := store.Scope{Host: sh.Host, Server: sh.Server}
	var after store.Target
	for {
		page, err := s.store.Pending(ctx, sh.Survey, scope, sh.Number, after, pageTargets)
		if err != nil {
			return err
		}
		if len(page) == 0 {
			break
		}
		if err := s.lookPage(ctx, v, sh.Number, judge, page); err != nil {
			return err
		}
		after = page[len(page)-1]
	}
	return s.store.FinishShard(ctx, sh.Survey, sh.Number, func(ctx context.Context, tx pgx.Tx) error {
		return s.jobs.AddFinish(ctx, tx, sh.Survey)
	})
}

// lookPage looks at targets side by side and stores what comes back in
// batches, as it comes.
func (s *Service) lookPage(ctx context.Context, v *store.Survey, shard int, judge *check.Judge, page []store.Target) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	results := make(chan store.Look, saveLooks)
	failed := make(chan error, len(page))
	byDefault := newDefaults(page)
	for _, t := range page {
		go func() {
			l, err := s.lookAt(ctx, judge, t, byDefault)
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

func (s *Service) lookAt(ctx context.Context, judge *check.Judge, t store.Target, byDefault *defaults) (store.Look, error) {
	seen, err := s.pool.Look(ctx, t.Endpoint, t.Host)
	if err != nil {
		return store.Look{}, err
	}
	now := time.Now().UTC()
	j := judge.Look(t.Target, seen, now, nil)
	if leaf := j.Leaf(); t.Host == "" {
		byDefault.set(t.EndpointID, leaf)
	} else if hasCode(j.Findings, "name-not-covered") {
		// Only then does it matter whether it is the endpoint's default.
		d, err := byDefault.get(ctx, t)
		if err != nil {
			return store.Look{}, err
		}
		j = judge.Look(t.Target, seen, now, d)
	}
	return store.Look{Target: t, Seen: seen, Judgement: j}, nil
}

func hasCode(list []check.Finding, code string) bool {
	for _, f := range list {
		if f.Code == code {
			return true
		}
	}
	return false
}

// saveAsTheyCome stores looks in batches until all have come.
func (s *Service) saveAsTheyCome(ctx context.Context, v *store.Survey, shard, expected int, results <-chan store.Look, failed <-chan error) error {
	var batch []store.Look
	flush := func() error {
		if len(batch) == 0 {
			return nil
		}
		err := s.store.SaveLooks(ctx, v, shard, batch, sharedCode)
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

// defaults hands the leaf seen without SNI from that look to the looks with a
// host name at the same endpoint.
type defaults struct{ byEndpoint map[int64]*pending }

type pending struct {
	done chan struct{}
	leaf *certs.Certificate
}

func newDefaults(page []store.Target) *defaults {
	d := &defaults{map[int64]*pending{}}
	for _, t := range page {
		if t.Host == "" {
			d.byEndpoint[t.EndpointID] = &pending{done: make(chan struct{})}
		}
	}
	return d
}

func (d *defaults) set(endpoint int64, leaf *certs.Certificate) {
	p := d.byEndpoint[endpoint]
	p.leaf = leaf
	close(p.done)
}

// get waits for the look without SNI of this page, or takes what was stored
// when that look was in an earlier one; nil when there is none.
func (d *defaults) get(ctx context.Context, t store.Target) (*certs.Certificate, error) {
	if p := d.byEndpoint[t.EndpointID]; p != nil {
		select {
		case <-p.done:
			return p.leaf, nil
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	if len(t.DefaultLeaf) != len(certs.Fingerprint{}) {
		return nil, nil
	}
	return &certs.Certificate{Fingerprint: certs.Fingerprint(t.DefaultLeaf)}, nil
}

// finishSurvey applies the rules that need several targets and ends the survey.
func (s *Service) finishSurvey(ctx context.Context, survey int64) error {
	var found []store.TargetFinding
	err := s.store.DifferingSiblings(ctx, func(host string, rows []store.SiblingRow) error {
		list := make([]check.Sibling, len(rows))
		for i, r := range rows {
			addr, err := netip.ParseAddr(r.Address)
			if err != nil {
				return err
			}
			list[i] = check.Sibling{Endpoint: netip.AddrPortFrom(addr, uint16(r.Port)), Server: r.Server, Leaf: certs.Fingerprint(r.Leaf), Begins: r.NotBefore, Ends: r.NotAfter}
		}
		for i, f := range check.Siblings(host, list) {
			found = append(found, store.TargetFinding{TargetID: rows[i].TargetID, Leaf: list[i].Leaf, Finding: f})
		}
		return nil
	})
	if err != nil {
		return err
	}
	return s.store.FinishSurvey(ctx, survey, sharedCode, found, time.Now().UTC())
}
