package service

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"insegna.example/internal/acme/proof"
	"insegna.example/internal/core/binding"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/veil"
	"insegna.example/internal/issue"
	"insegna.example/internal/issue/acmesource"
	"insegna.example/internal/kind"
	"insegna.example/internal/store"
)

// proofStep finds what a server does with the file a CA asks for of a host, at an
// address or, when that is not given, at the first listener of the port. The
// configuration is read anew for it. nil when nothing listens there.
func (s *Ordering) proofStep(ctx context.Context, server, host string, at netip.AddrPort,
	port uint16) (*kind.Step, error) {
	c, err := s.reading.anew(ctx, server)
	if err != nil {
		return nil, err
	}
	for i := range c.reading.Listeners {
		l := &c.reading.Listeners[i]
		if l.TLS || !l.Network() || l.Protocol != kind.HTTP || l.Address.Port() != port || at.IsValid() && !l.Takes(at) {
			continue
		}
		asked := l.Address
		if at.IsValid() {
			asked = at
		}
		if step, known := c.answers.Plain(host, asked, proof.WellKnown+"insegna"); known {
			step.To = veil.Address(step.To)
			return &step, nil
		}
	}
	return nil, nil
}

// rootOf finds the folder a server gives a host's files out of, for the file a
// CA asks for.
func (s *Ordering) rootOf(ctx context.Context, server, host string, ca *estate.CA) (string, error) {
	port := ca.PlainPort()
	found, err := s.proofStep(ctx, server, host, netip.AddrPort{}, port)
	var unread *NotReadError
	if errors.As(err, &unread) {
		return "", &issue.Failure{Kind: issue.NotPublished, Words: err.Error(),
			Advice: "see the way to it: insegna server show " + server + "; or name the folder in the mandate"}
	} else if err != nil {
		return "", err
	}
	if found == nil {
		return "", &issue.Failure{Kind: acmesource.PortClosed,
			Words:  fmt.Sprintf("%s has no plain http listener at port %d", server, port),
			Advice: fmt.Sprintf("add a listener at port %d to the site of %s", port, host)}
	}
	step := *found
	if step.Handling != kind.Serves {
		x := s.explained(ctx, server, host, step)
		words := fmt.Sprintf("%s has no folder for %s: %s", server, host, x.Seen)
		return "", &routeError{words, x.Spot,
			&issue.Failure{Kind: x.Code, Words: words + " (" + x.Spot + ")", Advice: x.Remedy}}
	}
	folder := path.Join(step.To, proof.WellKnown)
	if step.Under != "" {
		rest, ok := strings.CutPrefix(proof.WellKnown, step.Under)
		if !ok {
			rest = ""
		}
		folder = path.Join(step.To, rest)
	}
	if !path.IsAbs(step.To) || strings.Contains(step.To, "$") {
		return "", &issue.Failure{Kind: issue.NotPublished,
			Words: fmt.Sprintf("the folder of %s on %s is written as %q (%s), which is not known from here", host, server,
				step.To, step.Place), Advice: "name it with folder in the mandate's proof"}
	}
	return folder, nil
}

// routeError is a failure with its place in a configuration.
type routeError struct {
	words string // without the place
	at    string // file and line
	*issue.Failure
}

// Unwrap gives the failure.
func (e *routeError) Unwrap() error { return e.Failure }

// Place implements acmesource.PlacedError.
func (e *routeError) Place() (words, at string) { return e.words, e.at }

// explained says what a step of a server's configuration does with the file a
// CA asks for, and how to mend it.
func (s *Ordering) explained(ctx context.Context, server, host string, step kind.Step) *acmesource.Explained {
	w := binding.Neutral
	if d, err := s.reading.readServerDetail(ctx, server); err == nil && d.known.kind.Words != nil {
		w = d.known.kind.Words
	}
	x := explainPath(w, step)
	if x.Remedy != "" {
		x.Remedy += fmt.Sprintf("; or have the server prepared: insegna https %s --server %s", host, server)
	}
	return x
}

