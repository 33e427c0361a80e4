package files

import (
	"bytes"
	"context"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/names"
	"insegna.example/internal/install"
	"insegna.example/internal/kind"
)

// mendingFolder holds what a mending puts aside, beside the folders of mandates. A
// mandate's name does not begin with a dot.
const mendingFolder = ".mended"

// Mend implements install.Mender: it reads the server anew, works out for each fault
// what mends it, and puts all of that into one plan with one test and one reload.
func (d *Destination) Mend(ctx context.Context, w *install.Mending) (*install.Mended, error) {
	out, err := d.mend(ctx, w)
	return out, refused(err)
}

// mender works out one plan.
type mender struct {
	*planner
	order   *install.Mending              // what is to be mended
	answers kind.Answers                  // of the configuration as it is
	known   map[string]*certs.Certificate // of the reading, by fingerprint, those that were parsed
	files   []string                      // of certificates and keys, in order; nil until they are asked for
	shadow  fs.FS                         // the server with the sites that are switched on
	out     *install.Mended
	edits   *kind.Edits          // of all faults together
	cas     []*certs.Certificate // CAs' certificates on the server; nil until they are asked for
	wanted  []kind.Wanted        // sites that are edited
	lists   map[string]bool      // files whose list is written anew
	looks   map[int64]bool       // findings whose binding is looked at for the whole list
	does    map[int64]string     // what mends a fault, in words, of those that are mended so far
	faults  map[int64]*install.Fault
	root    func() (bool, error) // whether the files of others can be given away there
	vain    map[int64]bool       // faults that what was worked out for them would not mend
}

// mend works out the plan; once more without the faults that it would not mend, so that
// nothing is done for them.
func (d *Destination) mend(ctx context.Context, w *install.Mending) (*install.Mended, error) {
	out, vain, err := d.mendOnce(ctx, w)
	if err != nil || len(vain) == 0 {
		return out, err
	}
	left := out.Left
	rest := *w
	rest.Faults = slices.DeleteFunc(slices.Clone(w.Faults), func(f install.Fault) bool { return vain[f.Finding] })
	if out, err = d.mend(ctx, &rest); err != nil {
		return nil, err
	}
	for i := range left {
		if vain[left[i].Finding] {
			out.Left = append(out.Left, left[i])
		}
	}
	return out, nil
}

// mendOnce works it out for all faults; vain are those that something was worked out for
// which would not mend them.
func (d *Destination) mendOnce(ctx context.Context, w *install.Mending) (out *install.Mended, vain map[int64]bool, err error) {
	fsys := d.Over.FS()
	reading, err := d.Reader.Read(fsys, d.Main)
	if err != nil {
		return nil, nil, err
	}
	m := &mender{planner: &planner{Destination: d, wish: &install.Wish{Server: w.Server, Addresses: w.Addresses,
		Agreed: w.Agreed}, reading: reading}, order: w, shadow: fsys, out: &install.Mended{}, edits: &kind.Edits{},
		lists: map[string]bool{}, looks: map[int64]bool{}, does: map[int64]string{}, faults: map[int64]*install.Fault{}, vain: map[int64]bool{}}
	m.root = sync.OnceValues(func() (bool, error) {
		said, err := d.run(ctx, "id -u")
		if kind.Lost(err) {
			return false, err
		}
		return err == nil && strings.TrimSpace(said) == "0", nil
	})
	m.answers, m.known = d.Reader.Answers(reading), map[string]*certs.Certificate{}
	for i := range w.Faults {
		m.faults[w.Faults[i].Finding] = &w.Faults[i]
	}
	for _, step := range []func() error{m.switches, m.names, m.opens, m.settings, m.leads, m.frees, m.pledges, m.rewrite, m.modes} {
		if err := step(); err != nil {
			return nil, nil, err
		}
	}
	m.reloads()
	out, err = m.plan()
	return out, m.vain, err
}

// leave notes that a fault is not mended, and why.
func (m *mender) leave(f *install.Fault, reason, next string) {
	delete(m.does, f.Finding)
	m.out.Left = append(m.out.Left, install.Left{Fault: *f, Reason: reason, Next: next})
}

