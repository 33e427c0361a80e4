package estate

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"insegna.example/internal/core/names"
)

// Group is hosts that belong together, for lists, rules and the schedule.
type Group struct {
	Name  string         // by which hosts refer to it
	Owner string         // of its hosts that name none; "" for the estate's
	Every *time.Duration // how often its hosts are looked at, 0 for never; nil as the estate has it
	Place Place          // in the estate file
}

// Owner is who is told of what is wrong: a team or a person.
type Owner struct {
	Name    string   // by which hosts, groups and servers refer to it
	Mail    []string // addresses
	Webhook *Webhook // nil for none
	Place   Place    // in the estate file
}

// Webhook is an address of a program that is told.
type Webhook struct {
	Address string // http or https
	Secret  string // credential its messages are signed with
	Roots   []string
	Anchors Anchors // what an https address is trusted by; none for the system's
}

// Belongs is what a host or server belongs to.
type Belongs struct {
	Group string   // "" for none
	Owner string   // "" for nobody
	Tags  []string // in the order of the file
}

// Shown is the address as it may be shown: what follows a question mark, or the last part of
// the path where it is long, may be a secret.
func (w *Webhook) Shown() string {
	text, _, _ := strings.Cut(w.Address, "?")
	if at := strings.LastIndexByte(text, '/'); len(text)-at > 24 && at > len("https://") {
		text = text[:at+1] + "…"
	}
	return text
}

// Among picks by what things belong to; each list that is not empty has to hold it.
type Among struct {
	Groups, Owners, Tags []string
}

// Any says that nothing is asked for.
func (a *Among) Any() bool { return len(a.Groups)+len(a.Owners)+len(a.Tags) == 0 }

// Fits says whether something is among what is asked for: of one of the groups, of one of
// the owners, with one of the tags.
func (a *Among) Fits(b Belongs) bool {
	return (len(a.Groups) == 0 || slices.Contains(a.Groups, b.Group)) &&
		(len(a.Owners) == 0 || slices.Contains(a.Owners, b.Owner)) &&
		(len(a.Tags) == 0 || slices.ContainsFunc(b.Tags, func(t string) bool { return slices.Contains(a.Tags, t) }))
}

// String writes what is asked for in words.
func (a *Among) String() string {
	var list []string
	for _, part := range []struct {
		what  string
		names []string
	}{{"groups", a.Groups}, {"owners", a.Owners}, {"tags", a.Tags}} {
		if len(part.names) > 0 {
			list = append(list, part.what+" "+strings.Join(part.names, ", "))
		}
	}
	return strings.Join(list, "; ")
}

// Group finds a group by name; nil when it is not declared.
func (e *Estate) Group(name string) *Group {
	at := slices.IndexFunc(e.Groups, func(g Group) bool { return g.Name == name })
	if at < 0 {
		return nil
	}
	return &e.Groups[at]
}

// OwnerNamed finds an owner by name; nil when he is not declared.
func (e *Estate) OwnerNamed(name string) *Owner {
	at := slices.IndexFunc(e.Owners, func(o Owner) bool { return o.Name == name })
	if at < 0 {
		return nil
	}
	return &e.Owners[at]
}

// Tags are those of its hosts, each once, in order.
func (e *Estate) Tags() []string {
	var list []string
	for i := range e.Hosts {
		list = append(list, e.Hosts[i].Tags...)
	}
	slices.Sort(list)
	return slices.Compact(list)
}

// OfHost is what a host belongs to: its own owner, or its group's, or the estate's.
func (e *Estate) OfHost(h *Host) Belongs {
	b := Belongs{Group: h.Group, Owner: h.Owner, Tags: h.Tags}
	if g := e.Group(h.Group); g != nil && b.Owner == "" {
		b.Owner = g.Owner
	}
	if b.Owner == "" {
		b.Owner = e.Owner
	}
	return b
}

