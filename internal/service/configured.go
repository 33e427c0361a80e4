package service

import (
	"context"
	"fmt"
	"path"
	"strings"
	"time"

	"insegna.example/internal/core/binding"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/kind"
	"insegna.example/internal/kind/nginx"
	"insegna.example/internal/store"
)

// configuration is what one server's configuration says, ready to be asked.
type configuration struct {
	reading *kind.Reading
	index   *nginx.Index
	parsed  map[string]*certs.Certificate // by fingerprint in hexadecimal digits
	beside  map[string][]binding.Beside   // by name in the certificate, of files no site names
	opens   string
	partial string // what could not be read of it, "" when all was
}

// keptConfigurations bounds how many servers' configurations are kept ready.
const keptConfigurations = 256

// configurationOf gives what a stored reading says; it is unpacked once.
func (s *Service) configurationOf(ctx context.Context, reading int64) (*configuration, error) {
	if had, ok := s.readings.GetIfPresent(reading); ok {
		return had, nil
	}
	packed, err := s.store.Document(ctx, reading)
	if err != nil {
		return nil, err
	}
	r, err := readDocument(packed)
	if err != nil {
		return nil, err
	}
	for i := range r.Files {
		r.Files[i].Text = "" // large, and rarely asked for
	}
	v := newConfiguration(r)
	s.readings.Set(reading, v)
	return v, nil
}

func newConfiguration(r *kind.Reading) *configuration {
	v := &configuration{reading: r, index: nginx.NewIndex(r), parsed: map[string]*certs.Certificate{}, beside: map[string][]binding.Beside{}}
	for f, der := range r.Certificates {
		if c, err := certs.Parse(der); err == nil {
			v.parsed[f] = c
		}
	}
	for file, m := range r.Material {
		if m.Named || len(m.Chain) == 0 {
			continue
		}
		if leaf := v.parsed[m.Chain[0]]; leaf != nil {
			for _, name := range leaf.Names() {
				name = strings.ToLower(name)
				v.beside[name] = append(v.beside[name], binding.Beside{File: file, Leaf: leaf})
			}
		}
	}
	var open []string
	for i := range r.Listeners {
		open = append(open, r.Listeners[i].String())
	}
	for i := range r.Problems {
		if p := &r.Problems[i]; p.Effect == kind.Unread && v.partial == "" {
			v.partial = fmt.Sprintf("a part of the configuration is not known (%s: %s)", p.Place, p.Message)
		}
	}
	v.opens = r.Main + " opens nothing"
	if len(open) > 0 {
		v.opens = r.Main + " opens " + listed(open, 6)
	}
	return v
}

// views gives what the configurations of a page's servers say.
type views struct {
	service *Service
	heads   map[int64]store.ReadingHead
	ways    map[string]*estate.Reach
}

func (s *Service) viewsFor(ctx context.Context, page []store.Target) (*views, error) {
	met := map[int64]bool{}
	var ids []int64
	for _, t := range page {
		if !met[t.ServerID] {
			met[t.ServerID] = true
			ids = append(ids, t.ServerID)
		}
	}
	heads, err := s.store.ReadingHeads(ctx, ids)
	if err != nil {
		return nil, err
	}
	v := &views{service: s, heads: heads, ways: map[string]*estate.Reach{}}
	if len(heads) == 0 {
		return v, nil
	}
	e, _, err := s.estateInForce(ctx)
	if err != nil {
		return nil, err
	}
	for i := range e.Servers {
		v.ways[e.Servers[i].Name] = e.Servers[i].Reach
	}
	return v, nil
}

// of gives what is configured for a target; nil when its server is not
// reached.
func (v *views) of(ctx context.Context, t *store.Target) (*binding.Configured, error) {
	head, reached := v.heads[t.ServerID]
	way := v.ways[t.Server]
	switch {
	case !reached || way == nil || t.Host == "":
		return nil, nil
	case head.TroubleCode != "":
		return &binding.Configured{Unknown: head.Trouble}, nil
	case head.ReadingID == 0:
		return &binding.Configured{Unknown: "it was not read yet"}, nil
	}
	known, err := v.service.configurationOf(ctx, head.ReadingID)
	if err != nil {
		return nil, err
	}
	c := known.configured(t)
	c.Test, c.Reload = way.Test, way.Reload
	if head.Loaded != nil {
		c.Loaded = *head.Loaded
	}
	return c, nil
}