// each goes over the faults that are mended by some means.
func (m *mender) each(do func(f *install.Fault) error, means ...check.Means) error {
	for i := range m.order.Faults {
		f := &m.order.Faults[i]
		if slices.Contains(means, f.By()) {
			if err := do(f); err != nil {
				return err
			}
		}
	}
	return nil
}

// switches links the sites into force that are written and not switched on.
func (m *mender) switches() error {
	laid := map[string]bool{}
	err := m.each(func(f *install.Fault) error {
		var site *kind.Site
		if idle := m.answers.Idle(f.Host); len(idle) > 0 {
			site = idle[0]
		}
		switch {
		case site == nil:
			m.leave(f, "no site for "+f.Host+" is written that is not in force", "survey the server anew")
			return nil
		case site.Link == nil:
			m.leave(f, "no link puts "+site.Place.String()+" in force", site.SwitchOn)
			return nil
		}
		if !laid[site.Link.Path] {
			link := *site.Link
			there, err := m.exists(link.Path)
			if to, dangles := m.dangling(link.Path); there && dangles { // its file was given another name, or is gone
				link.Kept = path.Join(m.aside(), "links", path.Base(link.Path))
				if link.Sum, err = m.sum(link.Path); err != nil {
					return err
				}
				m.out.Notes = append(m.out.Notes, link.Path+" leads to "+to+", where nothing is, and comes to lead to "+link.To)
				there = false
			}
			switch {
			case err != nil:
				return err
			case there:
				m.leave(f, site.Link.Path+" is there already, and does not put the site in force",
					"see what that is; the site is in force when it leads to "+site.Link.To)
				return nil
			}
			laid[site.Link.Path] = true
			m.edits.Links = append(m.edits.Links, link)
		}
		m.hosts = append(m.hosts, hostsOf(site)...)
		m.does[f.Finding] = "switch on " + site.Place.File
		return nil
	}, check.BySwitch)
	if len(m.edits.Links) > 0 {
		m.shadow = kind.Linked(m.shadow, m.edits.Links)
	}
	return err
}

// hostsOf are the hosts a site has names for.
func hostsOf(s *kind.Site) (out []string) {
	for i := range s.Names {
		out = append(out, kind.Hosts(&s.Names[i])...)
	}
	return out
}

// named is a site that is to name other files.
type named struct {
	kind.Wanted
	faults []*install.Fault
}

// wantedOf are what sites are to name.
func wantedOf(list []*named) []kind.Wanted {
	out := make([]kind.Wanted, len(list))
	for i, n := range list {
		out[i] = n.Wanted
	}
	return out
}

// names has sites name the certificate or key that lies there and fits.
func (m *mender) names() error {
	var list []*named
	err := m.each(func(f *install.Fault) error {
		site, pair := m.shown(f)
		if site == nil {
			m.leave(f, "what is shown there cannot be told from the configuration", "see it: insegna server sites "+m.order.Server)
			return nil
		}
		if f.By() == check.ByKey && pair.Key == pair.Certificate {
			return m.rekey(f, pair)
		}
		w, reason := m.fitting(f, site, pair)
		if w == nil {
			m.leave(f, reason, "put it there, or have one made: insegna https "+orHost(f.Host)+" --server "+m.order.Server)
			return nil
		}
		if i := slices.IndexFunc(list, func(o *named) bool { return o.Site == w.Site }); i < 0 {
			list = append(list, &named{*w, []*install.Fault{f}})
		} else if o := list[i]; o.Certificate == w.Certificate && o.Key == w.Key {
			o.faults = append(o.faults, f)
		} else {
			m.leave(f, "the same site would have to name "+o.Certificate+" and "+w.Certificate, "mend one first")
		}
		return nil
	}, check.ByName, check.ByKey)
	if err != nil || len(list) == 0 {
		return err
	}
	links := m.edits.Links
	list, edits, err := together(list, func(list []*named) (*kind.Edits, error) {
		return m.Editor.Edit(m.shadow, m.Main, wantedOf(list))
	}, func(n *named, in *kind.EditError) {
		for _, f := range n.faults {
			m.leave(f, in.Error(), in.Remedy)
		}
	})
	if err != nil || edits == nil {
		return err
	}
	m.wanted = append(m.wanted, wantedOf(list)...)
	edits.Links = append(links, edits.Links...)
	m.edits = edits
	for _, n := range list {
		for _, f := range n.faults {
			m.does[f.Finding] = "name " + n.Certificate
			if n.Key != n.Certificate {
				m.does[f.Finding] += " and " + n.Key
			}
		}
		if site := m.site(n.Site); site != nil {
			m.hosts = append(m.hosts, hostsOf(site)...)
		}
	}
	return nil
}

