package files

import (
	"context"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/names"
	"insegna.example/internal/install"
	"insegna.example/internal/kind"
)

// Bounds of what is looked at after an installation.
const (
	mostBindings   = 40
	mostNeighbours = 20
)

// planner works out one installation.
type planner struct {
	*Destination
	wish    *install.Wish // what is to be installed
	reading *kind.Reading // of the server, made for this plan
	after   *kind.Reading // as it will be
	spared  []string      // sites that keep a certificate of their own, in words
	more    []kind.Place  // lines of listeners that take the certificate, where no site is for it
	hosts   []string      // it is for, where no certificate says so
}

// Plan implements install.Destination: it reads the server's configuration anew,
// chooses the sites the certificate is for, and works out the edits.
func (d *Destination) Plan(ctx context.Context, w *install.Wish) (*install.Planned, error) {
	out, err := d.plan(ctx, w)
	return out, refused(err)
}

// refused turns what stands in the way of a plan into what the destination says
// of it; any other error stays.
func refused(err error) error {
	var edit *kind.EditError
	switch {
	case errors.As(err, &edit):
		return &install.RefusedError{Reason: edit.Error(), Next: edit.Remedy, Preparable: edit.Preparable}
	case kind.Lost(err):
		return &install.RefusedError{Reason: err.Error(), Next: "see that the server can be reached, and try again"}
	}
	return err
}

// plan reads the server anew and works out folder, link and edits; nothing on
// the server is touched.
func (d *Destination) plan(ctx context.Context, w *install.Wish) (*install.Planned, error) {
	fsys := d.Over.FS()
	reading, err := d.Reader.Read(fsys, d.Main)
	if err != nil {
		return nil, err
	}
	if err := d.outlives(reading); err != nil {
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
	for _, at := range p.more {
		wanted = append(wanted, kind.Wanted{Site: at, More: true})
	}
	for _, i := range sites {
		wanted = append(wanted, kind.Wanted{Site: reading.Sites[i].Place})
	}
	for i := range wanted {
		wanted[i].Certificate, wanted[i].Key, wanted[i].Port = l.inUse(l.Certificates), l.inUse(l.Key), p.https()
		wanted[i].Proofs, wanted[i].Aside, wanted[i].Addresses = l.in("proofs"), l.in("before", l.Version), w.Addresses
		wanted[i].Listener = w.Listener
	}
	edits, err := p.stapled(ctx, fsys, l, wanted)
	if err != nil {
		return nil, err
	}
	if p.after, err = p.edited(fsys, edits); err != nil {
		return nil, err
	}
	if err := p.touched(edits, wanted); err != nil {
		return nil, err
	}
	bindings, notes, err := p.bindings(wanted, edits)
	if err != nil {
		return nil, err
	}
	for _, x := range edits.Loads {
		l.Loads = append(l.Loads, x.Path)
	}
	if d.Live != nil && !w.KeyThere { // telling the running server would take the key here
		l.Live, l.Lively = d.Live.Plan(reading, edits)
	}
	own, err := json.Marshal(l)
	if err != nil {
		return nil, err
	}
	changes := len(edits.Files) + len(edits.Links)
	return &install.Planned{
		Plan: install.Plan{Where: l.Folder, Acts: l.acts(w.Rehearsal, edits.Links), Files: edits.Files,
			Links: edits.Links, Own: own},
		Bindings: append(bindings, p.neighbours(wanted, edits)...),
		Notes:    append(notes, p.spared...),
		There:    l.Before == l.Version && changes == 0,
		Unasked:  changes == 0,
	}, nil
}

// stapled works out the edits, and asks for the CA's answer that the certificate is good
// where the server sends one along from a file. Where there is none, the old one is put
// aside and that is told.
func (p *planner) stapled(ctx context.Context, fsys fs.FS, l *layout, wanted []kind.Wanted) (*kind.Edits, error) {
	if p.wish.Staple == nil {
		return p.Editor.Edit(fsys, p.Main, wanted)
	}
	for i := range wanted {
		wanted[i].Staple = wanted[i].Certificate + stapleEnd
	}
	edits, err := p.Editor.Edit(fsys, p.Main, wanted)
	if err != nil || !edits.Stapled {
		return edits, err
	}
	if l.Staple, err = p.wish.Staple(ctx); err == nil {
		p.spared = append(p.spared, fmt.Sprintf("the OCSP response that lies beside it is for the new certificate, from %s, in force until %s", l.Staple.From,
			l.Staple.Until.Format(time.RFC3339)))
		return edits, nil
	}
	p.spared = append(p.spared, "there is no OCSP response for the new certificate to lie beside it: "+err.Error())
	for i := range wanted {
		wanted[i].Staple = ""
	}
	return p.Editor.Edit(fsys, p.Main, wanted)
}

// outlives refuses a configuration whose reload would end the server.
func (d *Destination) outlives(r *kind.Reading) error {
	if bad := r.Ends(); bad != nil && d.Lenient {
		return &install.RefusedError{Reason: "a reload would end the server, although its own test passes: " + bad.Error(),
			Next: "mend that first, then survey the server anew"}
	}
	return nil
}

// own says whether a host is one that is to get something else.
func (p *planner) own(host string) bool {
	return p.wish.Leaf != nil && names.Covers(p.wish.Leaf, host).Covered || slices.Contains(p.hosts, host)
}

// edited reads the configuration as it will be.
func (p *planner) edited(fsys fs.FS, edits *kind.Edits) (*kind.Reading, error) {
	if len(edits.Files)+len(edits.Links)+len(edits.Loads) == 0 {
		return p.reading, nil
	}
	laid := map[string]string{}
	for _, x := range edits.Loads { // names may be those of the certificate that lies there
		laid[x.Path] = string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: p.wish.Leaf.Raw}))
	}
	return p.Reader.Read(kind.Overlaid(kind.Laid(fsys, edits.Links, laid), edits.Files), p.Main)
}

