package estate

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Change is one difference between two states of an estate.
type Change struct {
	Is     string   // "new", "changed" or "gone"
	Kind   string   // "audience", "server", "host", "CA", "mandate" or "intermediates"
	Name   string   // of the object
	Place  Place    // where it is declared; for one that is gone, where it was
	Fields []string // for a change, each field with its old and new value
}

// Diff lists what has to change to come from one estate to the other, in a
// stable order. A nil from means everything is new.
func Diff(from, to *Estate) []Change {
	if from == nil {
		from = &Estate{}
	}
	var out []Change
	out = diff(out, "audience", from.Audiences, to.Audiences, audienceItem)
	out = diff(out, "server", from.Servers, to.Servers, serverItem)
	out = diff(out, "host", from.Hosts, to.Hosts, hostItem)
	out = diff(out, "CA", from.CAs, to.CAs, caItem)
	out = diff(out, "mandate", from.Mandates, to.Mandates, mandateItem)
	out = diff(out, "schedule", declaredSchedule(from), declaredSchedule(to), scheduleItem)
	out = diff(out, "owner", from.Owners, to.Owners, ownerItem)
	out = diff(out, "group", from.Groups, to.Groups, groupItem)
	out = diff(out, "owner", declaredOwner(from), declaredOwner(to), func(name string) item {
		return item{name: "of what names none", fields: [][2]string{{"owner", name}}}
	})
	out = diff(out, "notices", declaredNotices(from), declaredNotices(to), noticesItem)
	out = diff(out, "mending by itself", from.Mending, to.Mending, mendingItem)
	return diff(out, "intermediates", intermediateSet(from), intermediateSet(to), func(s []string) item {
		return item{name: "known intermediates", fields: [][2]string{{"certificates", strings.Join(s, ", ")}}}
	})
}

// item is anything an estate declares, as text, so that one comparison serves
// all kinds of it.
type item struct {
	name   string      // by which both sides are matched
	place  Place       // in the file it stands in
	fields [][2]string // name and value as text
}

// audienceItem tells a root by name and the beginning of its fingerprint: a
// renewed root keeps its name.
func audienceItem(a Audience) item {
	prints := make([]string, len(a.Anchors))
	for i, c := range a.Anchors {
		prints[i] = c.CommonName() + " " + c.Fingerprint.String()[:12]
	}
	slices.Sort(prints)
	return item{a.Name, a.Place, [][2]string{{"public", fmt.Sprint(a.Public)}, {"roots", strings.Join(prints, ", ")}}}
}

// serverItem tells everything about a server that changes what is looked at or
// done there.
func serverItem(s Server) item {
	all := ""
	if s.AllHosts {
		all = "all"
	}
	return item{s.Name, s.Place, [][2]string{
		{"kind", s.Kind}, {"addresses", joined(s.Addresses)}, {"ports", joined(s.Ports)},
		{"without_sni", fmt.Sprint(s.WithoutSNI)},
		{"reach", reachText(s.Reach)}, {"schedule", everyText(s.Every)}, {"hosts", all}, {"owner", s.Owner},
	}}
}

// reachText is the way to a server as one line, with commands, without secrets:
// credentials are named there, not held.
func reachText(r *Reach) string {
	if r == nil {
		return ""
	}
	list := []string{r.String(), r.Key, r.KnownHosts, r.Configuration}
	for _, key := range slices.Sorted(maps.Keys(r.Commands)) {
		list = append(list, r.Commands[key])
	}
	return strings.Join(list, ", ")
}

// hostItem tells where a host answers and what is wanted of it.
func hostItem(h Host) item {
	return item{h.Name, h.Place, [][2]string{
		{"at", joined(h.At)}, {"audiences", strings.Join(h.Audiences, ", ")},
		{"wanted issuer", h.Wanted.Issuer}, {"wanted certificate", h.Wanted.Certificate},
		{"group", h.Group}, {"owner", h.Owner}, {"tags", strings.Join(h.Tags, ", ")},
	}}
}

// declaredOwner is the estate's owner where the file names one.
func declaredOwner(e *Estate) []string {
	if e.Owner == "" {
		return nil
	}
	return []string{e.Owner}
}

// intermediateSet is the set of known intermediates as text; their order means
// nothing.
func intermediateSet(e *Estate) [][]string {
	var prints []string
	for _, c := range e.Intermediates {
		prints = append(prints, c.CommonName()+" "+c.Fingerprint.String()[:12])
	}
	if prints == nil {
		return nil
	}
	slices.Sort(prints)
	return [][]string{prints}
}

// joined lists references as the estate file has them.
func joined[T fmt.Stringer](list []T) string {
	texts := make([]string, len(list))
	for i, v := range list {
		texts[i] = v.String()
	}
	return strings.Join(texts, ", ")
}

// diff compares two sets of items by name: new, changed with each field's old
// and new value, gone.
func diff[T any](out []Change, kind string, from, to []T, as func(T) item) []Change {
	old := make(map[string]item, len(from))
	for _, v := range from {
		it := as(v)
		old[it.name] = it
	}
	kept := map[string]bool{}
	for _, v := range to {
		it := as(v)
		before, was := old[it.name]
		kept[it.name] = true
		if !was {
			out = append(out, Change{Is: "new", Kind: kind, Name: it.name, Place: it.place})
		} else if fields := fieldChanges(before, it); len(fields) > 0 {
			out = append(out, Change{"changed", kind, it.name, it.place, fields})
		}
	}
	for _, v := range from {
		if it := as(v); !kept[it.name] {
			out = append(out, Change{Is: "gone", Kind: kind, Name: it.name, Place: it.place})
		}
	}
	return out
}

// fieldChanges gives the fields that differ.
func fieldChanges(before, after item) []string {
	var out []string
	for i, f := range after.fields {
		if was := before.fields[i][1]; was != f[1] {
			out = append(out, fmt.Sprintf("%s: %s → %s", f[0], orNone(was), orNone(f[1])))
		}
	}
	return out
}

// orNone shows an empty value as a word, for a blank in a comparison is easily
// overlooked.
func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}
