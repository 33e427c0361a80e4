package nginx

import (
	"fmt"
	"io/fs"
	"regexp"
	"slices"
	"strings"

	"insegna.example/internal/kind"
)

// proofVariable is what the rule that frees the path of http-01 goes by.
const proofVariable = "$insegna_proof"

// Free works out the edits that let sites serve the files of http-01 for some
// hosts. A rule of the site itself, before all that could end a request, leads
// just these requests to a location of their own: neither a redirect of the whole
// site, nor a location that denies or passes on, nor a password stands before it.
func Free(fsys fs.FS, main string, list []kind.Freed) (*kind.Edits, error) {
	e, err := newEditor(fsys, main)
	if err != nil {
		return nil, err
	}
	for _, w := range list {
		if err := e.free(w); err != nil {
			return nil, err
		}
	}
	return e.edits()
}

// free changes one site.
func (e *editor) free(w kind.Freed) error {
	no := func(at kind.Place, remedy, reason string) error {
		return &kind.EditError{Place: at, Reason: reason, Remedy: remedy}
	}
	const byHand = "write the location by hand, before every other rule"
	d, around, _ := e.find(w.Site)
	switch {
	case d == nil || len(around) == 0:
		return no(w.Site, byHand, "the site's block is not found in its file")
	case d.Close.Raw == "" || len(d.File.Problems) > 0:
		return no(d.Place(), "mend the file first", "the file cannot be read to its end")
	case e.used[d.File] > 1:
		return no(d.Place(), byHand, fmt.Sprintf("the file %s is included more than once", d.File.Path))
	case slices.ContainsFunc(d.Block, func(c *Directive) bool {
		return c.Name() == "location" && slices.ContainsFunc(c.Args(), func(w Word) bool { return w.Text == ownProofs })
	}):
		return no(d.Place(), byHand, "the site has been prepared already, and the path is not served all the same")
	}
	var hosts []string
	for _, h := range w.Hosts {
		hosts = append(hosts, regexp.QuoteMeta(h))
	}
	outer, unit := indents(d)
	block := func(head string, lines ...string) string {
		return head + " {\n" + outer + unit + unit + strings.Join(lines, "\n"+outer+unit+unit) + "\n" + outer + unit + "}"
	}
	inside := []string{"internal;"}
	all := append(slices.Clone(around), d)
	for _, open := range [][2]string{{"auth_basic", "auth_basic off;"}, {"auth_request", "auth_request off;"},
		{"deny", "allow all;"}, {"allow", "allow all;"}} {
		if e.declared(open[0], all) && !slices.Contains(inside, open[1]) {
			inside = append(inside, open[1])
		}
	}
	inside = append(inside, "alias "+quoteWord(strings.TrimSuffix(w.Proofs, "/")+"/")+";")
	e.touch(d.File)
	lines := []string{"# What a CA asks for as proof of these names is served before all other rules.",
		"set " + proofVariable + " $http_host$uri;"}
	for _, part := range alternatives(hosts) {
		lines = append(lines, block("if ("+proofVariable+" ~* ^("+part+`)\.?(:[0-9]+)?`+strings.ReplaceAll(wellKnown, ".", `\.`)+")",
			"rewrite ^ "+strings.TrimSuffix(ownProofs, "/")+"$uri last;"))
	}
	e.insert(d, firstPlace(d), append(lines, block("location ^~ "+ownProofs, inside...))...)
	return nil
}
