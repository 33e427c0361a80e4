package files

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"path"
	"slices"
	"strings"

	"insegna.example/internal/core/names"
	"insegna.example/internal/install"
	"insegna.example/internal/kind"
)

// mostBindings bounds what is looked at after an installation.
const mostBindings = 40

// planner works out one installation.
type planner struct {
	*Destination
	wish    *install.Wish // what is to be installed
	reading *kind.Reading // of the server, made for this plan
}

// Plan implements install.Destination: it reads the server's configuration anew,
// chooses the sites the certificate is for, and works out the edits.
func (d *Destination) Plan(_ context.Context, w *install.Wish) (*install.Planned, error) {
	out, err := d.plan(w)
	var edit *kind.EditError
	switch {
	case errors.As(err, &edit):
		return nil, &install.RefusedError{Reason: edit.Error(), Next: edit.Remedy}
	case kind.Lost(err):
		return nil, &install.RefusedError{Reason: err.Error(), Next: "see that the server can be reached, and try again"}
	}
	return out, err
}

// plan reads the server anew and works out folder, link and edits; nothing on
// the server is touched.
func (d *Destination) plan(w *install.Wish) (*install.Planned, error) {
	fsys := d.Over.FS()
	reading, err := d.Reader.Read(fsys, d.Main)
	if err != nil {
		return nil, err
	}
	p := &planner{Destination: d, wish: w, reading: reading}
	sites, err := p.sites()
	if err != nil {
		return nil, err
	}
	l, err := p.layout()
	if err != nil {
		return nil, err
	}
	var wanted []kind.Wanted
	for _, i := range sites {
		wanted = append(wanted,
			kind.Wanted{Site: reading.Sites[i].Place, Certificate: l.inUse(l.Certificates), Key: l.inUse(l.Key),
				Port: p.https(), Proofs: l.in("proofs")})
	}
	edits, err := d.Editor.Edit(fsys, d.Main, wanted)
	if err != nil {
		return nil, err
	}
	own, err := json.Marshal(l)
	if err != nil {
		return nil, err
	}
	return &install.Planned{
		Plan:     install.Plan{Where: l.Folder, Acts: l.acts(w.Rehearsal), Files: edits, Own: own},
		Bindings: p.bindings(sites),
		There:    l.Before == l.Version && len(edits) == 0,
		Unasked:  len(edits) == 0,
	}, nil
}

// layout says where the certificate goes. A folder that is in use keeps the
// names of its files.
func (p *planner) layout() (*layout, error) {
	l := &layout{Folder: path.Join(path.Dir(p.Main), "insegna", p.wish.Mandate), Version: p.wish.Version,
		Certificates: certificatesFile, Key: keyFile,
		Copy: path.Join(path.Dir(p.Main), ".insegna-"+p.wish.Mandate+"."), Test: p.Test, Reload: p.Reload}
	var err error
	if l.Before, err = p.linked(l); err != nil {
		return nil, err
	}
	switch _, err := fs.Stat(p.Over.FS(), strings.TrimPrefix(l.inUse(formerKeyFile), "/")); {
	case err == nil:
		l.Certificates, l.Key = formerCertificatesFile, formerKeyFile
	case kind.Lost(err):
		return nil, err
	}
	return l, nil
}

// acts says what is done; a rehearsal ends after the test.
func (l *layout) acts(rehearsal bool) []install.Act {
	from := "nothing yet"
	if l.Before != "" {
		from = "versions/" + l.Before
	}
	list := []install.Act{
		{Does: "new", What: fmt.Sprintf("%s and %s", l.staged(l.Certificates), l.Key)},
		{Does: "link", What: fmt.Sprintf("%s: %s → versions/%s", l.in("now"), from, l.Version)},
		{Does: "test", What: l.Test},
		{Does: "reload", What: l.Reload},
	}
	if rehearsal {
		return []install.Act{list[0], list[2]}
	}
	return list
}

