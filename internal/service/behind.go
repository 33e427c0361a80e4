package service

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"insegna.example/internal/core/binding"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/names"
	"insegna.example/internal/core/place"
	"insegna.example/internal/core/veil"
	"insegna.example/internal/install"
	"insegna.example/internal/kind"
	"insegna.example/internal/look"
	"insegna.example/internal/reach"
	"insegna.example/internal/store"
)

// Limits of the looks at what stands behind one server.
const (
	hopLooks   = 200 // different ones
	hopNames   = 50  // names of a site for which a hop is looked at
	hopsAtOnce = 8
	hopTime    = 40 * time.Second // all of them
)

// hopAsk is one look at a server behind: what is asked there.
type hopAsk struct {
	address, sends string
	tls, proxied   bool
}

// lookBehind looks at every server behind a configuration from the machine it is on,
// as the front would, and judges what is shown there with the front's own trust.
// hosts are those the estate wants there; material are the certificates met.
func lookBehind(ctx context.Context, over reach.Connection, r *kind.Reading,
	hosts []string) (list []binding.Hop, material []*certs.Certificate) {
	ctx, cancel := context.WithTimeout(ctx, hopTime)
	defer cancel()
	var asks []hopAsk
	list, wanted := hopsOf(r, hosts)
	asked := map[hopAsk]bool{}
	for i := range list {
		if list[i].Unknown == "" && list[i].Fault == "" && !asked[wanted[i]] {
			asked[wanted[i]] = true
			asks = append(asks, wanted[i])
		}
	}
	var mu sync.Mutex
	seen := map[hopAsk]*binding.Observation{}
	unseen := map[hopAsk]string{}
	var g errgroup.Group
	g.SetLimit(hopsAtOnce)
	for i, a := range asks {
		if i >= hopLooks {
			unseen[a] = fmt.Sprintf("only %d servers behind one are looked at", hopLooks)
			continue
		}
		g.Go(func() error {
			o, err := a.look(ctx, over)
			mu.Lock()
			defer mu.Unlock()
			if seen[a] = o; err != nil {
				unseen[a] = err.Error()
			}
			return nil
		})
	}
	_ = g.Wait()
	met := map[certs.Fingerprint]bool{}
	for i := range list {
		h := &list[i]
		if h.Unknown != "" || h.Fault != "" {
			continue
		}
		if h.Unknown = unseen[wanted[i]]; h.Unknown != "" {
			continue
		}
		o := seen[wanted[i]]
		h.Outcome, h.Detail, h.Looked = o.Outcome, o.Detail, o.At
		if o.Outcome != binding.Connected {
			h.Fault, h.Why = binding.HopDown, hopDown(h, o)
			continue
		}
		b := trustBehind(r, h.Trust)
		b.At = o.At
		for _, der := range o.Served {
			c, err := certs.Parse(der)
			if err != nil {
				break
			}
			b.Chain = append(b.Chain, c)
			if !met[c.Fingerprint] {
				met[c.Fingerprint] = true
				material = append(material, c)
			}
		}
		check.JudgeHop(h, &b)
	}
	return list, material
}

// hopDown says in words why a look at a server behind brought nothing.
func hopDown(h *binding.Hop, o *binding.Observation) string {
	switch o.Outcome {
	case binding.Refused:
		return "nothing listens there"
	case binding.PlainHTTP:
		return "it speaks http where TLS is expected"
	}
	what := "no connection comes about"
	if h.TLS {
		what = "no handshake comes about"
	}
	return what + ": " + o.Detail
}

