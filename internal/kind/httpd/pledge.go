package httpd

import (
	"io/fs"
	"regexp"
	"slices"
	"strings"

	"insegna.example/internal/kind"
)

// Pledge implements kind.Pledger: a line of mod_headers in the virtual host.
func (editing) Pledge(fsys fs.FS, main string, list []kind.Pledged) (*kind.Edits, error) {
	e, err := newEditor(fsys, main)
	if err != nil {
		return nil, err
	}
	e, links, err := e.switchedOn(fsys, main, "headers")
	if err != nil {
		return nil, err
	}
	for i := range list {
		if err := e.pledge(&list[i]); err != nil {
			return nil, err
		}
	}
	return e.edits(links)
}

// pledge changes one virtual host.
func (e *editor) pledge(w *kind.Pledged) error {
	byHand := "write into it by hand: Header always set " + kind.StrictTransport + " " + w.Value()
	i := slices.IndexFunc(e.top, func(d *Directive) bool { return d.Name == "virtualhost" && d.Place == w.Site })
	if i < 0 {
		return no(w.Site, byHand, "the main server answers there, whose lines count for every virtual host")
	}
	d := e.top[i]
	if err := e.editable(no, d); err != nil {
		return err
	}
	if !e.hasModule("headers_module") {
		return no(d.Place, "switch it on: a2enmod headers, and restart the server; or "+byHand, "mod_headers is not loaded")
	}
	var hosts []string
	for _, h := range w.Hosts {
		hosts = append(hosts, regexp.QuoteMeta(h))
	}
	line := "Header always set " + kind.StrictTransport + " " + w.Value() + ` "expr=%{HTTPS} == 'on' && %{HTTP_HOST} =~ m#^(` +
		strings.Join(hosts, "|") + `)\.?(:[0-9]+)?$#i"`
	var sent *Directive
	for _, o := range append(slices.Clone(e.top), d.Block...) {
		if o.Name == "header" && strings.Contains(strings.ToLower(o.Raw), strings.ToLower(kind.StrictTransport)) {
			sent = o
		}
	}
	switch {
	case sent != nil && slices.Contains(d.Block, sent) && strings.Contains(sent.Raw, "expr=%{HTTPS} == 'on' && %{HTTP_HOST}"):
		if err := e.editable(no, sent); err != nil {
			return err
		}
		n := sent.node
		e.change(n, change{n.line, n.last, []string{indentOf(e.lineOf(n, n.line)) + line}})
		return nil
	case sent != nil:
		return no(sent.Place, "change that line by hand", "the header is set already")
	}
	e.add(d, nil, []string{"# Browsers that have come to these names over TLS come over TLS alone from then on.", line})
	return nil
}