// touchedTold is how many changes for others are told.
const touchedTold = 20

// touched refuses edits that change what others get, unless a person has agreed
// to that by name.
func (p *planner) touched(edits *kind.Edits, wanted []kind.Wanted) error {
	c := &kind.Compared{Before: kind.Side{Reading: p.reading, Answers: p.Reader.Answers(p.reading)},
		After: kind.Side{Reading: p.after, Answers: p.Reader.Answers(p.after)}, Edits: edits, Wanted: wanted,
		Own: p.own, Agreed: p.wish.Agreed, Most: touchedTold}
	list := c.Touched()
	if len(list) == 0 {
		return nil
	}
	refused := &install.RefusedError{Reason: "others would get something else: ", Next: "change the configuration so " +
		"that nobody else is touched, or agree to it for each by name, such as --also " + strconv.Quote(list[0].Who)}
	for i := range list {
		if i > 0 {
			refused.Reason += "; "
		}
		refused.Reason += list[i].String()
	}
	if len(list) == touchedTold {
		refused.Reason += "; and perhaps more"
	}
	return refused
}

// layout says where the certificate goes. A folder that is in use keeps the
// names of its files.
func (p *planner) layout() (*layout, error) {
	l := &layout{Folder: p.folderOf(p.wish.Mandate), Version: p.wish.Version, KeyThere: p.wish.KeyThere,
		Certificates: certificatesFile, Key: keyFile, Combined: p.Combined,
		Copy: path.Join(path.Dir(p.Main), ".insegna-"+p.wish.Mandate+"."), Test: p.Test, Reload: p.Reload}
	var err error
	if l.Before, err = p.linked(l); err != nil {
		return nil, err
	}
	if l.Combined {
		l.Certificates, l.Key = combinedFile, combinedFile
		return l, nil
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
func (l *layout) acts(rehearsal bool, links []install.Link) []install.Act {
	from := "nothing yet"
	if l.Before != "" {
		from = "versions/" + l.Before
	}
	list := []install.Act{
		{Does: "new", What: l.staged(l.Certificates)},
		{Does: "link", What: fmt.Sprintf("%s: %s → versions/%s", l.in("now"), from, l.Version)},
		{Does: "test", What: l.Test},
		{Does: "reload", What: l.Reload},
	}
	if !l.Combined {
		list[0].What += " and " + l.Key
	}
	if l.KeyThere {
		list[0].What += ", the key from " + l.in(keysFolder, l.Version+".pem")
	}
	if rehearsal {
		return []install.Act{list[0], list[2]}
	}
	if l.Live != nil {
		list[3] = install.Act{Does: "live", What: l.Lively}
	}
	for i := range links {
		list = slices.Insert(list, 2+i, install.Act{Does: doesOf(&links[i]), What: links[i].String()})
	}
	return list
}

// doesOf is the word for what is done with a link.
func doesOf(x *install.Link) string {
	if x.To == "" {
		return "aside"
	}
	return "link"
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
			if secured[i] != tls || !p.touches(site) || !tls && (site.Protocol != kind.HTTP || site.OnlyRedirects()) ||
				tls && p.elsewhere(i) {
				continue
			}
			if own := p.ownCertificate(site); own != "" {
				p.spared = append(p.spared, fmt.Sprintf("%s (%s) keeps %s, which lists its name; the new certificate covers it by a "+
					"wildcard alone", site.MainName(), site.Place, own))
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
		if len(p.spared) > 0 {
			return nil, &kind.EditError{Place: kind.Place{File: p.reading.Main, Line: 1}, Reason: strings.Join(p.spared, "; "),
				Remedy: "name the certificate there by hand, or list the names in the mandate one by one"}
		}
		if site := p.idle(); site != nil {
			return nil, &kind.EditError{Place: site.Place, Preparable: site.Link != nil,
				Reason: fmt.Sprintf("the site %s is not switched on", site.MainName()),
				Remedy: fmt.Sprintf("%s, then %s && %s", site.SwitchOn, p.Test, p.Reload)}
		}
		if a, can := p.Editor.(kind.Adder); can {
			if p.more = a.More(p.reading, p.meant); len(p.more) > 0 {
				return nil, nil
			}
		}
		return nil, &kind.EditError{Place: kind.Place{File: p.reading.Main, Line: 1},
			Reason: fmt.Sprintf("no site of %s is for %s", p.wish.Server, strings.Join(p.wish.Names, ", ")),
			Remedy: "see its sites: insegna server sites " + p.wish.Server}
	}
	return list, nil
}

// meant says whether a port is one the certificate is for.
func (p *planner) meant(port uint16) bool {
	if p.wish.Port != 0 {
		return port == p.wish.Port
	}
	return p.wish.Ports == nil || p.wish.Ports(port)
}

// idle finds a site for the names that is not in force; nil when there is none.
func (p *planner) idle() *kind.Site {
	for i := range p.reading.Idle {
		if site := &p.reading.Idle[i]; p.touches(site) && site.SwitchOn != "" {
			return site
		}
	}
	return nil
}

// coversAll refuses a site that is for a name the certificate does not list.
func (p *planner) coversAll(site *kind.Site) error {
	for i := range site.Names {
		n := &site.Names[i]
		if n.Ignored || n.Listed { // what is only listed by the certificate is told as touched
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

// elsewhere says whether a site is at none of the listeners at the port that is
// wished, while another one with the names is.
func (p *planner) elsewhere(site int) bool {
	at := func(i int) bool {
		return slices.ContainsFunc(p.reading.Listeners, func(l kind.Listener) bool {
			return l.TLS && l.Address.Port() == p.wish.Port && slices.Contains(l.Sites, i)
		})
	}
	if p.wish.Port == 0 || at(site) {
		return false
	}
	for i := range p.reading.Sites {
		if at(i) && p.touches(&p.reading.Sites[i]) {
			return true
		}
	}
	return false
}

// ownCertificate is the certificate a site has for itself: it lists one of the site's
// names, of which the new one covers all by a wildcard alone. "" for none.
func (p *planner) ownCertificate(site *kind.Site) string {
	lists := func(list []string, name string) bool {
		return slices.ContainsFunc(list, func(o string) bool { return strings.EqualFold(o, name) })
	}
	for i := range site.Names {
		for _, name := range site.Names[i].Covers {
			if lists(p.wish.Leaf.DNSNames, name) {
				return ""
			}
		}
	}
	for i := range site.Pairs {
		m := p.reading.Material[site.Pairs[i].Certificate]
		if m == nil || len(m.Chain) == 0 {
			continue
		}
		c, err := certs.Parse(p.reading.Certificates[m.Chain[0]])
		if err != nil {
			continue
		}
		for n := range site.Names {
			for _, name := range site.Names[n].Covers {
				if lists(c.DNSNames, name) && !strings.HasPrefix(name, "*") {
					return site.Pairs[i].Certificate
				}
			}
		}
	}
	return ""
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
// the certificate share, at each address TLS is or will be spoken at. A name that
// another site answers for there is refused where the edits open the listener,
// and told where it was so before.
func (p *planner) bindings(wanted []kind.Wanted, edits *kind.Edits) (list []install.Binding, notes []string,
	err error) {
	answers, before := p.Reader.Answers(p.after), p.Reader.Answers(p.reading)
	for _, site := range p.shownBy(wanted, edits) {
		for n := range p.after.Sites[site].Names {
			name := &p.after.Sites[site].Names[n]
			if p.uncovered(name) != "" {
				continue
			}
			for _, host := range kind.Hosts(name) {
				shows := func(a *kind.Answer) bool {
					return slices.ContainsFunc(a.Pairs, func(x kind.Pair) bool { return mine(x.Certificate, wanted, edits) })
				}
				for _, at := range p.passedOn() {
					if a := answers.Answer(host, at); shows(&a) {
						list = p.add(list, install.Binding{Host: host, At: at})
					}
				}
				for _, at := range p.addresses(site) {
					a := answers.Answer(host, at)
					if shows(&a) {
						list = p.add(list, install.Binding{Host: host, At: at})
						continue
					}
					words := fmt.Sprintf("%s at %s is answered by another site, %s, so the certificate is not seen there", host,
						at, placeOf(a.Site))
					if was := before.Answer(host, at); was.Listener == nil || !was.Listener.TLS || was.Site == nil ||
						a.Site == nil || edits.Site(was.Site.Place) != a.Site.Place {
						return nil, nil, &kind.EditError{Place: name.Place, Reason: words,
							Remedy: "take the name out of one of the two sites"}
					}
					if len(notes) < mostBindings {
						notes = append(notes, words)
					}
				}
			}
		}
	}
	if len(list) == 0 {
		return list, append(notes, "there is no address at which the certificate can be looked at"), nil
	}
	return list, notes, nil
}

// placeOf names a site by its place.
func placeOf(s *kind.Site) string {
	if s == nil {
		return "which cannot be told"
	}
	return s.Place.String()
}

// add takes a binding in, up to as many as are looked at.
func (p *planner) add(list []install.Binding, b install.Binding) []install.Binding {
	if len(list) >= mostBindings || slices.ContainsFunc(list, func(o install.Binding) bool {
		return o.Host == b.Host && o.At == b.At
	}) {
		return list
	}
	return append(list, b)
}

// mine says whether a path is one the new certificate comes to.
func mine(at string, wanted []kind.Wanted, edits *kind.Edits) bool {
	return edits.Loaded(at) || slices.ContainsFunc(wanted, func(w kind.Wanted) bool { return w.Certificate == at })
}

// shownBy are the sites of the configuration as it will be that show the
// certificate; those that were edited, where none is known to.
func (p *planner) shownBy(wanted []kind.Wanted, edits *kind.Edits) (out []int) {
	for i := range p.after.Sites {
		if slices.ContainsFunc(p.after.Sites[i].Pairs,
			func(x kind.Pair) bool { return mine(x.Certificate, wanted, edits) }) {
			out = append(out, i)
		}
	}
	for _, w := range wanted {
		if site := p.siteAt(edits.Site(w.Site)); len(out) == 0 && site >= 0 {
			out = append(out, site)
		}
	}
	return out
}

// siteAt finds a site of the configuration as it will be; -1 for none.
func (p *planner) siteAt(at kind.Place) int {
	return slices.IndexFunc(p.after.Sites, func(s kind.Site) bool { return s.Place == at })
}

// neighbours are hosts of other sites that are looked at as well, where the
// sites that are edited stand: they have to show what they showed.
func (p *planner) neighbours(wanted []kind.Wanted, edits *kind.Edits) []install.Binding {
	var list []install.Binding
	answers := p.Reader.Answers(p.after)
	for i := range p.reading.Sites {
		site := &p.reading.Sites[i]
		if slices.ContainsFunc(wanted, func(w kind.Wanted) bool { return w.Site == site.Place }) {
			continue
		}
		for n := range site.Names {
			for _, host := range kind.Hosts(&site.Names[n]) {
				if p.own(host) {
					continue
				}
				for _, l := range p.reading.Listeners {
					if !l.TLS || !l.Network() || !slices.Contains(l.Sites, i) {
						continue
					}
					for _, at := range p.spread(l.Address) {
						a := answers.Answer(host, at)
						if a.Shown == nil || slices.ContainsFunc(a.Pairs, func(x kind.Pair) bool {
							return mine(x.Certificate, wanted, edits)
						}) {
							continue
						}
						list = p.add(list, install.Binding{Host: host, At: at, Neighbour: true, Own: p.onDisk(a.Pairs)})
						if len(list) == mostNeighbours {
							return list
						}
					}
				}
			}
		}
	}
	return list
}

// onDisk gives the fingerprints of the certificates that pairs name.
func (p *planner) onDisk(pairs []kind.Pair) (out []string) {
	for _, x := range pairs {
		if m := p.reading.Material[x.Certificate]; m != nil && len(m.Chain) > 0 {
			out = append(out, m.Chain[0])
		}
	}
	return out
}

// addresses are where a site will speak TLS.
func (p *planner) addresses(site int) []netip.AddrPort {
	var out []netip.AddrPort
	for i := range p.after.Listeners {
		if l := &p.after.Listeners[i]; l.TLS && l.Network() && slices.Contains(l.Sites, site) {
			out = append(out, p.spread(l.Address)...)
		}
	}
	return out
}

// passedOn are where TLS comes in that a listener passes on as it is, perhaps to
// a site of this server.
func (p *planner) passedOn() []netip.AddrPort {
	var out []netip.AddrPort
	for i := range p.after.Listeners {
		l := &p.after.Listeners[i]
		if !l.TLS && l.Network() && l.Protocol == kind.TCP && p.after.Sites[l.Default].Through != nil {
			out = append(out, p.spread(l.Address)...)
		}
	}
	return out
}

// spread gives the server's own addresses for a listener at all of them. A
// listener at an address of its machine alone is not to be seen from here, unless
// the server is declared to be this machine.
func (p *planner) spread(at netip.AddrPort) []netip.AddrPort {
	if at.Addr().IsLoopback() && len(p.wish.Addresses) > 0 &&
		!slices.ContainsFunc(p.wish.Addresses, netip.Addr.IsLoopback) {
		return nil
	}
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