// hopsOf gives every way from a site in force to a server behind it, and what is to
// be asked there.
func hopsOf(r *kind.Reading, hosts []string) (list []binding.Hop, asks []hopAsk) {
	met := map[string]bool{}
	for i := range r.Sites {
		for _, h := range r.Sites[i].Hops {
			base := binding.Hop{At: h.Place, Group: h.Group, TLS: h.TLS, Checked: h.TLS && h.Checked, Dates: h.TLS && h.Dates,
				Sends: h.Sends, Name: h.Name, Trust: h.Trust, Depth: h.Depth, Fails: h.Fails, Unknown: h.Unknown}
			addresses := h.Servers
			if len(addresses) == 0 {
				addresses = []string{veil.Address(h.To)} // it is shown, and not looked at
			}
			if h.Fails != "" {
				base.Fault, base.Why = binding.HopNoWay, h.Fails
			}
			for _, address := range addresses {
				for _, host := range visitors(&r.Sites[i], &h, hosts) {
					one := base
					one.Address, one.For = address, host
					if one.Sends == kind.Visitors {
						one.Sends = host
					}
					if one.Name == kind.Visitors {
						one.Name = host
					}
					key := fmt.Sprint(one.At, one.Group, one.Address, one.For, one.Sends, one.Name)
					if met[key] {
						continue
					}
					met[key] = true
					list = append(list, one)
					asks = append(asks, hopAsk{address, one.Sends, one.TLS, h.Proxied})
				}
			}
		}
	}
	return list, asks
}

// visitors are the names for which a hop is looked at: one without a name where it
// does not matter who asks. Of a wildcard these are the hosts the estate wants there.
func visitors(site *kind.Site, h *kind.Hop, hosts []string) (out []string) {
	if h.Sends != kind.Visitors && h.Name != kind.Visitors && len(h.Hosts) == 0 {
		return []string{""}
	}
	add := func(host string) {
		if len(out) < hopNames && !slices.Contains(out, host) {
			out = append(out, host)
		}
	}
	for _, host := range h.Hosts {
		if host, err := names.Host(host); err == nil {
			add(host)
		}
	}
	for i := range site.Names {
		n := &site.Names[i]
		if len(h.Hosts) > 0 && !slices.Contains(h.Hosts, n.Text) {
			continue
		}
		if host, err := names.Host(n.Host()); err == nil {
			add(host)
			continue
		}
		for _, host := range hosts {
			if covers(n, host) {
				add(host)
			}
		}
	}
	return out
}

// covers says whether a name of a site is a host's, or a wildcard it matches.
func covers(n *kind.Name, host string) bool {
	_, parent, _ := strings.Cut(host, ".")
	return slices.ContainsFunc(n.Covers, func(c string) bool {
		return strings.EqualFold(c, host) || strings.EqualFold(c, "*."+parent)
	})
}

// look looks at one server behind, from the machine that is reached. The error says
// that it cannot be looked at from there.
func (a hopAsk) look(ctx context.Context, over reach.Connection) (*binding.Observation, error) {
	network, address := "tcp", a.address
	if socket, is := strings.CutPrefix(address, "unix:"); is {
		network, address = "unix", socket
	}
	var barred error
	dial := func(ctx context.Context) (net.Conn, error) {
		conn, err := over.Dial(ctx, network, address)
		var forward *reach.ForwardError
		if errors.As(err, &forward) || kind.Lost(err) || errors.Is(err, fs.ErrPermission) {
			barred = err
		}
		if err == nil && a.proxied {
			if _, err = conn.Write([]byte("PROXY UNKNOWN\r\n")); err != nil {
				_ = conn.Close()
			}
		}
		return conn, err
	}
	l := look.New()
	var o *binding.Observation
	if a.tls {
		o = l.LookOver(ctx, dial, a.sends)
	} else {
		o = l.Reached(ctx, dial)
	}
	if barred == nil && ctx.Err() != nil {
		barred = fmt.Errorf("there was no time left to look at it: all servers behind have %s", hopTime)
	}
	return o, barred
}

// trustBehind gives a front's list of CAs.
func trustBehind(r *kind.Reading, file string) binding.Behind {
	t := r.Trusted[file]
	if t == nil {
		return binding.Behind{}
	}
	b := binding.Behind{Trusted: t.Certificates}
	if t.Fault != "" {
		b.NoTrust = fmt.Sprintf("the CAs it is verified with, %s, cannot be read: %s", file, t.Fault)
	}
	return b
}

// packHops makes looks at servers behind fit for the store.
func packHops(list []binding.Hop) ([]byte, error) {
	if len(list) == 0 {
		return nil, nil
	}
	return json.Marshal(list)
}