// rekey puts the key that fits in the place of the one in a file that holds both.
func (m *mender) rekey(f *install.Fault, pair *kind.Pair) error {
	leaf := m.leafOf(pair.Certificate)
	if leaf == nil {
		m.leave(f, "the certificate "+pair.Certificate+" cannot be read", "see what that file is")
		return nil
	}
	public := leaf.Public().String()
	from := ""
	for _, file := range m.material() {
		if m.reading.Material[file].Public == public {
			from = file
			break
		}
	}
	if from == "" || from == pair.Certificate {
		m.leave(f, "no key that fits "+pair.Certificate+" lies there",
			"put it there, or have one made: insegna https "+orHost(f.Host)+" --server "+m.order.Server)
		return nil
	}
	key, _, err := m.file(from)
	if kind.Lost(err) {
		return err
	}
	blocks := blocksOf(string(key), "PRIVATE KEY")
	if err != nil || len(blocks) == 0 {
		m.leave(f, from+" cannot be read from here", "let the service read it")
		return nil
	}
	return m.change(f, pair.Certificate, "put the key of "+from+" into "+pair.Certificate, func(text string) string {
		return replaced(text, "PRIVATE KEY", blocks[0])
	})
}

// orHost is a host, or a word for it in an example.
func orHost(host string) string {
	if host == "" {
		return "HOST"
	}
	return host
}

// site finds a site of the configuration as it is.
func (m *mender) site(at kind.Place) *kind.Site {
	if i := slices.IndexFunc(m.reading.Sites, func(s kind.Site) bool { return s.Place == at }); i >= 0 {
		return &m.reading.Sites[i]
	}
	return nil
}

// shown is the site whose certificate is shown at a fault, and which of its pairs the
// fault is about; for one about the server, the site in which its place is.
func (m *mender) shown(f *install.Fault) (*kind.Site, *kind.Pair) {
	if !f.At.IsValid() {
		for i := range m.reading.Sites {
			for n := range m.reading.Sites[i].Pairs {
				p := &m.reading.Sites[i].Pairs[n]
				if p.AtLine() == f.Place.AtLine() || p.KeyPlace.AtLine() == f.Place.AtLine() {
					return &m.reading.Sites[i], p
				}
			}
		}
		return nil, nil
	}
	a := m.answers.Answer(f.Host, f.At)
	if f.Means != "" && !a.Named { // another site's certificate is not for it
		return nil, nil
	}
	if a.Unsure || a.Shown == nil || len(a.Pairs) == 0 || a.Pairs[0].EachTime || a.Pairs[0].AtRunTime {
		return nil, nil
	}
	for i := range a.Pairs {
		if p := &a.Pairs[i]; p.AtLine() == f.Place.AtLine() || p.KeyPlace.AtLine() == f.Place.AtLine() {
			return a.Shown, p
		}
	}
	return a.Shown, &a.Pairs[0]
}

// fitting chooses what a site is to name: the key that fits its certificate, or the
// newest certificate lying there that visitors of all its names can use, with a key.
func (m *mender) fitting(f *install.Fault, site *kind.Site, pair *kind.Pair) (*kind.Wanted, string) {
	w := &kind.Wanted{Site: site.Place, Aside: m.aside(), Addresses: m.order.Addresses, Keep: true,
		Certificate: pair.Certificate}
	if f.By() == check.ByKey {
		leaf := m.leafOf(pair.Certificate)
		if leaf == nil {
			return nil, "the certificate " + pair.Certificate + " cannot be read"
		}
		if w.Key = m.keyOf(leaf, pair.Certificate); w.Key == "" || w.Key == pair.Key {
			return nil, "no key that fits " + pair.Certificate + " lies there"
		}
		return w, ""
	}
	var best *certs.Certificate
	reason := "no certificate that fits " + f.Host + ", with its key, lies there"
	for _, file := range m.material() {
		leaf := m.leafOf(file)
		if leaf == nil || file == pair.Certificate || best != nil && !leaf.NotBefore.After(best.NotBefore) {
			continue
		}
		key := m.keyOf(leaf, file)
		if key == "" || m.order.Fit(f.Host, m.parsed(m.reading.Material[file].Chain)) != nil {
			continue
		}
		if name := m.lost(site, pair, leaf); name != "" {
			reason = fmt.Sprintf("%s is not for %s, which the site has a name for", file, name)
			continue
		}
		best, w.Certificate, w.Key, w.Keep = leaf, file, key, false
	}
	if best == nil {
		return nil, reason
	}
	return w, ""
}

