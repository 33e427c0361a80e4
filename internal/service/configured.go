package service

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/maypok86/otter/v2"

	"insegna.example/internal/core/binding"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/place"
	"insegna.example/internal/kind"
	"insegna.example/internal/store"
)

// Reading is the room of servers' configurations: how they are read, and what
// they say.
type Reading struct {
	base
	declaring *Declaring                          // knows the way to each server
	known     *otter.Cache[int64, *configuration] // by number of the reading
	whole     *otter.Cache[int64, *wholeReading]  // the same with the texts of their files, a few
	look      looking                             // shared with surveys
	listed    *costlyBy[serverPage]               // pages of servers, by what was asked

	mu     sync.Mutex
	recent map[string]recentReading // by server, of the last moments
}

// recentReading is a configuration that was read a moment ago.
type recentReading struct {
	at time.Time
	*configuration
}

// moments is how long a reading made for one decision is good for the next: the
// names of one mandate are asked about one after the other.
const moments = 2 * time.Second

// anew reads a server's configuration as it is now, for what is decided from it:
// what a survey has stored may be old. The error is a *NotReadError when there is
// no way to the server, or it cannot be read now.
func (s *Reading) anew(ctx context.Context, server string) (*configuration, error) {
	e, _, err := s.declaring.estateInForce(ctx)
	if err != nil {
		return nil, err
	}
	declared := e.Server(server)
	if declared == nil || declared.Reach == nil {
		return nil, &NotReadError{Server: server}
	}
	s.mu.Lock()
	had, met := s.recent[server]
	s.mu.Unlock()
	if met && time.Since(had.at) < moments {
		return had.configuration, nil
	}
	k := s.cfg.Kinds.Of(declared.Kind)
	if err := k.Needs(kind.Read); err != nil {
		return nil, &NotReadError{server, err.Error()}
	}
	m, err := open(ctx, declared.Reach)
	if err != nil {
		return nil, &NotReadError{server, err.Error()}
	}
	defer func() { _ = m.Close() }()
	r, err := k.Reader.Read(m.FS(), declared.Reach.Configuration)
	switch {
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case err != nil:
		return nil, &NotReadError{server, err.Error()}
	case len(r.Files) == 0:
		return nil, &NotReadError{server, "its main file cannot be read: " + r.Problems[0].Message}
	}
	for _, list := range [][]kind.Site{r.Sites, r.Idle} {
		for i := range list {
			veilSite(&list[i]) // it may be shown
		}
	}
	c := newConfiguration(k, r)
	s.mu.Lock()
	defer s.mu.Unlock()
	for name, old := range s.recent {
		if time.Since(old.at) >= moments {
			delete(s.recent, name)
		}
	}
	s.recent[server] = recentReading{time.Now(), c}
	return c, nil
}

// forget lets the next question read a server anew, after it was changed.
func (s *Reading) forget(server string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.recent, server)
}

// configuration is what one server's configuration says, ready to be asked.
type configuration struct {
	reading *kind.Reading                 // as stored
	kind    *kind.Kind                    // it was read as
	answers kind.Answers                  // nil when the kind cannot be read
	parsed  map[string]*certs.Certificate // by fingerprint in hexadecimal digits
	beside  map[string][]binding.Beside   // by name in the certificate, of files no site names
	opens   string                        // the user the server opens its files as
	partial string                        // what could not be read of it, "" when all was

	mu    sync.Mutex
	plain map[plainly]*plainAnswer // what was asked in plain http
}

// keptConfigurations bounds how many servers' configurations are kept ready.
const keptConfigurations = 256

// configurationOf gives what a stored reading says; it is unpacked once.
func (s *Reading) configurationOf(ctx context.Context, reading int64) (*configuration, error) {
	if had, ok := s.known.GetIfPresent(reading); ok {
		return had, nil
	}
	whole, err := s.wholeOf(ctx, reading)
	if err != nil {
		return nil, err
	}
	r := *whole.Reading
	r.Files = slices.Clone(r.Files)
	for i := range r.Files {
		r.Files[i].Text = "" // large, and rarely asked for
	}
	v := newConfiguration(s.cfg.Kinds.Of(r.Kind), &r)
	s.known.Set(reading, v)
	return v, nil
}

// wholeReading is a stored reading with the texts of its files.
type wholeReading struct {
	*kind.Reading
	answers func() kind.Answers
}

// keptWhole bounds how many of them are kept.
const keptWhole = 16