// storedHops gives what the last looks at the servers behind one brought.
func (s *Reading) storedHops(ctx context.Context, server int64) (list []binding.Hop, err error) {
	packed, err := s.store.Behind(ctx, []int64{server})
	if err != nil || packed[server] == nil {
		return nil, err
	}
	return list, json.Unmarshal(packed[server], &list)
}

// leadsTo says whether a site passes requests on by a hop.
func leadsTo(s *kind.Site, h *binding.Hop) bool {
	return slices.ContainsFunc(s.Hops, func(o kind.Hop) bool { return o.Place == h.At }) &&
		(h.For == "" || slices.ContainsFunc(s.Names, func(n kind.Name) bool { return covers(&n, h.For) }))
}

// hops gives what stands behind the site that answers for a target, with the servers
// of the estate these are.
func (v *views) hops(ctx context.Context, known *configuration, t *store.Target) ([]binding.Hop, error) {
	behind := v.behind[t.ServerID]
	if len(behind) == 0 || known.answers == nil {
		return nil, nil
	}
	a := known.answers.Answer(t.Host, t.Endpoint)
	if a.Unsure || a.Site == nil {
		return nil, nil
	}
	var out []binding.Hop
	met := map[place.Place]bool{}
	for i := range a.Site.Hops {
		line := a.Site.Hops[i].Place
		if met[line] {
			continue
		}
		met[line] = true
		for _, h := range behind[line] {
			if h.For != "" && h.For != t.Host {
				continue
			}
			if h.Fault != "" || h.Unseen != "" {
				if err := v.origins.find(ctx, &h); err != nil {
					return nil, err
				}
			}
			out = append(out, h)
		}
	}
	return out, nil
}

// origins tells which server of the estate an address behind another one is.
type origins struct {
	service *Reading
	mu      sync.Mutex
	known   map[string]origin // by address and name asked for
}

// origin is a server with the site that answers at it.
type origin struct {
	server string
	site   place.Place
}

// find names the server a hop leads to, and the place of its site.
func (o *origins) find(ctx context.Context, h *binding.Hop) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	key := h.Address + " " + h.Sends
	had, met := o.known[key]
	if !met {
		at, err := netip.ParseAddrPort(h.Address)
		if err != nil {
			return nil // a name, or a socket
		}
		if had, err = o.look(ctx, at, h.Sends); err != nil {
			return err
		}
		if o.known == nil {
			o.known = map[string]origin{}
		}
		o.known[key] = had
	}
	h.Origin, h.Site = had.server, had.site
	return nil
}

// look asks the readings of the servers that have an address.
func (o *origins) look(ctx context.Context, at netip.AddrPort, name string) (out origin, err error) {
	s := o.service
	owners, err := s.store.ServersAt(ctx, at.Addr())
	if err != nil || len(owners) == 0 {
		return out, err
	}
	ids := make([]int64, len(owners))
	for i, w := range owners {
		ids[i] = w.ID
	}
	heads, err := s.store.ReadingHeads(ctx, ids)
	if err != nil {
		return out, err
	}
	for _, w := range owners {
		if out.server == "" {
			out.server = w.Name
		}
		head := heads[w.ID]
		if head.ReadingID == 0 {
			continue
		}
		known, err := s.configurationOf(ctx, head.ReadingID)
		if err != nil {
			return out, err
		}
		if known.answers == nil {
			continue
		}
		if a := known.answers.Answer(name, at); a.Listener != nil && a.Site != nil {
			return origin{w.Name, a.Site.Place}, nil
		}
	}
	return out, nil
}