// lost is a host of a site that its certificate is for, and another one is not; "" when
// there is none.
func (m *mender) lost(site *kind.Site, pair *kind.Pair, other *certs.Certificate) string {
	old := m.leafOf(pair.Certificate)
	for _, host := range hostsOf(site) {
		if old != nil && names.Covers(old, host).Covered && !names.Covers(other, host).Covered {
			return host
		}
	}
	return ""
}

// material are the files of certificates and keys, in order.
func (m *mender) material() []string {
	if m.files != nil {
		return m.files
	}
	out := []string{}
	for file := range m.reading.Material {
		if path.IsAbs(file) {
			out = append(out, file)
		}
	}
	slices.Sort(out)
	m.files = out
	return out
}

// leafOf is the first certificate in a file; nil for none.
func (m *mender) leafOf(file string) *certs.Certificate {
	if x := m.reading.Material[file]; x != nil && len(x.Chain) > 0 {
		if list := m.parsed(x.Chain[:1]); len(list) > 0 {
			return list[0]
		}
	}
	return nil
}

// parsed are certificates of the reading.
func (m *mender) parsed(prints []string) []*certs.Certificate {
	out := make([]*certs.Certificate, 0, len(prints))
	for _, p := range prints {
		c, met := m.known[p]
		if !met {
			der := m.reading.Certificates[p]
			if der == nil && m.after != nil { // of a site that is switched on
				der = m.after.Certificates[p]
			}
			c, _ = certs.Parse(der)
			m.known[p] = c
		}
		if c != nil {
			out = append(out, c)
		}
	}
	return out
}

// keyOf is the file of the key that fits a certificate: its own file, one beside it, or
// any other; "" for none.
func (m *mender) keyOf(leaf *certs.Certificate, file string) string {
	public, found := leaf.Public().String(), ""
	if m.reading.Material[file].Public == public {
		return file
	}
	if m.Combined && !m.beside(file, public) {
		return ""
	}
	for _, key := range m.material() {
		if m.reading.Material[key].Public == public && (found == "" || path.Dir(key) == path.Dir(file) &&
			path.Dir(found) != path.Dir(file)) {
			found = key
		}
	}
	return found
}

// beside says whether the key of a file lies beside it, as servers with one file for
// both find it.
func (m *mender) beside(file, public string) bool {
	x := m.reading.Material[file+".key"]
	return x != nil && x.Public == public
}

// aside is where files are kept whose place is taken.
func (m *mender) aside() string {
	return path.Join(path.Dir(m.Main), "insegna", mendingFolder, m.order.Version)
}

// settled is a site whose TLS is to be set for a fault.
type settled struct {
	kind.Settled
	fault *install.Fault
}

