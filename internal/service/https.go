package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"insegna.example/internal/core/estate"
	"insegna.example/internal/issue"
	"insegna.example/internal/issue/acmesource"
	"insegna.example/internal/store"
	"insegna.example/internal/work"
)

// TakingToHTTPS is the room that takes a site from plain http to https: names,
// mandate, pre-flight, what the server needs for it, order, preview, installation,
// look. Each step is stored before the next begins; it waits for a person before a
// mandate is made and ordered, and each time before a server is changed.
type TakingToHTTPS struct {
	base
	surveying  *Surveying  // reads the server again at the end
	ordering   *Ordering   // drafts, tries and orders
	installing *Installing // previews and installs
	reading    *Reading    // reads servers anew
	jobs       *work.Jobs  // carry a run on
}

// HTTPSRun is a site on its way to https.
type HTTPSRun = store.HTTPSRun

// HTTPSPreparation is what a server needs before a CA is asked.
type HTTPSPreparation = store.HTTPSPreparation

// States of a run, in their order.
const (
	httpsDrafted    = "drafted"  // waits for a person
	httpsChecking   = "checking" // what the CA will try is tried
	httpsPrepared   = "prepared" // waits for a person
	httpsPreparing  = "preparing"
	httpsOrdering   = "ordering"
	httpsPreviewed  = "previewed" // waits for a person
	httpsInstalling = "installing"
	httpsDone       = "done"
	httpsFailed     = "failed"
)

// httpsNext says how a run that waits goes on.
var httpsNext = map[string]string{httpsDrafted: httpsChecking, httpsPrepared: httpsPreparing,
	httpsPreviewed: httpsInstalling}

// httpsJob takes a run on.
type httpsJob struct {
	Number int64 `json:"number"` // of the run
}

// Kind implements work.Args.
func (httpsJob) Kind() string { return "https" }

// register registers the job of runs.
func (s *TakingToHTTPS) register() {
	work.Handle(s.jobs, work.Orders, workTries,
		func(ctx context.Context, j httpsJob) error { return s.run(ctx, j.Number) })
}

// BeginHTTPS works out what taking a site to https needs, and changes nothing:
// its names, and the mandate for them, one that is there or a draft. mandate names
// one to use, "" lets it be found; also are others who may get something else by it.
func (s *TakingToHTTPS) BeginHTTPS(ctx context.Context, server, host, mandate string, also []string) (*HTTPSRun,
	error) {
	v := &HTTPSRun{Also: append([]string{}, also...), Server: server, Host: host, State: httpsDrafted, Mandate: mandate,
		Names:  []string{},
		Advice: []string{}, Trials: []store.HTTPSTrial{}, By: actor(ctx), CreatedAt: time.Now().UTC()}
	if mandate != "" {
		m, err := s.ordering.Mandate(ctx, mandate)
		if err != nil {
			return nil, err
		}
		v.Names = m.Spec.Names
	} else if err := s.draft(ctx, v); err != nil {
		return nil, err
	}
	return v, s.store.AddHTTPSRun(ctx, v,
		&store.Act{Actor: actor(ctx), Action: "https.begin", Subject: host,
			Detail: map[string]any{"server": server, "mandate": v.Mandate}})
}

// draft finds the mandate for the names of the site a host belongs to, or drafts
// one.
func (s *TakingToHTTPS) draft(ctx context.Context, v *HTTPSRun) error {
	d, err := s.ordering.DraftMandate(ctx, v.Server, v.Host)
	if err != nil {
		return err
	}
	v.Names, v.Advice = d.Names, append([]string{}, d.Advice...)
	there, err := s.partOf(ctx, v, d)
	if err != nil {
		return err
	}
	switch part := there; {
	case part == nil:
		v.Draft = d.Text
	case !slices.ContainsFunc(d.Names, func(n string) bool { return !slices.Contains(part.Spec.Names, n) }):
		v.Mandate = part.Name
	case part.Generation != nil:
		return &RefusedError{fmt.Sprintf("the mandate %s of the estate file (line %d) is for a part of the site's names: %s",
			part.Name, part.Line, strings.Join(part.Spec.Names, ", ")),
			"add to it there, and apply the file: " + strings.Join(missingIn(part.Spec, d.Names), ", ")}
	default:
		v.Mandate, v.Widens = part.Name, part.Spec.Names
		v.Names = append(slices.Clone(part.Spec.Names), missingIn(part.Spec, d.Names)...)
		v.Draft = widened(part.Spec, v.Names)
	}
	return nil
}