// behindNow reads the server of the estate that has an endpoint, and looks at what
// stands behind the site that answers there for a host. The server is "" when none
// is reached.
func behindNow(ctx context.Context, kinds kind.Registry, e *estate.Estate, host string,
	at netip.AddrPort) (server string, list []binding.Hop, err error) {
	declared := reachedAt(e, at)
	if declared == nil {
		return "", nil, nil
	}
	k := kinds.Of(declared.Kind)
	if err := k.Needs(kind.Read); err != nil {
		return declared.Name, nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, readLimit)
	defer cancel()
	over, err := open(ctx, declared.Reach)
	if err != nil {
		return declared.Name, nil, err
	}
	defer func() { _ = over.Close() }()
	r, err := k.Reader.Read(over.FS(), declared.Reach.Configuration)
	if err != nil {
		return declared.Name, nil, err
	}
	a := k.Reader.Answers(r).Answer(host, at)
	if a.Unsure || a.Site == nil {
		return declared.Name, nil, nil
	}
	alone := *r
	alone.Sites = []kind.Site{*a.Site}
	found, _ := lookBehind(ctx, over, &alone, []string{host})
	for _, h := range found {
		if h.For != "" && h.For != host {
			continue
		}
		if to, err := netip.ParseAddrPort(h.Address); err == nil {
			for i := range e.Servers {
				if slices.Contains(e.Servers[i].Addresses, to.Addr()) {
					h.Origin = e.Servers[i].Name
				}
			}
		}
		list = append(list, h)
	}
	return declared.Name, list, nil
}

// reachedAt finds the server that has an endpoint and is reached.
func reachedAt(e *estate.Estate, at netip.AddrPort) *estate.Server {
	for i := range e.Servers {
		s := &e.Servers[i]
		if s.Reach != nil && slices.Contains(s.Addresses, at.Addr()) && slices.ContainsFunc(s.Ports, func(p estate.PortRange) bool { return p.First <= at.Port() && at.Port() <= p.Last }) {
			return s
		}
	}
	return nil
}

// frontsTake holds a certificate against what the servers in front of another one
// demand of it: one that would refuse it there gets its CA first. The error is a
// *RefusedError.
func (s *Installing) frontsTake(ctx context.Context, e *estate.Estate, at *estate.Server, chain []*certs.Certificate,
	bindings []install.Binding) error {
	asked := map[string]bool{}
	for _, address := range at.Addresses {
		fronts, err := s.store.VerifyingAt(ctx, address)
		if err != nil {
			return err
		}
		for _, f := range fronts {
			declared := e.Server(f.Name)
			if asked[f.Name] || declared == nil || declared.Reach == nil || f.Name == at.Name {
				continue
			}
			asked[f.Name] = true
			var stood []binding.Hop
			if err := json.Unmarshal(f.Document, &stood); err != nil {
				return err
			}
			if err := s.frontTakes(ctx, e, declared, at, chain, bindings, stood); err != nil {
				return err
			}
		}
	}
	return nil
}

// frontTakes reads one server in front anew, and judges a certificate as it would.
// What it refuses already is not held against the new one.
func (s *Installing) frontTakes(ctx context.Context, e *estate.Estate, front, at *estate.Server, chain []*certs.Certificate,
	bindings []install.Binding, stood []binding.Hop) error {
	k := s.cfg.Kinds.Of(front.Kind)
	over, err := open(ctx, front.Reach)
	if err != nil && s.sameIssuer(ctx, chain[0], at, stood) {
		return nil // it takes that CA's already, and a renewal does not wait for it
	} else if err != nil {
		return &RefusedError{fmt.Sprintf("%s stands in front of %s and verifies what it shows, and it cannot be asked what it "+
			"takes: %v", front.Name, at.Name, err), "see the way to it: insegna server show " + front.Name}
	}
	defer func() { _ = over.Close() }()
	r, err := k.Reader.Read(over.FS(), front.Reach.Configuration)
	if err != nil {
		return err
	}
	list, _ := hopsOf(r, hostsAt(e, front))
	for i := range list {
		h := &list[i]
		concerned := h.Checked && h.Unknown == "" && slices.ContainsFunc(bindings, func(b install.Binding) bool {
			return !b.Neighbour && b.At.String() == h.Address && (h.Sends == "" || h.Sends == b.Host)
		})
		if !concerned || slices.ContainsFunc(stood, func(o binding.Hop) bool {
			return o.At == h.At && o.Address == h.Address && o.For == h.For && o.Fault != ""
		}) {
			continue
		}
		b := trustBehind(r, h.Trust)
		b.Chain, b.At = chain, time.Now().UTC()
		if check.JudgeHop(h, &b); h.Fault != binding.HopChain {
			continue
		}
		root := chain[len(chain)-1].IssuerName()
		refused := &RefusedError{fmt.Sprintf("%s, in front of %s, would refuse it at %s: %s", front.Name, at.Name, h.At, h.Why),
			fmt.Sprintf("give %s the new CA first: add the certificate of %s to %s, then %s; and begin again", front.Name, root,
				h.Trust, k.Tester.TakeIn(front.Reach))}
		planned, err := s.trusting(ctx, e, front, over, h, &b)
		var cannot *RefusedError
		switch {
		case errors.As(err, &cannot):
			refused.Reason += "; it cannot be given the CA from here: " + cannot.Reason
		case err != nil:
			return err
		case planned != nil:
			refused.Next = fmt.Sprintf("give %s the new CA first: insegna installation begin %d adds the certificate of %s to %s, "+
				"tests and reloads; and begin again", front.Name, planned.ID, root, h.Trust)
		}
		return refused
	}
	return nil
}

