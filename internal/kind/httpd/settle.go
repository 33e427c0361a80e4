package httpd

import (
	"io/fs"
	"slices"
	"strings"

	"insegna.example/internal/kind"
)

// Settle implements kind.Settler. The versions of TLS are set in the site and in the one
// that answers when none is named, for older clients name none.
func (editing) Settle(fsys fs.FS, main string, list []kind.Settled) (*kind.Edits, error) {
	e, err := newEditor(fsys, main)
	if err != nil {
		return nil, err
	}
	set := map[*Directive]bool{}
	for _, s := range list {
		if s.Versions {
			for _, at := range slices.Compact([]kind.Place{s.Default, s.Site}) {
				if err := e.set(set, at, "SSLProtocol", "-all +TLSv1.2 +TLSv1.3"); err != nil {
					return nil, err
				}
			}
		}
		if s.Suites {
			if err := e.set(set, s.Site, "SSLCipherSuite", kind.Suites); err != nil {
				return nil, err
			}
		}
		if s.Stapling {
			if err := e.staple(set, s.Site); err != nil {
				return nil, err
			}
		}
	}
	return e.edits(nil)
}

// staple switches stapling on in a virtual host, and gives the server a cache for it where
// it has none.
func (e *editor) staple(done map[*Directive]bool, site kind.Place) error {
	if err := e.set(done, site, "SSLUseStapling", "On"); err != nil {
		return err
	}
	if slices.ContainsFunc(e.top, func(d *Directive) bool { return d.Name == "sslstaplingcache" }) {
		return nil
	}
	const cache = "SSLStaplingCache shmcb:insegna-stapling(65536)"
	if !e.hasModule("socache_shmcb_module") {
		return no(site, "switch it on: a2enmod socache_shmcb, and declare outside of virtual hosts: "+cache,
			"mod_socache_shmcb is not loaded, which keeps what the CA says")
	}
	for d := range done {
		if d.Name == cache {
			return nil
		}
	}
	i := slices.IndexFunc(e.top, func(d *Directive) bool { return d.Name == "virtualhost" && d.Place == site })
	n := e.top[i].node
	done[&Directive{Name: cache}] = true
	e.change(n, change{n.line, n.line - 1, []string{indentOf(e.lineOf(n, n.line)) + cache}})
	return nil
}

// set writes a directive into a virtual host, in the place of the last one of its name.
func (e *editor) set(done map[*Directive]bool, site kind.Place, name, words string) error {
	i := slices.IndexFunc(e.top, func(d *Directive) bool { return d.Name == "virtualhost" && d.Place == site })
	switch {
	case i < 0:
		return no(site, "give the names a virtual host of their own, with "+name+" "+words,
			"the main server answers there, whose lines count for every virtual host")
	case e.top[i].Macro:
		return no(site, "write into the macro by hand: "+name+" "+words, "the virtual host comes out of a macro")
	}
	d := e.top[i]
	if err := e.editable(no, d); err != nil {
		return err
	}
	var last *Directive
	for _, o := range d.Block {
		if o.Name == strings.ToLower(name) && (len(o.Args) == 1 || name == "SSLProtocol" || !strings.EqualFold(o.Args[0], "TLSv1.3")) {
			last = o
		}
	}
	switch {
	case last == nil:
		key := &Directive{Name: name, node: d.node}
		for done := range done {
			if done.Name == name && done.node == d.node {
				return nil
			}
		}
		done[key] = true
		e.add(d, nil, []string{name + " " + words})
		return nil
	case done[last]:
		return nil
	}
	if err := e.editable(no, last); err != nil {
		return err
	}
	done[last] = true
	n := last.node
	e.change(n, change{n.line, n.last, []string{indentOf(e.lineOf(n, n.line)) + n.name + " " + words}})
	return nil
}