// settings sets versions and suites of TLS as BCP 195 has them, over what is changed so
// far.
func (m *mender) settings() error {
	settler, can := m.Editor.(kind.Settler)
	var list []settled
	err := m.each(func(f *install.Fault) error {
		a := m.answers.Answer(f.Host, f.At)
		if !can || a.Unsure || a.Shown == nil || a.Listener == nil || a.Listener.Default >= len(m.reading.Sites) {
			m.leave(f, "what speaks TLS there cannot be told from the configuration",
				"see it: insegna server sites "+m.order.Server)
			return nil
		}
		if f.By() == check.ByStapling {
			if leaf := m.leafOf(firstFile(a.Pairs)); leaf == nil || !asksResponder(leaf) {
				m.leave(f, "the certificate names no responder of its CA that the server could ask", "have one issued that does, or without that demand")
				return nil
			}
		}
		list = append(list, settled{kind.Settled{Site: a.Shown.Place, Listener: a.Listener.Place,
			Default: m.reading.Sites[a.Listener.Default].Place, Versions: f.Code == check.TLSOld, Suites: f.By() == check.BySettings,
			Stapling: f.By() == check.ByStapling}, f})
		return nil
	}, check.BySettings, check.ByStapling)
	if err != nil || len(list) == 0 {
		return err
	}
	return over(m, list, func(before *kind.Edits, list []settled) (*kind.Edits, error) {
		all := make([]kind.Settled, len(list))
		for i, s := range list {
			all[i] = s.Settled
			all[i].Site, all[i].Default = before.Site(s.Site), before.Site(s.Default)
		}
		return settler.Settle(kind.Overlaid(m.shadow, before.Files), m.Main, all)
	}, func(s settled) ([]*install.Fault, []kind.Place, string) {
		if s.Stapling {
			return []*install.Fault{s.fault}, []kind.Place{s.Site}, "have " + s.Site.String() + " send along what the CA says of its certificate"
		}
		what := "suites"
		if s.Versions {
			what = "versions and suites"
		}
		return []*install.Fault{s.fault}, []kind.Place{s.Site, s.Default}, "set the " + what + " of " + s.Site.String() + " as BCP 195 has them"
	})
}

// asksResponder says whether a certificate names a responder of its CA (RFC 6960 section
// 3.1).
func asksResponder(c *certs.Certificate) bool {
	x, err := x509.ParseCertificate(c.Raw)
	return err == nil && len(x.OCSPServer) > 0
}

// firstFile is the certificate file of the first of some pairs; "" for none.
func firstFile(pairs []kind.Pair) string {
	if len(pairs) == 0 {
		return ""
	}
	return pairs[0].Certificate
}

// rewrite writes the lists anew that are sent behind certificates.
func (m *mender) rewrite() error {
	return m.each(func(f *install.Fault) error {
		site, pair := m.shown(f)
		if site == nil {
			m.leave(f, "which file is sent there cannot be told from the configuration",
				"see it: insegna server sites "+m.order.Server)
			return nil
		}
		sent := m.parsed(m.reading.Sent(pair))
		if len(sent) == 0 {
			m.leave(f, "the certificate "+pair.Certificate+" cannot be read", "see what that file is")
			return nil
		}
		list, err := m.order.List(f.Host, sent, m.issuers())
		if err != nil {
			m.leave(f, err.Error(), "get the CA's certificates, and declare them as intermediates in the estate file")
			return nil //nolint:nilerr // told as what is left
		}
		file := pair.Certificate
		if pair.Chain != "" && pair.Chain != pair.Certificate {
			file = pair.Chain
			for _, other := range m.sharing(file, pair.Certificate) {
				m.leave(f, fmt.Sprintf("%s is sent behind %s too, which is another certificate", file, other),
					"give the site a file of its own for what is sent behind its certificate")
				return nil
			}
			list = list[1:]
		}
		return m.write(f, file, list)
	}, check.ByList)
}

// sharing are certificates behind which the same file is sent, other than one.
func (m *mender) sharing(chain, certificate string) (out []string) {
	own := m.leafOf(certificate)
	for i := range m.reading.Sites {
		for _, p := range m.reading.Sites[i].Pairs {
			if leaf := m.leafOf(p.Certificate); p.Chain == chain && p.Certificate != certificate && leaf != nil &&
				own != nil && leaf.Fingerprint != own.Fingerprint {
				out = append(out, p.Certificate)
			}
		}
	}
	return out
}

// issuers are the CAs' certificates that lie on the server.
func (m *mender) issuers() (out []*certs.Certificate) {
	if m.cas == nil {
		m.cas = []*certs.Certificate{}
		for _, der := range m.reading.Certificates {
			if c, err := certs.Parse(der); err == nil && c.IsCA {
				m.cas = append(m.cas, c)
			}
		}
		slices.SortFunc(m.cas, func(a, b *certs.Certificate) int { return bytes.Compare(a.Fingerprint[:], b.Fingerprint[:]) })
	}
	return m.cas
}

// write puts a list in the place of the certificates of a file; whatever else is in it
// stays, such as a key.
func (m *mender) write(f *install.Fault, file string, list []*certs.Certificate) error {
	m.looks[f.Finding] = true
	var fresh strings.Builder
	for _, c := range list {
		fresh.Write(certs.PEM(c.Raw))
	}
	return m.change(f, file, "write the list in "+file, func(text string) string {
		return replaced(text, "CERTIFICATE", fresh.String())
	})
}