// trusting keeps the plan of a front that takes the CA of what it would be shown behind;
// nil when the CA's own certificate is not known, or would not help.
func (s *Installing) trusting(ctx context.Context, e *estate.Estate, front *estate.Server, over reach.Connection, h *binding.Hop,
	b *binding.Behind) (*store.Installation, error) {
	last := b.Chain[len(b.Chain)-1]
	roots := slices.Clone(b.Chain)
	for i := range e.Audiences {
		roots = append(roots, e.Audiences[i].Anchors...)
	}
	for i := range e.CAs {
		roots = append(roots, e.CAs[i].Anchors...)
	}
	i := slices.IndexFunc(roots, func(c *certs.Certificate) bool {
		return bytes.Equal(c.RawSubject, last.RawIssuer) && c.IsCA && last.CheckSignatureFrom(c.Certificate) == nil
	})
	if i < 0 {
		return nil, nil
	}
	then, better := *b, *h
	then.Trusted = append(slices.Clone(b.Trusted), roots[i])
	better.Fault, better.Why = "", ""
	if check.JudgeHop(&better, &then); better.Fault != "" {
		return nil, nil
	}
	truster, can := s.cfg.Kinds.Of(front.Kind).Installs(over, front).(install.Truster)
	if !can {
		return nil, nil
	}
	planned, err := truster.Trust(ctx, &install.Trusting{Server: front.Name, Addresses: front.Addresses, File: h.Trust, CA: roots[i]})
	if err != nil {
		return nil, installTrouble(err)
	}
	plan, err := sealPlan(s.ordering.safe, front.Name, &planned.Plan)
	if err != nil {
		return nil, err
	}
	row := &store.Installation{Server: front.Name, Plan: plan, State: string(install.Previewed), By: actor(ctx), CreatedAt: time.Now().UTC(),
		Bindings: []store.InstallationBinding{}, Notes: []string{fmt.Sprintf("%s takes whatever %s issues from servers behind it then",
			front.Name, roots[i].CommonName())}}
	for _, d := range planned.Bindings {
		d.Before, _ = s.lookAtBinding(ctx, &d)
		row.Bindings = append(row.Bindings, store.InstallationBinding(d))
	}
	reload, err := s.besidesAtReload(ctx, front.Name, nil)
	if err != nil {
		return nil, err
	}
	row.Notes = append(row.Notes, reload...)
	return row, s.store.AddPreview(ctx, row)
}

// sameIssuer says whether what a front was shown last at a server behind it, and took,
// came from the CA of a certificate.
func (s *Installing) sameIssuer(ctx context.Context, leaf *certs.Certificate, at *estate.Server, stood []binding.Hop) bool {
	for i := range stood {
		h := &stood[i]
		to, err := netip.ParseAddrPort(h.Address)
		if err != nil || !h.Checked || h.Leaf == "" || h.Fault != "" || !slices.Contains(at.Addresses, to.Addr()) {
			continue
		}
		list, err := s.store.CertificatesWithPrefix(ctx, h.Leaf)
		if err != nil || len(list) != 1 || list[0].Issuer != leaf.IssuerName() {
			return false
		}
	}
	return true
}
