package service

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/lifetime"
	"insegna.example/internal/store"
	"insegna.example/internal/work"
)

// Kinds of drills: what is gone.
var drillKinds = []string{"ca", "certificate", "key"}

// Bounds of drills.
const (
	drillAtOnce    = 50               // orders the plan reckons with at a time
	usualOrder     = 10 * time.Second // where none was measured at a CA yet
	mostWithin     = 90 * 24 * time.Hour
	mostUnmandated = 10_000 // hosts without a mandate that are told
	drillsShown    = 50
)

// Drill is a drill as it is kept.
type Drill = store.Drill

// DrillView is a drill with what was begun of it.
type DrillView struct {
	*store.Drill
	Orders map[string]store.DrillOrder // by mandate
}

// PlanDrill plans to replace everything that hangs on a CA, on a certificate, or on a key:
// in which order, from where, by when, and what is for people.
func (s *Ordering) PlanDrill(ctx context.Context, kind, what string, within time.Duration) (*DrillView, error) {
	if !slices.Contains(drillKinds, kind) {
		return nil, &MaterialError{fmt.Sprintf("%q is nothing a drill is about", kind), "give one of " + strings.Join(drillKinds, ", ")}
	}
	if within < time.Minute || within > mostWithin {
		return nil, &MaterialError{fmt.Sprintf("%s is no time to replace anything in", within), "give from a minute to 90 days, such as 24h"}
	}
	e, _, err := s.declaring.estateInForce(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return nil, ErrNoEstate
	} else if err != nil {
		return nil, err
	}
	g := &gathering{s: s, estate: e, kind: kind, issuers: map[string]bool{}}
	if err := g.about(ctx, what); err != nil {
		return nil, err
	}
	if err := s.store.InForceAll(ctx, g.mandate); err != nil {
		return nil, err
	}
	if err := g.unmandated(ctx); err != nil {
		return nil, err
	}
	giving, err := s.giving(ctx, e)
	if err != nil {
		return nil, err
	}
	d := &store.Drill{Kind: kind, What: g.what, Within: int64(within / time.Second), By: actor(ctx), At: time.Now().UTC(),
		Plan: *lifetime.PlanDrill(g.list, giving, drillAtOnce, within)}
	if len(d.Plan.Work) == 0 {
		return nil, &RefusedError{"nothing hangs on it: no certificate in force, and none that is served", "see what is in use: insegna certificate list"}
	}
	if err := s.store.AddDrill(ctx, d, &store.Act{Actor: actor(ctx), Action: "drill.plan", Subject: d.What,
		Detail: map[string]any{"kind": kind, "certificates": len(d.Plan.Work), "within": within.String()}}); err != nil {
		return nil, err
	}
	return &DrillView{Drill: d, Orders: map[string]store.DrillOrder{}}, nil
}

// gathering finds what hangs on something.
type gathering struct {
	s       *Ordering
	estate  *estate.Estate
	kind    string
	what    string              // as it is told
	gone    string              // CA that is not asked any more
	print   certs.Fingerprint   // of the certificate that is gone
	public  []byte              // SHA-256 of the key that is gone
	issuers map[string]bool     // whose certificates hang on it, as certificates name them
	list    []lifetime.Replaced // what hangs on it
}

// about finds what is meant.
func (g *gathering) about(ctx context.Context, what string) error {
	if g.kind == "ca" {
		if g.estate.CA(what) == nil {
			return &UnknownError{"CA", what, "ca list"}
		}
		g.what, g.gone = what, what
		return nil
	}
	rows, err := g.s.store.CertificatesWithPrefix(ctx, strings.ToLower(what))
	if err != nil {
		return err
	}
	var c *certs.Certificate
	switch {
	case len(what) < 8 || len(rows) == 0 && !g.inForce(ctx, what, &c):
		return &UnknownError{"certificate", what, "certificate list --kind all"}
	case len(rows) > 1:
		return &AmbiguousError{what}
	case len(rows) == 1:
		if c, err = certs.Parse(rows[0].Der); err != nil {
			return err
		}
	}
	g.what, g.print = c.Fingerprint.String(), c.Fingerprint
	if g.kind == "key" {
		sum := sha256.Sum256(c.RawSubjectPublicKeyInfo)
		g.public = sum[:]
	}
	return nil
}