// partOf finds the mandate that is for the names of a draft, or else one that is for a
// part of them on the same server: a second one would take the site from it in turn.
func (s *TakingToHTTPS) partOf(ctx context.Context, v *HTTPSRun, d *Draft) (*MandateView, error) {
	const most = 1000
	var part *MandateView
	for _, name := range d.Names {
		queries := []string{name}
		if _, parent, ok := strings.Cut(name, "."); ok {
			queries = append(queries, "*."+parent)
		}
		for _, q := range queries {
			list, err := s.ordering.Mandates(ctx, q, "", most)
			if err != nil {
				return nil, err
			}
			for i := range list {
				m := &list[i]
				if !slices.Contains(m.Spec.Names, q) {
					continue
				}
				if len(missingIn(m.Spec, d.Names)) == 0 && q == name {
					return m, nil
				}
				if part == nil && slices.Contains(m.Spec.Servers(), v.Server) {
					part = m
				}
			}
		}
	}
	return part, nil
}

// missingIn are the names a mandate's certificate would not cover.
func missingIn(m *estate.Mandate, list []string) (out []string) {
	for _, n := range list {
		if !m.Lists(n) {
			out = append(out, n)
		}
	}
	return out
}

// widened is a mandate with more names, as in an estate file, to be looked at.
func widened(m *estate.Mandate, list []string) string {
	text := fmt.Sprintf("name: %s\nnames: [%s]\nca: %s\n", m.Name, strings.Join(quoteWild(list), ", "), m.CA)
	if m.Proof.By != "" {
		text += "proof: {by: " + m.Proof.By + "}\n"
	}
	return text
}

// HTTPS gives a run.
func (s *TakingToHTTPS) HTTPS(ctx context.Context, id int64) (*HTTPSRun, error) {
	v, err := s.store.HTTPSRun(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &UnknownError{"https run", strconv.FormatInt(id, 10), "https --help"}
	}
	return v, err
}

// HTTPSRuns lists runs, newest first: those of a lower number than before (0 from
// the newest).
func (s *TakingToHTTPS) HTTPSRuns(ctx context.Context, before int64, limit int) ([]HTTPSRun, error) {
	return s.store.HTTPSRuns(ctx, before, limit)
}

// ContinueHTTPS agrees to what a run waits for: the mandate and its order, or the
// installation that is previewed.
func (s *TakingToHTTPS) ContinueHTTPS(ctx context.Context, id int64) (*HTTPSRun, error) {
	v, err := s.HTTPS(ctx, id)
	if err != nil {
		return nil, err
	}
	if v.State == httpsDrafted && v.Draft != "" {
		if err := Permit(ctx, "addMandate"); err != nil {
			return nil, err
		}
	}
	act := &store.Act{Actor: actor(ctx), Action: "https.continue", Subject: v.Host,
		Detail: map[string]any{"server": v.Server, "from": v.State}}
	err = s.store.ContinueHTTPSRun(ctx, id, httpsNext, act, time.Now().UTC(),
		func(ctx context.Context, tx store.Tx, id int64) error {
			return work.Add(ctx, s.jobs, tx, httpsJob{id})
		})
	if err != nil {
		return nil, err
	}
	return s.HTTPS(ctx, id)
}

// asPerson lets a job act for the person who began a run.
func asPerson(ctx context.Context, name string) context.Context {
	return WithCaller(ctx, &Caller{Person: &store.Person{Name: name}, Role: Operator})
}

// run takes a run as far as it goes without a person.
func (s *TakingToHTTPS) run(ctx context.Context, id int64) error {
	v, err := s.store.HTTPSRun(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	} else if err != nil {
		return err
	}
	ctx = asPerson(ctx, v.By)
	steps := map[string]func(context.Context, *HTTPSRun) error{httpsChecking: s.check, httpsPreparing: s.prepare,
		httpsOrdering: s.order, httpsInstalling: s.install}
	for step := steps[v.State]; step != nil; step = steps[v.State] {
		if err := step(ctx, v); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if !s.failed(v, err) {
				return err
			}
		}
		if v.State == httpsFailed && v.Widens != nil {
			if err := s.narrow(ctx, v); err != nil {
				return err
			}
		}
		if err := s.store.SaveHTTPSRun(ctx, v); err != nil {
			return err
		}
	}
	return nil
}