// explainPath says in the words of a kind what a step does with the file a CA asks for.
func explainPath(w *binding.Words, step kind.Step) *acmesource.Explained {
	x := &acmesource.Explained{Spot: step.Place.String()}
	keep := w.FreePath(proof.WellKnown)
	switch {
	case step.Handling == kind.Passes:
		x.Code, x.Seen, x.Remedy = acmesource.PathPassed, "its configuration passes the path on to "+step.To, keep
	case step.Handling == kind.Redirects:
		x.Code, x.Seen, x.Remedy = acmesource.PathRedirected, "its configuration redirects the path to "+originOf(step.To),
			w.Unmove+", and "+keep
	case step.Handling == kind.Answered && step.Status == http.StatusForbidden:
		x.Code, x.Seen, x.Remedy = acmesource.PathDenied, "its configuration denies the path", keep
	case step.Handling == kind.Answered:
		x.Code, x.Seen, x.Remedy = acmesource.PathAstray,
			fmt.Sprintf("its configuration answers the path with status %d", step.Status), keep
	case step.Handling == kind.Depends:
		x.Code, x.Seen, x.Remedy = acmesource.PathAstray, "what it does depends on a condition", keep
	}
	if step.Hidden != nil {
		x.Seen += fmt.Sprintf("; the %s made for it (%s) is never asked", w.Rule, step.Hidden)
	}
	return x
}

// originOf cuts an address down to its host, for a sentence.
func originOf(to string) string {
	if u, err := url.Parse(to); err == nil && u.Host != "" {
		return u.Scheme + "://" + u.Host
	}
	return to
}

// Trial is one thing a pre-flight tried.
type Trial = acmesource.Trial

// CheckMandate tries what each CA of a mandate will try, for every name, and whether its
// key can be made where that is to stay.
func (s *Ordering) CheckMandate(ctx context.Context, name string) ([]acmesource.Trial, error) {
	m, err := s.Mandate(ctx, name)
	if err != nil {
		return nil, err
	}
	var out []acmesource.Trial
	if m.Spec.KeyOn != "" {
		t := acmesource.Trial{Name: m.Spec.Names[0], Step: "key", Spot: m.Spec.KeyOn,
			Seen: "a key was made on " + m.Spec.KeyOn + ", signed a request, and was destroyed"}
		var f *issue.Failure
		if err := s.canMakeKey(ctx, m.Spec); errors.As(err, &f) {
			t.Code, t.Seen, t.Remedy = f.Kind, f.Words, f.Advice
		} else if err != nil {
			return nil, err
		}
		out = append(out, t)
	}
	for _, name := range append([]string{m.Spec.CA}, m.Spec.Otherwise...) {
		list, err := s.checkAt(ctx, m, name)
		if err != nil {
			return nil, err
		}
		if len(m.Spec.Otherwise) > 0 {
			for i := range list {
				list[i].CA = name
			}
		}
		out = append(out, list...)
	}
	return out, nil
}

// checkAt tries what one CA of a mandate will try.
func (s *Ordering) checkAt(ctx context.Context, m *MandateView, name string) ([]acmesource.Trial, error) {
	e, ca, declaration, err := s.ca(ctx, name)
	if err != nil {
		return nil, err
	}
	if ca.By != estate.ByACME {
		return s.checkOwn(ctx, m, ca)
	}
	spec := *m.Spec
	spec.CA = name
	p := &acmesource.Preflight{Names: m.Spec.Names, Kind: acmesource.KindOf(m.Spec.Proof.By), Resolver: ca.ACME.Resolver,
		HTTPPort: ca.ACME.HTTPPort, TLSPort: ca.ACME.TLSPort, Token: func() string { _, text := newSecret(); return text }}
	p.Resolver = resolverOf(ca)
	p.Identities = []string{ca.Name}
	if c, err := s.acmeClient(ca, ca.ACME.Directory, declaration); err == nil {
		if d, err := c.Directory(ctx); err == nil {
			p.Identities = d.Meta.CAAIdentities
			p.Profile, p.Offers = m.Spec.Profile, slices.Sorted(maps.Keys(d.Meta.Profiles))
		}
	}
	if a, err := s.store.Account(ctx, ca.ACME.Directory); err == nil {
		p.AccountURL = a.URL
	}
	if p.Prover, err = s.prover(ctx, e, &spec); err != nil {
		return nil, err
	}
	switch u := p.Prover.(type) {
	case *proof.Updates:
		u.Patience = preflightPatience
	case *proof.Handed:
		u.Zones.Patience = preflightPatience
	}
	p.Probe = func(ctx context.Context, list []proof.Publication) (func(), error) {
		return s.probe(ctx, m.ID, p.Prover, list)
	}
	p.ServerAt = func(a netip.Addr) (string, bool) { return serverAt(e, &spec, a) }
	p.Explain = func(server, host string, at netip.AddrPort) *acmesource.Explained {
		step, err := s.proofStep(ctx, server, host, at, at.Port())
		if err != nil || step == nil {
			return nil
		}
		return s.explained(ctx, server, host, *step)
	}
	return p.Run(ctx)
}