// inForce finds a certificate that no server shows in the chains mandates have.
func (g *gathering) inForce(ctx context.Context, prefix string, into **certs.Certificate) bool {
	_ = g.s.store.InForceAll(ctx, func(h *store.HangingOn) error {
		list, err := certs.ReadCertificates(h.Chain)
		for i := range list {
			if err == nil && strings.HasPrefix(list[i].Fingerprint.String(), strings.ToLower(prefix)) {
				*into = list[i]
			}
		}
		return nil
	})
	return *into != nil
}

// mandate takes one mandate in where its certificate hangs on what is gone.
func (g *gathering) mandate(h *store.HangingOn) error {
	list, err := certs.ReadCertificates(h.Chain)
	if err != nil || len(list) == 0 {
		return nil //nolint:nilerr // what cannot be read is told elsewhere, and hangs on nothing known
	}
	hangs := false
	switch g.kind {
	case "ca":
		hangs = h.OrderCA == g.gone && h.Way == ""
	case "key":
		hangs = bytes.Equal(h.Public, g.public)
	default:
		hangs = slices.ContainsFunc(list, func(c *certs.Certificate) bool { return c.Fingerprint == g.print })
	}
	if !hangs {
		return nil
	}
	if g.kind != "key" {
		g.issuers[list[0].IssuerName()] = true
	}
	r := lifetime.Replaced{Mandate: h.Name, Bindings: h.Bindings, Ends: h.NotAfter.UTC()}
	for _, name := range append([]string{h.CA}, h.Spec.Otherwise...) {
		if name != g.gone {
			r.CAs = append(r.CAs, name)
		}
	}
	switch ca := g.estate.CA(h.CA); {
	case len(r.CAs) == 0:
		r.Person = "its mandate names no other CA (otherwise)"
	case ca != nil && ca.By == estate.ByHand:
		r.Person = "its CA is asked by hand"
	}
	g.list = append(g.list, r)
	return nil
}

// unmandated takes in what is served by others than mandates.
func (g *gathering) unmandated(ctx context.Context) error {
	if len(g.issuers) == 0 {
		return nil
	}
	rows, err := g.s.store.Unmandated(ctx, slices.Sorted(maps.Keys(g.issuers)), mostUnmandated)
	if err != nil || len(rows) == 0 {
		return err
	}
	list, err := g.s.store.Mandates(ctx, "", "", mostUnmandated)
	if err != nil {
		return err
	}
	for _, r := range rows {
		add := lifetime.Replaced{Mandate: r.Host, Bindings: r.Bindings, Ends: r.NotAfter.UTC(), Person: "no mandate renews the certificate of this host"}
		i := slices.IndexFunc(list, func(m store.Mandate) bool { return slices.Contains(m.Spec.Names, r.Host) })
		if i < 0 { // none is for this very name
			i = slices.IndexFunc(list, func(m store.Mandate) bool { return m.Spec.Lists(r.Host) })
		}
		if i >= 0 {
			add.Person = "the mandate " + list[i].Name + " has the name, and is not installed there"
		}
		g.list = append(g.list, add)
	}
	return nil
}

// giving gathers what each CA gives now.
func (s *Ordering) giving(ctx context.Context, e *estate.Estate) (map[string]lifetime.Giving, error) {
	times, err := s.store.OrderTimes(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string]lifetime.Giving{}
	for i := range e.CAs {
		ca := &e.CAs[i]
		b, err := s.budget(ctx, ca)
		if err != nil {
			return nil, err
		}
		g := lifetime.Giving{Left: b.Left(), Most: b.Certificates, Span: time.Duration(b.Days) * lifetime.Day, Each: times[ca.Name]}
		if g.Each == 0 {
			g.Each = usualOrder
		}
		out[ca.Name] = g
	}
	return out, nil
}

// Drill gives one drill.
func (s *Ordering) Drill(ctx context.Context, id int64) (*DrillView, error) {
	d, err := s.store.DrillByID(ctx, id)
	if err != nil {
		return nil, err
	}
	orders, err := s.store.DrillOrders(ctx, id)
	return &DrillView{d, orders}, err
}

