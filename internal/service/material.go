package service

import (
	"context"
	"path"
	"slices"
	"strings"
	"time"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/place"
	"insegna.example/internal/kind"
	"insegna.example/internal/store"
)

// MaterialView is a file on a server that holds a certificate, a private key or both.
type MaterialView struct {
	check.Lying
	Modified time.Time // in UTC
	Fault    string    // why nothing of use could be read
	Twins    []string  // other servers where the same private key lies, by name
}

// Material lists the files of certificates and keys on a server: those its sites
// name, and what lies beside them. Only what lies there for nothing with unused.
func (s *Reading) Material(ctx context.Context, server, text string, unused bool, from, limit int) (list []MaterialView,
	more bool, err error) {
	d, err := s.readServerDetail(ctx, server)
	if err != nil {
		return nil, false, err
	}
	all := lying(d.Reading)
	for i := range all {
		all[i].Leaf = d.known.leaf(all[i].Path)
	}
	check.SortOut(all, time.Now().UTC())
	slices.SortFunc(all, func(a, b check.Lying) int { return strings.Compare(a.Path, b.Path) })
	text = strings.ToLower(text)
	passed := 0
	for i := range all {
		l := &all[i]
		if unused && !l.State.LeftOver() || !lyingHolds(l, text) {
			continue
		}
		if passed++; passed <= from {
			continue
		}
		if len(list) == limit {
			more = true
			break
		}
		m := d.Reading.Material[l.Path]
		list = append(list, MaterialView{Lying: *l, Modified: m.Modified, Fault: m.Fault})
	}
	var keys []string
	for i := range list {
		if list[i].Public != "" {
			keys = append(keys, list[i].Public)
		}
	}
	twins, err := s.store.KeysElsewhere(ctx, d.ID, keys)
	if err != nil {
		return nil, false, err
	}
	for i := range list {
		list[i].Twins = twins[list[i].Public]
	}
	return list, more, nil
}

// lyingHolds searches path and names.
func lyingHolds(l *check.Lying, text string) bool {
	if text == "" || strings.Contains(strings.ToLower(l.Path), text) {
		return true
	}
	return l.Leaf != nil && slices.ContainsFunc(l.Leaf.Names(), func(n string) bool {
		return strings.Contains(strings.ToLower(n), text)
	})
}

// leaf is the first certificate of a file.
func (v *configuration) leaf(file string) *certs.Certificate {
	if m := v.reading.Material[file]; m != nil && len(m.Chain) > 0 {
		return v.parsed[m.Chain[0]]
	}
	return nil
}

// lying gathers the files of certificates and keys of a reading, with the lines that
// name them. Certificates are parsed for those that have none yet.
func lying(r *kind.Reading) []check.Lying {
	used, idle := map[string][]place.Place{}, map[string][]place.Place{}
	name := func(into map[string][]place.Place, file string, at place.Place) {
		if file != "" && !slices.Contains(into[file], at) {
			into[file] = append(into[file], at)
		}
	}
	for into, list := range map[*map[string][]place.Place][]kind.Site{&used: r.Sites, &idle: r.Idle} {
		for i := range list {
			for _, p := range list[i].Pairs {
				name(*into, p.Certificate, p.Place)
				name(*into, p.Chain, p.Place)
				if p.Key != p.Certificate {
					name(*into, p.Key, p.KeyPlace)
				}
			}
		}
	}
	var out []check.Lying
	for file, m := range r.Material {
		if !path.IsAbs(file) || len(m.Chain) == 0 && m.Public == "" && !m.Hidden {
			continue
		}
		l := check.Lying{Path: file, Mode: m.Mode, Public: m.Public, Used: used[file], Idle: idle[file],
			Hidden: m.Hidden && len(m.Chain) == 0}
		if m.Mentioned != nil && len(l.Used) == 0 {
			l.Used = []place.Place{*m.Mentioned}
		}
		if m.Named && len(l.Used) == 0 && len(l.Idle) == 0 {
			l.State, l.Why = check.InUse, "chosen at run time"
		}
		if len(m.Chain) > 0 {
			if c, err := certs.Parse(r.Certificates[m.Chain[0]]); err == nil {
				l.Leaf = c
			}
		}
		out = append(out, l)
	}
	slices.SortFunc(out, func(a, b check.Lying) int { return strings.Compare(a.Path, b.Path) })
	return out
}

// mention notes where a configuration names files that no site shows: they may be
// for what stands behind, or for the certificates of visitors. Comments do not
// count.
func mention(r *kind.Reading) {
	lacking := map[string][]*kind.Material{}
	for file, m := range r.Material {
		if !m.Named {
			lacking[path.Base(file)] = append(lacking[path.Base(file)], m)
		}
	}
	if len(lacking) == 0 {
		return
	}
	for i := range r.Files {
		f := &r.Files[i]
		if !f.InForce {
			continue
		}
		number := 0
		for line := range strings.Lines(f.Text) {
			number++
			if strings.HasPrefix(strings.TrimSpace(line), "#") {
				continue
			}
			for _, word := range strings.FieldsFunc(line, func(c rune) bool { return strings.ContainsRune(" \t\r\n\"';{}=,()", c) }) {
				for _, m := range lacking[path.Base(word)] {
					if m.Mentioned == nil {
						m.Mentioned = &kind.Place{File: f.Path, Line: number, Column: 1}
					}
				}
			}
		}
	}
}

// keysLying are the private keys of a reading, for the question where the same one
// lies.
func keysLying(r *kind.Reading) (out []store.LyingKey) {
	for file, m := range r.Material {
		if m.Public != "" {
			out = append(out, store.LyingKey{Path: file, Public: m.Public})
		}
	}
	return out
}
