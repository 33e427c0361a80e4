package files

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"net/netip"
	"path"
	"slices"
	"strings"

	"insegna.example/internal/core/place"
	"insegna.example/internal/install"
	"insegna.example/internal/kind"
)

// probe is a file a CA would ask for (RFC 8555 section 8.3).
const probe = "/.well-known/acme-challenge/insegna"

// Prepare implements install.Destination: it switches the site of the names on
// where it is written and not in force, finds the sites that answer a CA's
// question for each name, and frees the path in those that do not serve it.
func (d *Destination) Prepare(_ context.Context, w *install.Wish) (*install.Planned, error) {
	out, err := d.prepare(w)
	return out, refused(err)
}

// prepare reads the server anew and works out the edits.
func (d *Destination) prepare(w *install.Wish) (*install.Planned, error) {
	fsys := d.Over.FS()
	reading, err := d.Reader.Read(fsys, d.Main)
	if err != nil {
		return nil, err
	}
	p := &planner{Destination: d, wish: w, reading: reading}
	links, err := p.switchOn()
	if err != nil {
		return nil, err
	}
	before := p.reading
	if len(links) > 0 {
		fsys = kind.Linked(fsys, links)
		if p.reading, err = d.Reader.Read(fsys, d.Main); err != nil {
			return nil, err
		}
		_, err := p.sites()
		var edit *kind.EditError
		if idle := p.idle(); errors.As(err, &edit) && idle != nil && idle.Place == edit.Place {
			edit.Reason = links[0].Path + " would not be included"
			edit.Remedy = "give the file a name that is included: see the line include of " + p.Main
		}
		if err != nil {
			return nil, err
		}
	}
	l := &layout{Folder: path.Join(path.Dir(p.Main), "insegna", w.Mandate), Only: true,
		Copy: path.Join(path.Dir(p.Main), ".insegna-"+w.Mandate+"."), Test: p.Test, Reload: p.Reload}
	freed, asked := p.shut(l.in("proofs"))
	if len(freed)+len(links) == 0 {
		return nil, &install.RefusedError{Reason: "the path of http-01 is served by the sites of these names as it is",
			Next: "see what the pre-flight says"}
	}
	edits := &kind.Edits{}
	if len(freed) > 0 {
		if edits, err = d.Editor.Free(fsys, d.Main, freed); err != nil {
			return nil, err
		}
	}
	if p.after, err = p.edited(fsys, edits); err != nil {
		return nil, err
	}
	answers := p.Reader.Answers(p.after)
	for _, a := range asked {
		if step, known := answers.Plain(a.host, a.at, probe); !known || !p.proves(&step) {
			return nil, &kind.EditError{Place: step.Place,
				Reason: "with the lines that could be added, " + a.host + " would not serve it either",
				Remedy: "write the location by hand, before every other rule"}
		}
	}
	var wanted []kind.Wanted
	for _, f := range freed {
		wanted = append(wanted, kind.Wanted{Site: f.Site})
	}
	p.reading = before
	if err := p.touched(edits, wanted); err != nil {
		return nil, err
	}
	own, err := json.Marshal(l)
	if err != nil {
		return nil, err
	}
	acts := []install.Act{{Does: "test", What: l.Test}, {Does: "reload", What: l.Reload}}
	links = append(links, edits.Links...)
	for _, x := range links {
		acts = slices.Insert(acts, 0, install.Act{Does: "link", What: x.String()})
	}
	return &install.Planned{Plan: install.Plan{Where: p.Main, Files: edits.Files, Links: links, Own: own, Acts: acts},
		Bindings: p.neighbours(nil, edits)}, nil
}

// switchOn gives the link that puts the site of the names in force; none where
// one is in force already, or nothing but a person can switch it on.
func (p *planner) switchOn() ([]install.Link, error) {
	_, err := p.sites()
	var edit *kind.EditError
	if !errors.As(err, &edit) || !edit.Preparable {
		return nil, nil // what else is in the way is told when the certificate is installed
	}
	link := p.idle().Link
	switch _, err := fs.Lstat(p.Over.FS(), strings.TrimPrefix(link.Path, "/")); {
	case kind.Lost(err):
		return nil, err
	case err == nil:
		return nil, &kind.EditError{Place: edit.Place, Reason: edit.Reason + ", and " + link.Path + " is there already",
			Remedy: "see what that is; the site is in force when it leads to " + link.To}
	}
	return []install.Link{*link}, nil
}

// proves says whether a CA gets its answer by a step: out of a folder, or from who
// answers beside the server.
func (p *planner) proves(step *kind.Step) bool {
	return step.Handling == kind.Serves || step.Handling == kind.Passes && p.wish.Listener != "" && step.To == p.wish.Listener
}

// question is a host a CA asks at an address.
type question struct {
	host string
	at   netip.AddrPort
}

// shut finds the sites in which something stands before the path of http-01,
// and whom they answer for.
func (p *planner) shut(proofs string) (list []kind.Freed, asked []question) {
	answers := p.Reader.Answers(p.reading)
	sites := map[place.Place]int{}
	for _, host := range p.wish.Names {
		if strings.HasPrefix(host, "*.") {
			continue
		}
		for i := range p.reading.Listeners {
			l := &p.reading.Listeners[i]
			if l.TLS || !l.Network() || l.Protocol != kind.HTTP || l.Address.Port() != p.wish.PlainPort {
				continue
			}
			for _, at := range append(p.spread(l.Address), l.Address) {
				a := answers.Answer(host, at)
				step, known := answers.Plain(host, at, probe)
				if a.Site == nil || !known || p.proves(&step) {
					continue
				}
				n, met := sites[a.Site.Place]
				if !met {
					n = len(list)
					sites[a.Site.Place] = n
					list = append(list, kind.Freed{Site: a.Site.Place, Proofs: proofs, Listener: p.wish.Listener})
				}
				if !slices.Contains(list[n].Hosts, host) {
					list[n].Hosts = append(list[n].Hosts, host)
				}
				asked = append(asked, question{host, at})
			}
		}
	}
	return list, asked
}