// OfServer is what a server as a whole belongs to.
func (e *Estate) OfServer(s *Server) Belongs {
	if s.Owner == "" {
		return Belongs{Owner: e.Owner}
	}
	return Belongs{Owner: s.Owner}
}

// Theirs picks what is an owner's; what is nobody's is the estate's.
func (e *Estate) Theirs(owner string) Among {
	if owner == e.Owner {
		return Among{Owners: []string{owner, ""}}
	}
	return Among{Owners: []string{owner}}
}

// label reads a name of a group, an owner or a tag.
func (r *reader) label(n *yaml.Node, what string) string {
	expected := "a short name of letters, digits, dots, hyphens and underscores"
	name, ok := r.text(n, expected)
	if ok && !serverName.MatchString(name) {
		r.fault(r.place(n), expected, "%s name %q", what, clip(name))
	}
	return name
}

// labels reads a list of names, each once.
func (r *reader) labels(into *[]string, what string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		r.list(n, "a list of "+what+"s", func(n *yaml.Node) {
			name := r.label(n, what)
			if slices.Contains(*into, name) {
				r.fault(r.place(n), "each once", "%s %q stands twice", what, clip(name))
				return
			}
			*into = append(*into, name)
		})
	}
}

// among are the keys that pick by what things belong to.
func (r *reader) among(into *Among) []field {
	return []field{
		{"groups", false, r.labels(&into.Groups, "group")},
		{"owners", false, r.labels(&into.Owners, "owner")},
		{"tags", false, r.labels(&into.Tags, "tag")},
	}
}

// group reads a group.
func (r *reader) group(n *yaml.Node) {
	g := Group{Place: r.place(n)}
	r.fields(n, "a group",
		field{"name", true, func(n *yaml.Node) { g.Name = r.label(n, "group") }},
		field{"owner", false, func(n *yaml.Node) { g.Owner = r.label(n, "owner") }},
		field{"schedule", false, func(n *yaml.Node) { r.ownSchedule(n, &g.Every) }},
	)
	r.estate.Groups = append(r.estate.Groups, g)
}

// owner reads who is told.
func (r *reader) owner(n *yaml.Node) {
	o := Owner{Place: r.place(n)}
	r.fields(n, "an owner",
		field{"name", true, func(n *yaml.Node) { o.Name = r.label(n, "owner") }},
		field{"mail", false, func(n *yaml.Node) {
			r.list(n, "a list of mail addresses", func(n *yaml.Node) { o.Mail = append(o.Mail, r.mailAddress(n)) })
		}},
		field{"webhook", false, func(n *yaml.Node) { o.Webhook = r.webhook(n) }},
	)
	r.estate.Owners = append(r.estate.Owners, o)
}

// mailLocal is what stands before the @: atoms with dots between them (RFC 5322, section 3.2.3).
var mailLocal = regexp.MustCompile("^[\\w!#$%&'*+/=?^`{|}~-]+(\\.[\\w!#$%&'*+/=?^`{|}~-]+)*$")

// mailAddress reads a bare address (RFC 5322, section 3.4.1): no name, no comment, no line end.
func (r *reader) mailAddress(n *yaml.Node) string {
	const expected = "a mail address such as operations@lanterncoast.example"
	text, ok := r.text(n, expected)
	if !ok {
		return ""
	}
	local, domain, _ := strings.Cut(text, "@")
	if _, err := names.Host(domain); err != nil || !mailLocal.MatchString(local) {
		r.fault(r.place(n), expected, "bad mail address %q", clip(text))
	}
	return text
}

// webhookAddress is what a webhook may be; a name and passphrase in it would be shown.
var webhookAddress = regexp.MustCompile(`^https?://[^\s/?#@]+(/[^\s#]*)?$`)

