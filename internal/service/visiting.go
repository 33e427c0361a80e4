package service

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"
)

// visitsAtOnce is how many names of a mandate are visited side by side.
const visitsAtOnce = 8

// Visiting is the room of the ways visitors take.
type Visiting struct {
	base
	declaring *Declaring // knows endpoints and anchors
	ordering  *Ordering  // knows mandates
}

// VisitMandate walks a visitor's way to each name of a mandate: at the
// addresses DNS gives, or else those known, on the ports it is known at.
func (s *Visiting) VisitMandate(ctx context.Context, name string) ([]*VisitReport, error) {
	m, err := s.ordering.Mandate(ctx, name)
	if err != nil {
		return nil, err
	}
	e, _, err := s.declaring.estateInForce(ctx)
	if err != nil {
		return nil, err
	}
	judge, err := s.declaring.currentJudge(ctx)
	if err != nil {
		return nil, err
	}
	installed, err := s.knownEndpoints(ctx, m)
	if err != nil {
		return nil, err
	}
	list := make([]*VisitReport, len(m.Spec.Names))
	var all errgroup.Group
	all.SetLimit(visitsAtOnce)
	for i, host := range m.Spec.Names {
		if strings.HasPrefix(host, "*.") {
			list[i] = &VisitReport{Host: host, At: time.Now().UTC(),
				Steps: []VisitStep{{Step: "dns", Fine: true,
					Seen: "a wildcard has no address of its own; visit a host of it: insegna visit HOST"}}}
			continue
		}
		r := VisitRequest{Host: host, Judge: judge, Looker: s.cfg.Looker, Plain: e.PlainPort(host), Kinds: s.cfg.Kinds,
			Audiences: []string{e.Audiences[0].Name}}
		known := installed[host]
		if h := e.Host(host); h != nil {
			r.Wanted, r.Audiences = h.Wanted, h.Audiences
			for at := range e.Endpoints(h) {
				known = append(known, at)
			}
		}
		resolver := systemResolver()
		if at := e.CA(m.Spec.CA).Resolver(); at != "" {
			resolver = at
		}
		if i < visitsAtOnce {
			r.Estate = e
		}
		all.Go(func() (err error) {
			r.lead(ctx, resolver, known)
			if list[i], err = Visit(ctx, r); err == nil && r.Estate == nil {
				list[i].Steps = append(list[i].Steps, VisitStep{Step: "behind", Fine: true, Seen: fmt.Sprintf(
					"not looked at: that is done for the first %d names of a mandate; visit this one: insegna visit %s --estate FILE",
					visitsAtOnce, r.Host)})
			}
			return err
		})
	}
	return list, all.Wait()
}

// usualHTTPS is where https is when nothing else is known.
const usualHTTPS = 443

// knownEndpoints are where the mandate's last installation on each server was
// seen, by host.
func (s *Visiting) knownEndpoints(ctx context.Context, m *MandateView) (map[string][]netip.AddrPort, error) {
	out := map[string][]netip.AddrPort{}
	if m.InForce == nil {
		return out, nil
	}
	for _, server := range m.Spec.Servers() {
		row, err := s.store.LastInstallation(ctx, m.ID, 0, server)
		if err != nil {
			continue // none yet
		}
		for _, d := range row.Bindings {
			if !d.Neighbour {
				out[d.Host] = append(out[d.Host], d.At)
			}
		}
	}
	return out, nil
}

// lead settles where a visit goes: DNS names the addresses, what is known the
// ports; when DNS does not answer, what is known stands in.
func (r *VisitRequest) lead(ctx context.Context, resolver string, known []netip.AddrPort) {
	slices.SortFunc(known, netip.AddrPort.Compare)
	known = slices.Compact(known)
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	ask := &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, network, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, network, resolver)
	}}
	list, err := ask.LookupNetIP(ctx, "ip", r.Host+".")
	if err != nil {
		r.Endpoints, r.Found = known, "known from the estate"
		r.Astray = fmt.Sprintf("the name server %s has no address for it", resolver)
		var failed *net.DNSError
		if !errors.As(err, &failed) || !failed.IsNotFound {
			r.Astray = fmt.Sprintf("the name server %s gives no answer: %v", resolver, err)
		}
		return
	}
	r.Found = "by the name server " + resolver
	ports := map[uint16]bool{}
	for _, at := range known {
		ports[at.Port()] = true
	}
	if len(ports) == 0 {
		ports[usualHTTPS] = true
	}
	for _, ip := range list {
		ip = ip.Unmap()
		met := false
		for _, at := range known {
			if at.Addr() == ip {
				met = true
				r.Endpoints = append(r.Endpoints, at)
			}
		}
		for port := range ports {
			if !met {
				r.Endpoints = append(r.Endpoints, netip.AddrPortFrom(ip, port))
			}
		}
	}
	slices.SortFunc(r.Endpoints, netip.AddrPort.Compare)
	r.Endpoints = slices.Compact(r.Endpoints)
}