// failed ends a run by what stands in its way; false when the fault is this
// service's own, so that it is tried again.
func (s *TakingToHTTPS) failed(v *HTTPSRun, err error) bool {
	var refused *RefusedError
	var unknown *UnknownError
	var own *issue.Failure
	switch {
	case errors.As(err, &refused):
		s.end(v, httpsFailed, refused.Reason, refused.Next)
	case errors.As(err, &own):
		s.end(v, httpsFailed, own.Words, own.Advice)
	case errors.As(err, &unknown):
		s.end(v, httpsFailed, unknown.Error(), "")
	default:
		var budget *BudgetError
		var rest *RestError
		if !errors.As(err, &budget) && !errors.As(err, &rest) {
			return false
		}
		s.end(v, httpsFailed, err.Error(), "wait until then, and begin again")
	}
	return true
}

// end ends a run.
func (s *TakingToHTTPS) end(v *HTTPSRun, state, reason, next string) {
	now := time.Now().UTC()
	v.State, v.Reason, v.Next, v.FinishedAt = state, reason, next, &now
}

// check makes the mandate, tries what is needed on the server, and then what the
// CA will try. Where something is in the way, a mandate this run has made is taken
// away again.
func (s *TakingToHTTPS) check(ctx context.Context, v *HTTPSRun) error {
	err := s.tried(ctx, v)
	if err != nil && (ctx.Err() != nil || !s.failed(v, err)) {
		return err
	}
	if v.State != httpsFailed || v.Draft == "" || v.Mandate == "" {
		return nil
	}
	if v.Widens != nil { // it was there before
		return nil
	}
	m, err := s.ordering.Mandate(ctx, v.Mandate)
	if err != nil || m.Last != nil || m.MadeBy != v.By { // somebody has begun to use it
		return err
	}
	if err := s.ordering.RemoveMandate(ctx, v.Mandate, false); err != nil {
		return err
	}
	v.Reason += "; the mandate " + v.Mandate + " is taken away again"
	v.Mandate = ""
	return nil
}

// narrow gives a mandate its former names back, unless a certificate for more of them
// came.
func (s *TakingToHTTPS) narrow(ctx context.Context, v *HTTPSRun) error {
	m, err := s.ordering.Mandate(ctx, v.Mandate)
	if err != nil || m.serves(time.Now()) || slices.Equal(m.Spec.Names, v.Widens) {
		return err
	}
	v.Reason += "; the mandate " + v.Mandate + " is for its former names again"
	return s.ordering.NameMandate(ctx, v.Mandate, v.Widens)
}

// tried does what check says, up to what is in the way.
func (s *TakingToHTTPS) tried(ctx context.Context, v *HTTPSRun) error {
	if v.Mandate == "" {
		m, _, err := s.ordering.AddMandate(ctx, []byte(v.Draft))
		if errors.Is(err, store.ErrMandateTaken) { // by this run, before a process died, or by somebody meanwhile
			if err = s.draft(ctx, v); err == nil && v.Mandate == "" {
				err = &RefusedError{"a mandate of that name is there by now, for other names",
					"begin again: insegna https " + v.Host}
			}
		} else if err == nil {
			v.Mandate = m.Name
		}
		if err != nil {
			return err
		}
		if err := s.store.SaveHTTPSRun(ctx, v); err != nil {
			return err
		}
	}
	m, err := s.ordering.Mandate(ctx, v.Mandate)
	if err != nil {
		return err
	}
	if v.Widens != nil && len(m.Spec.Names) < len(v.Names) {
		if err := s.ordering.NameMandate(ctx, v.Mandate, v.Names); err != nil {
			return err
		}
		if m, err = s.ordering.Mandate(ctx, v.Mandate); err != nil {
			return err
		}
	}
	if m.serves(time.Now()) {
		return s.preview(ctx, v)
	}
	err = s.installing.ready(ctx, m, v.Server, v.Also)
	var shut *preparableError
	if v.Preparation == nil && errors.As(err, &shut) {
		if offered, err := s.offer(ctx, v, m); offered || err != nil {
			return err
		}
	}
	if err != nil {
		return err
	}
	return s.preflight(ctx, v, m)
}

// preflight tries what the CA will try; what a change of the server mends is
// offered.
func (s *TakingToHTTPS) preflight(ctx context.Context, v *HTTPSRun, m *MandateView) error {
	check := func() ([]acmesource.Trial, error) { // at the CA it is ordered from
		list, err := s.ordering.CheckMandate(ctx, v.Mandate)
		return slices.DeleteFunc(list, func(t acmesource.Trial) bool { return t.CA != "" && t.CA != m.Spec.CA }), err
	}
	trials, err := check()
	for left := afterReload; err == nil && v.Preparation != nil && left > 0 && !allWell(trials); left-- {
		if err := pause(ctx); err != nil { // workers of before the reload may still answer
			return err
		}
		trials, err = check()
	}
	if err != nil {
		return err
	}
	v.Trials = v.Trials[:0]
	for _, t := range trials {
		v.Trials = append(v.Trials, store.HTTPSTrial(t))
	}
	if !allWell(trials) {
		if v.Preparation == nil && onlyPath(trials) {
			if offered, err := s.offer(ctx, v, m); offered || err != nil {
				return err
			}
		}
		s.end(v, httpsFailed, "something is in the way of "+v.Mandate+"; the CA was not asked",
			"do what the pre-flight says, and begin again")
		return nil
	}
	v.State = httpsOrdering
	return nil
}