// change changes a file of certificates and keys; what several faults want of it is done
// once.
func (m *mender) change(f *install.Fault, file, does string, to func(text string) string) error {
	at, err := kind.Resolved(m.Over.FS(), file)
	if err != nil {
		return err
	}
	if i := slices.IndexFunc(m.edits.Files, func(o install.File) bool { return o.Path == at }); i >= 0 && m.lists[at] {
		m.edits.Files[i].After = to(m.edits.Files[i].After)
		m.does[f.Finding] = does
		return nil
	}
	data, _, err := m.file(at)
	var fault *install.FaultError
	switch {
	case kind.Lost(err):
		return err
	case errors.As(err, &fault):
		m.leave(f, fault.Words, fault.Advice)
		return nil
	case err != nil:
		m.leave(f, file+" cannot be read from here: "+err.Error(), "let the service read it")
		return nil
	case slices.ContainsFunc(m.edits.Files, func(o install.File) bool { return o.Path == at }):
		m.leave(f, at+" is a file of the configuration itself", "put the certificates into a file of their own")
		return nil
	}
	after := to(string(data))
	if after == string(data) {
		m.leave(f, file+" holds that already", "survey the server anew; it may have to be reloaded: insegna finding list --code "+
			string(check.NotReloaded))
		return nil
	}
	m.lists[at] = true
	m.edits.Files = append(m.edits.Files, install.File{Path: at, Before: string(data), After: after})
	m.does[f.Finding] = does
	return nil
}

// replaced is a text in PEM (RFC 7468) whose blocks of a kind are others: in the place of
// the first one stands what comes, the rest goes with the words before each, and
// everything else stays.
func replaced(text, what, fresh string) string {
	var out strings.Builder
	put := false
	for rest := text; rest != ""; {
		lead, block, after := nextBlock(rest)
		switch {
		case block == "":
			out.WriteString(rest)
		case !strings.Contains(strings.SplitN(block, "\n", 2)[0], what): //nolint:mnd // the first line
			out.WriteString(lead + block)
		case !put:
			out.WriteString(lead + fresh)
			put = true
		}
		rest = after
	}
	if !put {
		return fresh + out.String()
	}
	return out.String()
}

// blocksOf are the blocks of a kind in a text.
func blocksOf(text, what string) (out []string) {
	for rest := text; rest != ""; {
		_, block, after := nextBlock(rest)
		if first, _, _ := strings.Cut(block, "\n"); strings.Contains(first, what) {
			out = append(out, block)
		}
		rest = after
	}
	return out
}

// nextBlock cuts a text at its first block in PEM: what stands before it, the block with
// the end of its line, and what follows. No block is left when there is none.
func nextBlock(text string) (lead, block, after string) {
	b, rest := pem.Decode([]byte(text))
	if b == nil {
		return text, "", ""
	}
	end := len(text) - len(rest)
	begin := strings.LastIndex(text[:end], "-----BEGIN ")
	return text[:begin], text[begin:end], text[end:]
}

// modes closes files to others, and gives them to whom the server's other keys belong.
func (m *mender) modes() error {
	closed := map[string]bool{}
	usual := m.reading.KeyOwner()
	return m.each(func(f *install.Fault) error {
		at, err := kind.Resolved(m.Over.FS(), f.Subject)
		if err != nil {
			return err
		}
		before, of, err := m.mode(at)
		switch {
		case err != nil:
			return err
		case !path.IsAbs(f.Subject) || before == 0 && of == "":
			m.leave(f, "the file is not found: "+f.Subject, "survey the server anew")
			return nil
		}
		const others = 0o007
		x := install.Mode{Path: at, Before: before, After: before &^ others}
		var does, notes []string
		stays := ""
		if o := m.ownerOf(f.Subject); o != nil && usual != nil && !o.Is(usual) && !o.Folder {
			can, err := m.root()
			if err != nil {
				return err
			}
			if can {
				x.From, x.To = of, fmt.Sprintf("%d:%d", usual.UID, usual.GID)
				does = append(does, fmt.Sprintf("give %s to %s, whose the other keys are", at, usual))
				notes = append(notes, fmt.Sprintf("%s belongs to %s, who can read it no longer then", at, o))
			} else {
				stays = fmt.Sprintf("; it stays %s's, for only root may give it to %s", o, usual)
			}
		}
		if x.After == before && x.To == "" {
			if stays != "" {
				m.leave(f, "only root may give it to another user, and Insegna is not root there",
					fmt.Sprintf("as root there: chown %s %s", usual, at))
				return nil
			}
			m.leave(f, at+" is closed to others already", "survey the server anew")
			return nil
		}
		if x.After != before {
			does = append(does, fmt.Sprintf("close %s to others: mode %04o", at, x.After))
		}
		if !closed[at] {
			closed[at] = true
			m.out.Plan.Modes, m.out.Notes = append(m.out.Plan.Modes, x), append(m.out.Notes, notes...)
		}
		m.does[f.Finding] = strings.Join(does, ", and ") + stays
		return nil
	}, check.ByMode)
}