// wholeOf gives a stored reading with the texts of its files.
func (s *Reading) wholeOf(ctx context.Context, reading int64) (*wholeReading, error) {
	if had, ok := s.whole.GetIfPresent(reading); ok {
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
	k := s.cfg.Kinds.Of(r.Kind)
	w := &wholeReading{r, sync.OnceValue(func() kind.Answers { return k.Reader.Answers(r) })}
	s.whole.Set(reading, w)
	return w, nil
}

// newConfiguration parses the certificates of a reading once, for all its
// sites.
func newConfiguration(k *kind.Kind, r *kind.Reading) *configuration {
	v := &configuration{reading: r, kind: k, parsed: map[string]*certs.Certificate{},
		beside: map[string][]binding.Beside{}}
	if k.Reader != nil {
		v.answers = k.Reader.Answers(r)
	}
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
	service *Reading                    // loads what is missing
	heads   map[int64]store.ReadingHead // when each server was read, by server
	ways    map[string]*estate.Reach    // to each server, nil for none
	// what stands behind each, by server and the line that leads there
	behind  map[int64]map[place.Place][]binding.Hop
	origins *origins
	estate  *estate.Estate // in force
	proofs  func() ([]store.Mandate, error)
}

// viewsFor loads the readings of a page's servers side by side with it.
func (s *Reading) viewsFor(ctx context.Context, page []store.Target) (*views, error) {
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
	v := &views{service: s, heads: heads, ways: map[string]*estate.Reach{}, behind: map[int64]map[place.Place][]binding.Hop{}}
	if len(heads) == 0 {
		return v, nil
	}
	documents, err := s.store.Behind(ctx, ids)
	if err != nil {
		return nil, err
	}
	for server, packed := range documents {
		var list []binding.Hop
		if err := json.Unmarshal(packed, &list); err != nil {
			return nil, err
		}
		v.behind[server] = map[place.Place][]binding.Hop{}
		for _, h := range list {
			v.behind[server][h.At] = append(v.behind[server][h.At], h)
		}
	}
	if len(documents) > 0 {
		v.origins = &origins{service: s}
	}
	e, _, err := s.declaring.estateInForce(ctx)
	if err != nil {
		return nil, err
	}
	v.estate = e
	var servers []string
	for i := range e.Servers {
		v.ways[e.Servers[i].Name] = e.Servers[i].Reach
	}
	for _, t := range page {
		if _, read := heads[t.ServerID]; read && !slices.Contains(servers, t.Server) {
			servers = append(servers, t.Server)
		}
	}
	v.proofs = sync.OnceValues(func() ([]store.Mandate, error) { return s.store.ProvedOver(ctx, servers) })
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
	if k := known.kind; k.Tester != nil {
		c.Test, c.TakeIn = k.Tester.Command(way), k.Tester.TakeIn(way)
	}
	if head.Loaded != nil {
		c.Loaded = *head.Loaded
	}
	c.Hops, err = v.hops(ctx, known, t)
	return c, err
}

// configured answers for one host at one endpoint.
func (v *configuration) configured(t *store.Target) *binding.Configured {
	if v.answers == nil {
		return &binding.Configured{Unknown: v.kind.Needs(kind.Read).Error()}
	}
	c := &binding.Configured{Opens: v.opens, Words: v.kind.Words}
	for _, site := range v.answers.Idle(t.Host) {
		c.Idle = append(c.Idle, binding.Idle{At: site.Place, SwitchOn: site.SwitchOn})
	}
	a := v.answers.Answer(t.Host, t.Endpoint)
	if a.Unsure {
		return &binding.Configured{Unknown: a.Why}
	}
	if v.partial != "" && (a.Listener == nil || !a.Named) {
		return &binding.Configured{Unknown: v.partial} // the missing part may hold the site
	}
	if a.Listener == nil {
		c.Elsewhere = v.answers.Elsewhere(t.Host)
		return c
	}
	c.Listener, c.ListenerAt, c.TLS, c.Why, c.Named = a.Listener.String(), a.Listener.Place, a.Listener.TLS, a.Why, a.Named
	if !c.Named {
		c.Elsewhere = v.answers.Elsewhere(t.Host)
	}
	c.Site, c.SiteAt, c.Refuses = a.Shown.MainName(), a.Site.Place, a.Shown.Refuses
	for i := range a.Pairs {
		p := &a.Pairs[i]
		c.RunTime = c.RunTime || p.AtRunTime
		c.Pairs = append(c.Pairs, v.pair(p, a.Shown))
	}
	c.Beside = v.newestBeside(t.Host)
	return c
}

// pair says what lies in the files of a certificate and its key.
func (v *configuration) pair(p *kind.Pair, site *kind.Site) binding.Pair {
	out := binding.Pair{File: p.Certificate, FileAt: p.Place, Key: p.Key, KeyAt: p.KeyPlace, EachTime: p.EachTime}
	certificate, key := v.reading.Material[p.Certificate], v.reading.Material[p.Key]
	if certificate != nil {
		if len(certificate.Chain) == 0 { // else what is wrong is a key in the same file
			out.Fault, out.Hidden = certificate.Fault, certificate.Hidden
		}
		for _, f := range v.reading.Sent(p) {
			if c := v.parsed[f]; c != nil {
				out.Chain = append(out.Chain, c)
			}
		}
		if len(out.Chain) == 0 && out.Fault == "" {
			out.Fault = "no certificate in it"
		}
		out.Changed = certificate.Modified
		if behind := v.reading.Material[p.Chain]; behind != nil {
			out.Changed = later(out.Changed, behind.Modified)
		}
	}
	if key != nil {
		out.KeyFault, out.KeyHidden = key.Fault, key.Hidden
		if key.Public == "" && key.Fault == "" {
			out.KeyFault = certs.ErrNoKey.Error()
		}
		out.OtherKey = key.Public != "" && len(out.Chain) > 0 && out.Chain[0].Public().String() != key.Public
		out.Changed = later(out.Changed, key.Modified)
	}
	for i := range v.reading.Files {
		if f := &v.reading.Files[i]; f.Path == p.File || f.Path == site.File {
			out.Changed = later(out.Changed, f.Modified)
		}
	}
	return out
}

// later is the later of two times.
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
		if newest == nil || b.Leaf.NotBefore.After(newest.Leaf.NotBefore) || b.Leaf.NotBefore.Equal(newest.Leaf.NotBefore) &&
			b.File < newest.File {
			newest = b
		}
	}
	return newest
}