// order orders the certificate and waits for it.
func (s *TakingToHTTPS) order(ctx context.Context, v *HTTPSRun) error {
	if v.OrderID == nil {
		o, err := s.ordering.BeginOrder(ctx, v.Mandate, false)
		if errors.Is(err, store.ErrOrderRunning) { // by this run, before a process died, or by itself
			m, merr := s.ordering.Mandate(ctx, v.Mandate)
			if merr != nil || m.Last == nil {
				return errors.Join(err, merr)
			}
			o, err = m.Last, nil
		}
		if err != nil {
			return err
		}
		v.OrderID = &o.ID
		if err := s.store.SaveHTTPSRun(ctx, v); err != nil {
			return err
		}
	}
	for {
		o, err := s.ordering.Order(ctx, *v.OrderID)
		switch {
		case err != nil:
			return err
		case o.FinishedAt != nil && o.Failure != nil:
			return o.Failure
		case o.FinishedAt != nil:
			return s.preview(ctx, v)
		}
		if err := pause(ctx); err != nil {
			return err
		}
	}
}

// preview works out what installing the certificate changes, and waits for a
// person.
func (s *TakingToHTTPS) preview(ctx context.Context, v *HTTPSRun) error {
	p, err := s.installing.PreviewInstallation(ctx, v.Mandate, v.Server, v.Also)
	var there *thereError
	switch {
	case err == nil:
		v.InstallationID, v.State = &p.ID, httpsPreviewed
	case errors.As(err, &there) && v.OrderID != nil: // where the mandate is installed that happens by itself
		s.end(v, httpsDone, "installed by itself once it had come", "")
		return nil
	}
	return err
}

// install has the preview carried out, and waits for its end.
func (s *TakingToHTTPS) install(ctx context.Context, v *HTTPSRun) error {
	if v.InstallationID == nil {
		return s.replaced(ctx, v, &RefusedError{"the preview was replaced by a newer one", "begin again: insegna https " + v.Host})
	}
	if _, err := s.installing.BeginInstallation(ctx, *v.InstallationID); errors.Is(err, store.ErrInstallationRunning) {
		return s.replaced(ctx, v, &RefusedError{err.Error(),
			"wait for its end, then: insegna installation begin " + strconv.FormatInt(*v.InstallationID, 10)})
	} else if err != nil && !errors.Is(err, store.ErrInstallationBegun) {
		return err
	}
	for {
		i, err := s.installing.Installation(ctx, *v.InstallationID)
		switch {
		case err != nil:
			return err
		case i.FinishedAt != nil && i.State == "done":
			unseen := ""
			if !slices.ContainsFunc(i.Bindings, func(b store.InstallationBinding) bool { return !b.Neighbour }) {
				unseen = "taken in, and looked at nowhere: no address is known at which it is served"
			}
			s.end(v, httpsDone, unseen, "")
			return nil
		case i.FinishedAt != nil:
			return &RefusedError{fmt.Sprintf("the installation is %s: %s", i.State, strings.TrimSpace(i.Reason)), i.Advice}
		}
		if err := pause(ctx); err != nil {
			return err
		}
	}
}

// replaced ends a run that another installation came before: it is done where that has
// installed what the run has ordered, and refused otherwise.
func (s *TakingToHTTPS) replaced(ctx context.Context, v *HTTPSRun, refused *RefusedError) error {
	for busy := v.OrderID != nil; busy; {
		var err error
		if busy, err = s.store.Installing(ctx, v.Server); err != nil {
			return err
		}
		if busy {
			if err := pause(ctx); err != nil {
				return err
			}
		}
	}
	var there *thereError
	if _, err := s.installing.PreviewInstallation(ctx, v.Mandate, v.Server, v.Also); errors.As(err, &there) && v.OrderID != nil {
		s.end(v, httpsDone, "installed by itself once it had come", "")
		return nil
	}
	return refused
}

// pause waits a moment before something is asked again.
func pause(ctx context.Context) error {
	select {
	case <-time.After(followEach):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