// ownerOf is whose a file of the reading is; nil when that is not known.
func (m *mender) ownerOf(file string) *kind.Owner {
	if x := m.reading.Material[file]; x != nil {
		return x.Owner
	}
	return nil
}

// reloads notes what a reload mends.
func (m *mender) reloads() {
	_ = m.each(func(f *install.Fault) error {
		m.does[f.Finding] = "reload the server"
		return nil
	}, check.ByReload)
}

// plan holds everything against the configuration as it will be, and puts it together.
func (m *mender) plan() (*install.Mended, error) {
	var err error
	if m.after, err = m.Reader.Read(kind.Overlaid(kind.Laid(m.Over.FS(), m.edits.Links, nil), m.edits.Files),
		m.Main); err != nil {
		return nil, err
	}
	if !m.quiet() {
		err := m.harm()
		var edit *kind.EditError
		var stopped *install.RefusedError
		if errors.As(err, &edit) {
			stopped = &install.RefusedError{Reason: edit.Error(), Next: edit.Remedy}
		}
		switch {
		case stopped != nil || errors.As(err, &stopped):
			m.stop(stopped)
		case err != nil:
			return nil, err
		}
	}
	m.prove()
	for i := range m.order.Faults {
		if f := &m.order.Faults[i]; m.does[f.Finding] != "" {
			m.out.Mends = append(m.out.Mends, install.Mend{Finding: f.Finding, Code: f.Code, Host: f.Host, Does: m.does[f.Finding]})
		}
	}
	if len(m.out.Mends) == 0 {
		return m.out, nil
	}
	l := &layout{Folder: m.aside(), Only: true, Mends: true, Quiet: m.quiet(), Test: m.Test, Reload: m.Reload,
		Copy: path.Join(path.Dir(m.Main), ".insegna-"+mendingFolder[1:]+".")}
	if m.out.Plan.Own, err = json.Marshal(l); err != nil {
		return nil, err
	}
	m.out.Plan.Where, m.out.Plan.Files, m.out.Plan.Links = m.Main, m.edits.Files, m.edits.Links
	m.out.Plan.Acts = m.acts(l)
	if !m.quiet() {
		for _, b := range m.neighbours(m.wanted, m.edits) {
			m.seenAt(b)
		}
	}
	return m.out, nil
}

// stop leaves all that would have been done to the server for a person.
func (m *mender) stop(why *install.RefusedError) {
	for i := range m.order.Faults {
		f := &m.order.Faults[i]
		if m.does[f.Finding] != "" && f.By() != check.ByMode {
			m.leave(f, why.Reason, why.Next)
		}
	}
	m.edits, m.wanted = &kind.Edits{}, nil
}

// quiet says whether nothing of it is for the running server.
func (m *mender) quiet() bool {
	for finding := range m.does {
		if m.faults[finding].By() != check.ByMode {
			return false
		}
	}
	return true
}

