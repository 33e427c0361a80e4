package httpd

import (
	"io/fs"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"insegna.example/internal/kind"
)

// Lead implements kind.Leader. A redirect for the time being that nobody else comes to is
// made permanent where it stands; else rewrite rules of the virtual host, before all
// others, lead those on who ask for these hosts.
func (editing) Lead(fsys fs.FS, main string, list []kind.Led) (*kind.Edits, error) {
	e, err := newEditor(fsys, main)
	if err != nil {
		return nil, err
	}
	var rest []kind.Led
	for _, w := range list {
		if !e.corrected(w) {
			rest = append(rest, w)
		}
	}
	if len(rest) == 0 {
		return e.edits(nil)
	}
	fresh, links, err := e.switchedOn(fsys, main, "rewrite")
	if err != nil {
		return nil, err
	}
	if fresh != e { // what was corrected is corrected there
		for _, w := range list {
			fresh.corrected(w)
		}
	}
	for _, w := range rest {
		if err := fresh.lead(w); err != nil {
			return nil, err
		}
	}
	return fresh.edits(links)
}

// lead writes the rules into a virtual host.
func (e *editor) lead(w kind.Led) error {
	to := "https://%1"
	const usual = 443
	if w.Port != usual {
		to += ":" + strconv.Itoa(int(w.Port))
	}
	byHand := "write by hand, into the virtual host: Redirect permanent / " + strings.Replace(to, "%1", w.Hosts[0], 1) + "/"
	at := slices.IndexFunc(e.top, func(d *Directive) bool { return d.Name == "virtualhost" && d.Place == w.Site })
	if at < 0 {
		return no(w.Site, byHand, "the main server answers there, whose lines count for every virtual host")
	}
	d := e.top[at]
	on, err := e.rewrites(d, byHand)
	if err != nil {
		return err
	}
	var hosts []string
	for _, h := range w.Hosts {
		hosts = append(hosts, regexp.QuoteMeta(h))
	}
	outer, _ := e.within(d)
	lines := []string{outer + "# Visitors are led to https, but for what a CA asks for as proof of these names."}
	if !on {
		lines = append(lines, outer+"RewriteEngine On")
	}
	lines = append(lines, outer+"RewriteCond %{HTTPS} off",
		outer+"RewriteCond %{REQUEST_URI} !^"+strings.ReplaceAll(wellKnown, ".", `\.`), hostCondition(outer, hosts),
		outer+"RewriteRule ^ "+to+"%{REQUEST_URI} [R=301,END]")
	open := e.opened(d)
	e.change(d.node, change{open + 1, open, lines})
	return nil
}

// redirectWords are the ways of saying that a redirect is for the time being.
var (
	temporaryStatus = regexp.MustCompile(`(?i)^(temp|seeother|302|303|307)$`)
	temporaryFlag   = regexp.MustCompile(`(?i)\b(R|redirect)(=(temp|seeother|302|303|307))?(\s*[,\]])`)
)

// corrected makes a redirect permanent where it stands; false where that is not done.
func (e *editor) corrected(w kind.Led) bool {
	d := e.lineAt(w.Line)
	if d == nil || w.Loses || e.editable(no, d) != nil || d.node.line != d.node.last {
		return false
	}
	line := e.lineOf(d.node, d.node.line)
	words := strings.Fields(line)
	switch {
	case d.Name == "redirecttemp":
		line = strings.Replace(line, words[0], "RedirectPermanent", 1)
	case (d.Name == "redirect" || d.Name == "redirectmatch") && temporaryStatus.MatchString(d.Arg(0)):
		line = strings.Replace(line, words[0], "\x00", 1)
		line = strings.Replace(strings.Replace(line, words[1], "permanent", 1), "\x00", words[0], 1)
	case (d.Name == "redirect" || d.Name == "redirectmatch") && redirectStatus(d.Arg(0)) == 0:
		line = strings.Replace(line, words[0], words[0]+" permanent", 1)
	case d.Name == "rewriterule" && temporaryFlag.MatchString(d.Arg(2)):
		end := strings.LastIndexByte(line, '[')
		line = line[:end] + temporaryFlag.ReplaceAllString(line[end:], "${1}=301$4")
	case d.Name == "rewriterule" && len(d.Args) == 2:
		line = strings.TrimRight(line, " \t\r") + " [R=301]"
	default:
		return false
	}
	e.change(d.node, change{d.node.line, d.node.line, []string{strings.TrimSuffix(line, "\r")}})
	return true
}

// lineAt finds the directive at a place, in force.
func (e *editor) lineAt(at kind.Place) *Directive {
	var find func(list []*Directive) *Directive
	find = func(list []*Directive) *Directive {
		for _, d := range list {
			if d.Place == at && !d.Section {
				return d
			}
			if found := find(d.Block); found != nil {
				return found
			}
		}
		return nil
	}
	if !at.Known() {
		return nil
	}
	return find(e.top)
}