// Drills lists the newest.
func (s *Ordering) Drills(ctx context.Context) ([]store.Drill, error) {
	return s.store.Drills(ctx, drillsShown)
}

// drillJob begins the orders of a drill.
type drillJob struct {
	Number int64 `json:"number"` // of the drill
}

// Kind implements work.Args.
func (drillJob) Kind() string { return "drill" }

// BeginDrill has what was planned done, or rehearsed at test directories. A plan that is
// older than a day is made anew first.
func (s *Ordering) BeginDrill(ctx context.Context, id int64, rehearsal bool) (*DrillView, error) {
	v, err := s.Drill(ctx, id)
	if err != nil {
		return nil, err
	}
	switch {
	case v.BegunAt != nil:
		return nil, &RefusedError{fmt.Sprintf("drill %d was begun before", id), fmt.Sprintf("see it: insegna drill show %d", id)}
	case v.Plan.Persons == len(v.Plan.Work):
		return nil, &RefusedError{fmt.Sprintf("nothing of drill %d goes by itself: all of it is for people", id),
			"see what each lacks: insegna drill show " + fmt.Sprint(id)}
	case time.Since(v.At) > 24*time.Hour:
		return nil, &RefusedError{fmt.Sprintf("drill %d was planned more than a day ago, and what hangs on it may be something else now", id),
			fmt.Sprintf("plan it anew: insegna drill plan %s %s", v.Kind, v.What)}
	}
	if err := s.store.BeginDrill(ctx, id, actor(ctx), rehearsal, &store.Act{Actor: actor(ctx), Action: "drill.begin", Subject: v.What,
		Detail: map[string]any{"drill": id, "rehearsal": rehearsal}}, time.Now().UTC()); errors.Is(err, store.ErrNotFound) {
		return nil, &RefusedError{fmt.Sprintf("drill %d was begun before", id), fmt.Sprintf("see it: insegna drill show %d", id)}
	} else if err != nil {
		return nil, err
	}
	if err := s.jobs.At(ctx, time.Now(), drillJob{id}); err != nil {
		return nil, err
	}
	return s.Drill(ctx, id)
}

// runDrill begins what was planned and is not begun yet, in the order of work.
func (s *Ordering) runDrill(ctx context.Context, id int64) error {
	v, err := s.Drill(ctx, id)
	if err != nil {
		return err
	}
	how := beginning{rehearsal: v.Rehearsal, otherKey: v.Kind == "key"}
	if v.Kind == "ca" {
		how.gone = v.What
	}
	for _, w := range v.Plan.Work {
		had, met := v.Orders[w.Mandate]
		if w.Person != "" || met && had.OrderID != nil {
			continue
		}
		o := &store.DrillOrder{DrillID: id, Mandate: w.Mandate}
		order, err := s.beginAs(ctx, w.Mandate, how)
		switch {
		case err == nil:
			o.OrderID = &order.ID
		case ctx.Err() != nil:
			return ctx.Err()
		default:
			o.LeftFor = err.Error()
			if !v.Rehearsal { // what a budget or a rest holds up now comes when that ends
				if err := s.laterFor(ctx, w.Mandate, id); err != nil {
					return err
				}
			}
		}
		if err := s.store.NoteDrillOrder(ctx, o); err != nil {
			return err
		}
	}
	return nil
}

// laterFor makes a mandate due that could not be ordered in a drill.
func (s *Ordering) laterFor(ctx context.Context, mandate string, drill int64) error {
	m, err := s.store.Mandate(ctx, mandate)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	} else if err != nil {
		return err
	}
	at := time.Now().Add(time.Minute).UTC()
	return s.store.SetNext(ctx, m.ID, store.Next{At: &at, Why: fmt.Sprintf("drill %d has it replaced", drill), Failures: m.Failures})
}

// registerDrills registers the job of drills.
func (s *Ordering) registerDrills() {
	work.Handle(s.jobs, work.Looks, workTries, func(ctx context.Context, j drillJob) error { return s.runDrill(ctx, j.Number) })
}