// acts says what is done.
func (m *mender) acts(l *layout) (out []install.Act) {
	for i := range m.edits.Links {
		out = append(out, install.Act{Does: doesOf(&m.edits.Links[i]), What: m.edits.Links[i].String()})
	}
	for _, x := range m.out.Plan.Modes {
		what := fmt.Sprintf("%s: mode %04o → %04o", x.Path, x.Before, x.After)
		if x.Before == x.After {
			what = x.Path + ":"
		}
		if x.To != "" {
			what += " owner " + x.From + " → " + x.To
		}
		out = append(out, install.Act{Does: "close", What: what})
	}
	out = append(out, install.Act{Does: "test", What: l.Test})
	if m.order.Rehearsal || l.Quiet {
		return out
	}
	return append(out, install.Act{Does: "reload", What: l.Reload})
}

// harm refuses a plan that takes something from others, or that the server would not
// outlive.
func (m *mender) harm() error {
	if bad := m.after.Ends(); bad != nil && m.Lenient {
		return &install.RefusedError{Reason: "a reload would end the server, although its own test passes: " + bad.Error(),
			Next: "mend that with it, or first"}
	}
	told := map[string]int{}
	for i := range m.reading.Problems {
		p := &m.reading.Problems[i]
		told[string(p.Effect)+" "+p.Message]++
	}
	for i := range m.after.Problems {
		p := &m.after.Problems[i]
		key := string(p.Effect) + " " + p.Message
		if told[key]--; told[key] < 0 && !slices.Contains(m.order.Agreed, p.Error()) {
			return &install.RefusedError{Reason: "it would make another finding: " + p.Error(),
				Next: "mend that first, or leave out what makes it"}
		}
	}
	if len(m.edits.Files)+len(m.edits.Links) == 0 {
		return nil
	}
	return m.touched(m.edits, m.wanted)
}

// prove takes out what would not mend its fault, and notes where the others are to be
// seen.
func (m *mender) prove() {
	answers := m.Reader.Answers(m.after)
	for i := range m.order.Faults {
		f := &m.order.Faults[i]
		if m.does[f.Finding] == "" || !f.At.IsValid() {
			continue
		}
		if f.By() == check.ByPledge {
			m.provePledge(answers, f)
			continue
		}
		if by := f.By(); by == check.ByLead || by == check.ByPath {
			m.provePlain(answers, f)
			continue
		}
		a := answers.Answer(f.Host, f.At)
		if a.Listener == nil || !a.Listener.TLS || len(a.Pairs) == 0 {
			m.inVain(f, fmt.Sprintf("no line of the configuration has TLS answer at %s for %s", f.At, orHost(f.Host)),
				"which site is to answer there is for a person to say")
			continue
		}
		b := install.Binding{Host: f.Host, At: f.At, Whole: m.looks[f.Finding], Stapled: f.By() == check.ByStapling}
		for n := range a.Pairs {
			sent := m.after.Sent(&a.Pairs[n])
			if len(sent) == 0 {
				continue
			}
			if !b.Whole {
				sent = sent[:1]
			}
			if b.Stapled {
				sent = []string{sent[0], "stapled"}
			}
			b.Wants = append(b.Wants, strings.Join(sent, " "))
		}
		if len(b.Wants) == 0 {
			m.inVain(f, "the certificate "+a.Pairs[0].Certificate+" that would be shown cannot be read", "let the service read it")
			continue
		}
		if by := f.By(); by == check.BySwitch || by == check.ByOpening || by == check.ByReload && f.Host != "" {
			if err := m.order.Fit(f.Host, m.parsed(m.after.Sent(&a.Pairs[0]))); err != nil {
				m.inVain(f, fmt.Sprintf("%s would be shown, and does not fit: %v", a.Pairs[0].Certificate, err),
					"put a certificate that fits there first")
				continue
			}
		}
		m.seenAt(b)
	}
}

// inVain leaves a fault that what was worked out for it would not mend.
func (m *mender) inVain(f *install.Fault, reason, next string) {
	m.vain[f.Finding] = true
	m.leave(f, reason, next)
}

// seenAt notes a binding to look at; one that is looked at already is looked at for
// the whole list when one of its faults is about that.
func (m *mender) seenAt(b install.Binding) {
	list := &m.out.Bindings
	i := slices.IndexFunc(*list, func(o install.Binding) bool { return o.Host == b.Host && o.At == b.At })
	switch {
	case i < 0 && len(*list) < mostBindings:
		*list = append(*list, b)
	case i >= 0 && (b.Whole || b.Stapled) && !b.Neighbour:
		(*list)[i] = b
	}
}