// sites finds the sites the certificate is for: those with TLS that have one of
// its names, and plain ones no other site with TLS has the names of.
func (p *planner) sites() ([]int, error) {
	secured := map[int]bool{}
	for _, l := range p.reading.Listeners {
		for _, i := range l.Sites {
			secured[i] = secured[i] || l.TLS
		}
	}
	var list []int
	met := map[string]bool{}
	for _, tls := range []bool{true, false} {
		for i := range p.reading.Sites {
			site := &p.reading.Sites[i]
			if secured[i] != tls || !p.touches(site) || !tls && (site.Protocol != kind.HTTP || site.OnlyRedirects()) {
				continue
			}
			if !tls && slices.ContainsFunc(site.Names, func(n kind.Name) bool { return met[n.Text] }) {
				continue
			}
			if err := p.coversAll(site); err != nil {
				return nil, err
			}
			for _, n := range site.Names {
				met[n.Text] = true
			}
			list = append(list, i)
		}
	}
	if len(list) == 0 {
		return nil, &kind.EditError{Place: kind.Place{File: p.reading.Main, Line: 1},
			Reason: fmt.Sprintf("no site of %s is for %s", p.wish.Server, strings.Join(p.wish.Names, ", ")),
			Remedy: "see its sites: insegna server sites " + p.wish.Server}
	}
	return list, nil
}

// coversAll refuses a site that is for a name the certificate does not list.
func (p *planner) coversAll(site *kind.Site) error {
	for i := range site.Names {
		n := &site.Names[i]
		if n.Ignored {
			continue
		}
		if missing := p.uncovered(n); missing != "" {
			return &kind.EditError{Place: n.Place,
				Reason: fmt.Sprintf("the site is for %s as well, which the certificate does not list", missing),
				Remedy: "add it to the names of the mandate and order anew, or take it out of the site"}
		}
	}
	return nil
}

// touches says whether a site has a name that the certificate lists.
func (p *planner) touches(site *kind.Site) bool {
	return slices.ContainsFunc(site.Names, func(n kind.Name) bool {
		return len(n.Covers) > 0 && !n.Ignored && p.uncovered(&n) == ""
	})
}

// uncovered gives what of a site's name the certificate does not list.
func (p *planner) uncovered(n *kind.Name) string {
	for _, name := range n.Covers {
		if strings.HasPrefix(name, "*.") {
			if !slices.ContainsFunc(p.wish.Leaf.DNSNames, func(own string) bool { return strings.EqualFold(own, name) }) {
				return name
			}
			continue
		}
		if host, err := names.Host(name); err != nil || !names.Covers(p.wish.Leaf, host).Covered {
			return name
		}
	}
	return ""
}

// https chooses the port of sites that have none for TLS yet: the one that is
// wished, the usual one where the server is declared to answer there or nothing
// is declared, or one the server speaks TLS at.
func (p *planner) https() uint16 {
	const usual = 443
	declared := p.wish.Ports
	switch {
	case p.wish.Port != 0:
		return p.wish.Port
	case declared == nil || declared(usual):
		return usual
	}
	for _, l := range p.reading.Listeners {
		if l.TLS && declared(l.Address.Port()) {
			return l.Address.Port()
		}
	}
	return p.wish.OtherPort
}

// bindings are where the new certificate has to be seen: each host the sites and
// the certificate share, at each address TLS is or will be spoken at.
func (p *planner) bindings(sites []int) []install.Binding {
	list := []install.Binding{}
	for _, i := range sites {
		at := p.addresses(i)
		for _, n := range p.reading.Sites[i].Names {
			host, err := names.Host(n.Host())
			if n.Host() == "" || n.Ignored || err != nil || p.uncovered(&n) != "" {
				continue
			}
			for _, a := range at {
				b := install.Binding{Host: host, At: a}
				if len(list) < mostBindings && !slices.Contains(list, b) {
					list = append(list, b)
				}
			}
		}
	}
	return list
}

// addresses are where a site speaks TLS, or will: at its TLS listeners, or at
// the https port of the addresses it has.
func (p *planner) addresses(site int) []netip.AddrPort {
	var secured, plain []netip.AddrPort
	for _, l := range p.reading.Listeners {
		switch {
		case !l.Network() || !slices.Contains(l.Sites, site):
		case l.TLS:
			secured = append(secured, p.spread(l.Address)...)
		default:
			plain = append(plain, p.spread(netip.AddrPortFrom(l.Address.Addr(), p.https()))...)
		}
	}
	if len(secured) > 0 {
		return secured
	}
	return plain
}

// spread gives the server's own addresses for a listener at all of them.
func (p *planner) spread(at netip.AddrPort) []netip.AddrPort {
	if !at.Addr().IsUnspecified() {
		return []netip.AddrPort{at}
	}
	var out []netip.AddrPort
	for _, own := range p.wish.Addresses {
		if own.Is4() == at.Addr().Is4() {
			out = append(out, netip.AddrPortFrom(own, at.Port()))
		}
	}
	return out
}
