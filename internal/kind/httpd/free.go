package httpd

import (
	"io/fs"
	"regexp"
	"slices"
	"strings"

	"insegna.example/internal/kind"
)

// wellKnown is where a CA asks for files (RFC 8555 section 8.3).
const wellKnown = "/.well-known/acme-challenge/"

// Free works out the edits that let virtual hosts serve the files of http-01 for some
// hosts. A rule of the virtual host itself, before all others, leads just these
// requests to the folder of the files, which is open: it counts before redirects,
// aliases and what is passed on.
func Free(fsys fs.FS, main string, list []kind.Freed) (*kind.Edits, error) {
	e, err := newEditor(fsys, main)
	if err != nil {
		return nil, err
	}
	e, links, err := e.switchedOn(fsys, main, "rewrite")
	if err != nil {
		return nil, err
	}
	for _, w := range list {
		if err := e.free(w); err != nil {
			return nil, err
		}
	}
	return e.edits(links)
}

// free changes one virtual host.
func (e *editor) free(w kind.Freed) error {
	byHand := "add before every other rule: Alias " + wellKnown + " " + quoted(w.Proofs+wellKnown) +
		", and take the path out of redirects and of what is passed on"
	at := slices.IndexFunc(e.top, func(d *Directive) bool { return d.Name == "virtualhost" && d.Place == w.Site })
	if at < 0 {
		return no(w.Site, byHand, "the main server answers there, whose lines count for every virtual host")
	}
	d := e.top[at]
	on, err := e.rewrites(d, byHand)
	if err != nil {
		return err
	}
	if slices.ContainsFunc(d.Block, func(o *Directive) bool {
		return o.Name == "rewriterule" && strings.Contains(o.Raw, w.Proofs)
	}) {
		return no(d.Place, byHand, "the virtual host has been prepared already, and the path is not served all the same")
	}
	var hosts []string
	for _, h := range w.Hosts {
		hosts = append(hosts, regexp.QuoteMeta(h))
	}
	outer, inner := e.within(d)
	first := []string{outer + "# What a CA asks for as proof of these names is served before all other rules."}
	if !on {
		first = append(first, outer+"RewriteEngine On")
	}
	first = append(first, proofRules(outer, hosts, w.Proofs)...)
	open := e.opened(d)
	e.change(d.node, change{open + 1, open, first})
	e.change(d.node, change{d.node.last, d.node.last - 1, opens(outer, inner, w.Proofs)})
	return nil
}

// rewrites says whether a virtual host has its rewrite rules switched on, or why none
// can be added before them.
func (e *editor) rewrites(d *Directive, byHand string) (on bool, err error) {
	if err := e.editable(no, d); err != nil {
		return false, err
	}
	rules := false
	for _, o := range append(slices.Clone(e.top), d.Block...) {
		if o.Name == "rewriteengine" { // the virtual host's own comes last
			on = strings.EqualFold(o.Arg(0), "on")
		}
	}
	for _, o := range d.Block {
		rules = rules || o.Name == "rewriterule"
	}
	switch {
	case !e.hasModule("rewrite_module"):
		return false, no(d.Place, "switch mod_rewrite on (a2enmod rewrite) and reload; or "+byHand,
			"mod_rewrite is not loaded")
	case rules && !on:
		return false, no(d.Place, byHand, "the virtual host has rewrite rules that are switched off")
	}
	return on, nil
}

// opened is the last line of the opening of a section.
func (e *editor) opened(d *Directive) int {
	open := d.node.line
	for strings.HasSuffix(strings.TrimSuffix(e.lineOf(d.node, open), "\r"), `\`) { // one that is continued
		open++
	}
	return open
}

// hostCondition holds for some hosts, which are expressions, however their port is
// written; %1 is the host then.
func hostCondition(outer string, hosts []string) string {
	return outer + "RewriteCond %{HTTP_HOST} ^(" + strings.Join(hosts, "|") + `)\.?(:[0-9]+)?$ [NC]`
}

// proofRules are the lines that lead to the files of http-01.
func proofRules(outer string, hosts []string, proofs string) []string {
	return []string{hostCondition(outer, hosts),
		outer + "RewriteRule ^" + strings.ReplaceAll(wellKnown, ".", `\.`) + "([^/]+)$ " + quoted(proofs+wellKnown+"$1") + " [END]"}
}

// opens are the lines that let everybody read these files.
func opens(outer, inner, proofs string) []string {
	return []string{outer + "<Directory " + quoted(proofs+strings.TrimSuffix(wellKnown, "/")) + ">", inner +
		"AllowOverride None",
		inner + "Options None", inner + "Require all granted", outer + "</Directory>"}
}