// webhook reads an address programs are told at.
func (r *reader) webhook(n *yaml.Node) *Webhook {
	var w Webhook
	r.fields(n, "a webhook",
		field{"address", true, func(n *yaml.Node) {
			const expected = "an address such as https://hooks.lanterncoast.example/insegna, without a name or passphrase in it"
			var ok bool
			if w.Address, ok = r.text(n, expected); ok && (!webhookAddress.MatchString(w.Address) || len(w.Address) > 2000) {
				r.fault(r.place(n), expected, "bad address %q", clip(w.Address))
			}
		}},
		field{"secret", true, func(n *yaml.Node) { w.Secret, _ = r.text(n, "the name of a credential of kind secret in the safe") }},
		field{"roots", false, func(n *yaml.Node) { w.Roots, w.Anchors = r.roots(n) }},
	)
	return &w
}

// resolveBelonging checks the groups and owners that are named.
func (r *reader) resolveBelonging() {
	e := r.estate
	groups := r.once("group", len(e.Groups), func(i int) (string, Place) { return e.Groups[i].Name, e.Groups[i].Place })
	owners := r.once("owner", len(e.Owners), func(i int) (string, Place) { return e.Owners[i].Name, e.Owners[i].Place })
	owner := func(at Place, what, name string) {
		if _, ok := owners[name]; !ok && name != "" {
			r.fault(at, oneOfListed(owners, "an owner declared under owners"), "%s has an unknown owner %q", what, clip(name))
		}
	}
	owner(Place{File: r.file, Line: 1, Column: 1}, "the estate", e.Owner)
	for i := range e.Groups {
		owner(e.Groups[i].Place, "group "+e.Groups[i].Name, e.Groups[i].Owner)
	}
	for i := range e.Servers {
		owner(e.Servers[i].Place, "server "+e.Servers[i].Name, e.Servers[i].Owner)
	}
	for i := range e.Hosts {
		h := &e.Hosts[i]
		owner(h.Place, "host "+h.Name, h.Owner)
		if _, ok := groups[h.Group]; !ok && h.Group != "" {
			r.fault(h.Place, oneOfListed(groups, "a group declared under groups"), "host %s is in an unknown group %q", h.Name, clip(h.Group))
		}
	}
	if r.alone {
		return
	}
	for i := range e.Mending {
		r.resolveAmong(e.Mending[i].Place, &e.Mending[i].Among)
	}
}

// resolveAmong checks what a rule asks for, so that none waits for ever.
func (r *reader) resolveAmong(at Place, a *Among) {
	e := r.estate
	for _, name := range a.Groups {
		if e.Group(name) == nil {
			r.fault(at, "groups of this file", "no group %q is declared", clip(name))
		}
	}
	for _, name := range a.Owners {
		if e.OwnerNamed(name) == nil {
			r.fault(at, "owners of this file", "no owner %q is declared", clip(name))
		}
	}
	for _, name := range a.Tags {
		if !slices.ContainsFunc(e.Hosts, func(h Host) bool { return slices.Contains(h.Tags, name) }) {
			r.fault(at, "tags of this file's hosts", "no host has the tag %q", clip(name))
		}
	}
}

// oneOfListed says what there is to choose from, or where it would stand.
func oneOfListed(index map[string]int, where string) string {
	if len(index) == 0 {
		return where
	}
	return "one of " + listed(index)
}

// groupItem tells what is declared of a group.
func groupItem(g Group) item {
	return item{g.Name, g.Place, [][2]string{{"owner", g.Owner}, {"schedule", everyText(g.Every)}}}
}

// ownerItem tells how an owner is reached.
func ownerItem(o Owner) item {
	hook, by := "", ""
	if o.Webhook != nil {
		hook, by = o.Webhook.Address, fmt.Sprintf("credential %s, roots %s", o.Webhook.Secret, orNone(o.Webhook.Anchors.text()))
	}
	return item{o.Name, o.Place, [][2]string{{"mail", strings.Join(o.Mail, ", ")}, {"webhook", hook}, {"webhook's", by}}}
}