// preflightPatience is how long a pre-flight waits for name servers.
const preflightPatience = 10 * time.Second

// resolverOf is what finds names for a CA's checks: its declared one, or the
// machine's own.
func resolverOf(ca *estate.CA) string {
	if at := ca.Resolver(); at != "" {
		return at
	}
	return systemResolver()
}

// systemResolver is the machine's own; a local one when none is configured.
func systemResolver() string {
	data, err := os.ReadFile("/etc/resolv.conf")
	if err == nil {
		for line := range strings.Lines(string(data)) {
			if f := strings.Fields(line); len(f) >= 2 && f[0] == "nameserver" {
				return net.JoinHostPort(f[1], "53")
			}
		}
	}
	return "127.0.0.1:53"
}

// serverAt says which server of the mandate's proof an address is.
func serverAt(e *estate.Estate, spec *estate.Mandate, a netip.Addr) (string, bool) {
	for i := range e.Servers {
		server := &e.Servers[i]
		for _, own := range server.Addresses {
			if own != a {
				continue
			}
			for _, name := range spec.Proof.Servers {
				if name == server.Name {
					return server.Name, true
				}
			}
			return server.Name, false
		}
	}
	return "", false
}

// probe keeps what a pre-flight puts up, so that it is taken down also after a
// death, and gives what takes it down.
func (s *Ordering) probe(ctx context.Context, mandate int64, prover proof.Prover,
	list []proof.Publication) (func(), error) {
	rows := make([]store.Probe, len(list))
	for i, p := range list {
		rows[i] = store.Probe{MandateID: mandate, Kind: p.Kind, Name: p.Name, Token: p.Token, Content: p.Content}
	}
	if err := s.store.AddProbes(ctx, rows); err != nil {
		return nil, err
	}
	return func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 30*time.Second)
		defer cancel()
		if err := prover.Withdraw(ctx, list); err != nil {
			var own *issue.Failure
			var refused *proof.RefusedError
			if !errors.As(err, &own) && !errors.As(err, &refused) { // those were never put up
				s.cfg.Log.Warn("what a pre-flight put up is left standing for now", "error", err)
				return
			}
		}
		for _, r := range rows {
			if err := s.store.DropProbe(ctx, r); err != nil {
				return
			}
		}
	}, nil
}

// sweepProbes takes down what a pre-flight of a dead process has left.
func (s *Ordering) sweepProbes(ctx context.Context) error {
	rows, err := s.store.Probes(ctx)
	if err != nil || len(rows) == 0 {
		return err
	}
	e, _, err := s.declaring.estateInForce(ctx)
	if err != nil {
		return err
	}
	var all []error
	for _, r := range rows {
		m, err := s.store.MandateByID(ctx, r.MandateID)
		if err != nil {
			return err
		}
		prover, err := s.prover(ctx, e, &m.Spec)
		if err == nil {
			err = prover.Withdraw(ctx, []proof.Publication{{Kind: r.Kind, Name: r.Name, Token: r.Token, Content: r.Content}})
		}
		if err == nil {
			err = s.store.DropProbe(ctx, r)
		}
		all = append(all, err)
	}
	return errors.Join(all...)
}