// configured answers for one host at one endpoint.
func (v *configuration) configured(t *store.Target) *binding.Configured {
	c := &binding.Configured{Opens: v.opens}
	for _, site := range v.index.Idle(t.Host) {
		c.Idle = append(c.Idle, v.idle(site))
	}
	a := v.index.Answer(t.Host, t.Endpoint)
	if a.Unsure {
		return &binding.Configured{Unknown: a.Why}
	}
	if v.partial != "" && (a.Listener == nil || a.By == nil && a.Listener.Family == "http") {
		return &binding.Configured{Unknown: v.partial} // the missing part may hold the site
	}
	if a.Listener == nil {
		c.Elsewhere = v.index.Elsewhere(t.Host)
		return c
	}
	c.Listener, c.ListenerSpot, c.TLS, c.Why = a.Listener.String(), a.Listener.Place.String(), a.Listener.TLS, a.Why
	c.Named = a.By != nil || a.Listener.Family == "stream"
	if !c.Named {
		c.Elsewhere = v.index.Elsewhere(t.Host)
	}
	site := v.index.Shows(a)
	c.Site, c.SiteSpot, c.Refuses = site.MainName(), a.Site.Place.String(), site.Refuses
	for i := range site.Pairs {
		p := &site.Pairs[i]
		c.RunTime = c.RunTime || p.AtRunTime
		c.Pairs = append(c.Pairs, v.pair(p, site))
	}
	c.Beside = v.newestBeside(t.Host)
	return c
}

func (v *configuration) idle(site *kind.Site) binding.Idle {
	out := binding.Idle{Spot: site.Place.String(), File: site.File}
	if stem, ok := strings.CutSuffix(path.Dir(site.File), "-available"); ok {
		out.Folder = stem + "-enabled"
	}
	return out
}

// pair says what lies in the files of a certificate and its key.
func (v *configuration) pair(p *kind.Pair, site *kind.Site) binding.Pair {
	const denied = "permission denied"
	out := binding.Pair{File: p.Certificate, Spot: p.Place.String(), Key: p.Key, KeySpot: p.KeyPlace.String()}
	certificate, key := v.reading.Material[p.Certificate], v.reading.Material[p.Key]
	if certificate != nil {
		out.Fault, out.Hidden = certificate.Fault, certificate.Fault == denied
		for _, f := range certificate.Chain {
			if c := v.parsed[f]; c != nil {
				out.Chain = append(out.Chain, c)
			}
		}
		if len(out.Chain) == 0 && out.Fault == "" {
			out.Fault = "no certificate in it"
		}
		out.Changed = certificate.Modified
	}
	if key != nil {
		out.KeyFault, out.KeyHidden = key.Fault, key.Fault == denied || key.Fault == certs.ErrEncrypted.Error()
		if key.Public == "" && key.Fault == "" {
			out.KeyFault = certs.ErrNoKey.Error()
		}
		out.Stranger = key.Public != "" && len(out.Chain) > 0 && out.Chain[0].Public().String() != key.Public
		out.Changed = later(out.Changed, key.Modified)
	}
	for i := range v.reading.Files {
		if f := &v.reading.Files[i]; f.Path == p.File || f.Path == site.File {
			out.Changed = later(out.Changed, f.Modified)
		}
	}
	return out
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

// newestBeside finds the newest certificate for a host in files no site names.
func (v *configuration) newestBeside(host string) *binding.Beside {
	list := v.beside[host]
	if _, parent, ok := strings.Cut(host, "."); ok {
		list = append(list[:len(list):len(list)], v.beside["*."+parent]...)
	}
	var newest *binding.Beside
	for i := range list {
		b := &list[i]
		if newest == nil || b.Leaf.NotBefore.After(newest.Leaf.NotBefore) || b.Leaf.NotBefore.Equal(newest.Leaf.NotBefore) && b.File < newest.File {
			newest = b
		}
	}
	return newest
}
