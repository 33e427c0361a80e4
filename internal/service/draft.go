package service

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"insegna.example/internal/core/check"
	"insegna.example/internal/core/names"
	"insegna.example/internal/kind"
	"insegna.example/internal/store"
)

// Draft is a mandate to correct.
type Draft struct {
	Names  []string // for the mandate
	Advice []string // what to think of before it is used
	Text   string   // as in an estate file
}

// DraftMandate works out names: those of a site, all sites' of a server, or,
// with no site, those of the bindings no certificate covers.
func (s *Ordering) DraftMandate(ctx context.Context, server, site string) (*Draft, error) {
	d := &Draft{}
	if site != "" {
		sites, _, err := s.reading.Sites(ctx, server, site, nil, 0, 50)
		if err != nil {
			return nil, err
		}
		for i := range sites {
			if !strings.EqualFold(sites[i].Place.String(), site) && len(sites) > 1 && !siteNamed(&sites[i], site) {
				continue
			}
			for j := range sites[i].Names {
				d.addName(&sites[i].Names[j])
			}
		}
		if len(d.Names) == 0 {
			return nil, &RefusedError{fmt.Sprintf("no site %q of %s has a name to order a certificate for", site, server),
				"see its sites: insegna server sites " + server}
		}
	} else {
		open, _, err := s.store.Findings(ctx,
			store.FindingFilter{Codes: check.With(check.Uncovered), State: "open", Server: server},
			store.Page{Sort: "severity", Limit: 1000})
		if err != nil {
			return nil, err
		}
		for i := range open {
			d.add(open[i].Host)
		}
		if len(d.Names) == 0 {
			return nil, &RefusedError{"every binding looked at is covered by a certificate",
				"name a site: --server NAME --site NAME"}
		}
	}
	d.Advice = append(d.Advice, names.Advise(d.Names)...)
	d.Text = s.draftText(ctx, d, server)
	return d, nil
}

// siteNamed says whether a site has a name as it is written there.
func siteNamed(v *SiteView, name string) bool {
	for _, n := range v.Names {
		if strings.EqualFold(n.Text, name) {
			return true
		}
	}
	return false
}

// addName takes a name of a site; what no certificate can list is left out, with
// a word when somebody may miss it.
func (d *Draft) addName(n *kind.Name) {
	for _, name := range n.Covers {
		d.add(name)
	}
	if len(n.Covers) == 0 && strings.Contains(n.Text, ".") {
		d.Advice = append(d.Advice, n.Text+" is a pattern, left out: add the names it stands for")
	}
}

// add takes a host name or a wildcard; what no certificate can be for is left
// out.
func (d *Draft) add(name string) {
	base, wildcard := strings.CutPrefix(name, "*.")
	host, err := names.Host(base)
	if _, address := netip.ParseAddr(host); err != nil || address == nil || !strings.Contains(host, ".") {
		return
	}
	if wildcard {
		host = "*." + host
	}
	if !slices.Contains(d.Names, host) {
		d.Names = append(d.Names, host)
	}
}

// draftText writes a mandate to be corrected, with the first CA and the proof
// that fits the names: wildcards need dns.
func (s *Ordering) draftText(ctx context.Context, d *Draft, server string) string {
	ca := "CA"
	if e, _, err := s.declaring.estateInForce(ctx); err == nil && len(e.CAs) > 0 {
		ca = e.CAs[0].Name
	}
	proof := "{by: dns, server: 192.0.2.53, tsig: {name: insegna, credential: insegna-tsig}}"
	if server != "" && !slices.ContainsFunc(d.Names, func(n string) bool { return strings.HasPrefix(n, "*.") }) {
		proof = "{by: http, servers: [" + server + "]}"
	}
	name := s.freeName(ctx, strings.TrimPrefix(d.Names[0], "*."))
	text := fmt.Sprintf("name: %s\nnames: [%s]\nca: %s\nproof: %s\nkey: ecdsa-p256\n", name,
		strings.Join(quoteWild(d.Names), ", "), ca, proof)
	if server != "" {
		text += "install: [" + server + "]\n"
	}
	return text
}

// freeName calls a mandate after as much of a host as no other one is called.
func (s *Ordering) freeName(ctx context.Context, host string) string {
	labels := strings.Split(host, ".")
	for n := 1; n < len(labels); n++ {
		name := strings.Join(labels[:n], "-")
		if _, err := s.store.Mandate(ctx, name); errors.Is(err, store.ErrNotFound) {
			return name
		}
	}
	return strings.Join(labels, "-")
}

// quoteWild quotes what YAML would take for an alias.
func quoteWild(list []string) []string {
	out := slices.Clone(list)
	for i, n := range out {
		if strings.HasPrefix(n, "*") {
			out[i] = `"` + n + `"`
		}
	}
	return out
}
