package truthtest

import (
	"crypto/tls"
	"errors"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"insegna.example/internal/core/check"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/install/files"
	"insegna.example/internal/kind"
	"insegna.example/internal/reach"
)

// editor is what edits a kind's configurations.
func (s *Server) editor() kind.Editor {
	d, _ := s.Kind.Installs(reach.Local(), &estate.Server{Reach: &estate.Reach{}}).(*files.Destination)
	return d.Editor
}

// trees goes over the configurations that the server takes, unpacked anew for each.
func (s *Server) trees(t *testing.T, do func(t *testing.T, c *Truth)) {
	list, err := filepath.Glob("testdata/truth/*.txtar")
	require.NoError(t, err)
	pairs := s.Pairs(t)
	for _, file := range list {
		archive, err := txtar.ParseFile(file)
		require.NoError(t, err)
		if strings.Contains(string(txtar.Format(archive)), "+1@") || strings.Contains(file, "of-300-sites") {
			continue
		}
		t.Run(filepath.Base(file), func(t *testing.T) {
			if c := s.Unpack(t, archive, pairs); c.Refused == "" {
				do(t, c)
			}
		})
	}
}

// leadPort is where visitors are led to.
const leadPort = 8443

// LeadEverywhere leads every host of every plain site of every configuration to https,
// each alone: what is not changed says why and what to do; what is keeps the server's own
// test green, leads visitors with host, path and query, leaves a CA what it got, and
// changes nothing for anybody else. Then all of a configuration together, on the running
// server, which is asked for everything and compared with the reader.
func (s *Server) LeadEverywhere(t *testing.T) {
	led, corrected, refused := 0, 0, 0
	leader, is := s.editor().(kind.Leader)
	require.True(t, is)
	s.trees(t, func(t *testing.T, c *Truth) {
		before := c.Read(t)
		answers := s.Kind.Reader.Answers(before)
		var all []kind.Led
		for _, w := range visitorsOf(before, answers) {
			edits, err := leader.Lead(c.FS(), filepath.Join(c.Dir, s.Main), []kind.Led{w})
			if c.refuses(t, err) {
				refused++
				continue
			}
			require.NotEmpty(t, edits.Files, w)
			c.write(t, edits, false)
			c.ledWell(t, before, answers, edits, w)
			c.write(t, edits, true)
			if led++; w.Line.Known() {
				corrected++
			}
			all = append(all, w)
		}
		c.leadTogether(t, leader, all)
	})
	t.Logf("%d led, %d of them where the line stands, %d refused", led, corrected, refused)
	assert.Greater(t, led, 10)
	assert.Positive(t, corrected)
}

// refuses says whether edits were refused, which says where, why and what to do.
func (c *Truth) refuses(t *testing.T, err error) bool {
	var no *kind.EditError
	if errors.As(err, &no) {
		assert.True(t, no.Known(), no)
		assert.NotEmpty(t, no.Remedy, no)
		return true
	}
	require.NoError(t, err)
	return false
}

// SettleEverywhere sets versions and suites of every site of every configuration as BCP 195
// has them, each alone: the server's own test passes, and nobody gets another certificate
// or site. Then all of a configuration together, on the running server, which is asked for
// everything and compared with the reader, and speaks no older version any more.
func (s *Server) SettleEverywhere(t *testing.T) {
	settled, refused := 0, 0
	settler, is := s.editor().(kind.Settler)
	require.True(t, is)
	s.trees(t, func(t *testing.T, c *Truth) {
		before := c.Read(t)
		answers := s.Kind.Reader.Answers(before)
		var all []kind.Settled
		var at []netip.AddrPort
		for i := range before.Listeners {
			l := &before.Listeners[i]
			for _, n := range l.Sites {
				w := kind.Settled{Site: before.Sites[n].Place, Listener: l.Place, Default: before.Sites[l.Default].Place, Versions: true, Suites: true}
				if !l.TLS || !l.Network() || len(before.Sites[n].Pairs) == 0 {
					continue
				}
				edits, err := settler.Settle(c.FS(), filepath.Join(c.Dir, s.Main), []kind.Settled{w})
				if c.refuses(t, err) {
					refused++
					continue
				}
				c.write(t, edits, false)
				out, err := s.Command(c, s.Test...).CombinedOutput()
				require.NoError(t, err, "%+v: %s", w, out)
				if len(before.Sites[n].KeyKinds) == 0 { // else it may show a certificate of another kind of key then
					c.untouched(t, before, answers, edits, w.Site, "")
				}
				c.write(t, edits, true)
				settled++
				all, at = append(all, w), append(at, addressOf(l))
			}
		}
		if len(all) == 0 {
			return
		}
		edits, err := settler.Settle(c.FS(), filepath.Join(c.Dir, s.Main), all)
		require.NoError(t, err)
		c.write(t, edits, false)
		c.Start(t)
		c.asked(t)
		for _, a := range at {
			conn, err := tls.DialWithDialer(&net.Dialer{Timeout: 5 * time.Second}, "tcp", a.String(),
				&tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS10, MaxVersion: tls.VersionTLS11})
			if err == nil {
				_ = conn.Close()
			}
			assert.Error(t, err, "%s still speaks TLS 1.1", a)
		}
	})
	t.Logf("%d settled, %d refused", settled, refused)
	assert.Greater(t, settled, 30)
}

// PledgeEverywhere has every host of every site with TLS send the header of RFC 6797, each
// alone: the server's own test passes, nobody gets another certificate or site, and it is
// said where that is not done.
func (s *Server) PledgeEverywhere(t *testing.T) {
	pledged, refused := 0, 0
	pledger, is := s.editor().(kind.Pledger)
	require.True(t, is)
	s.trees(t, func(t *testing.T, c *Truth) {
		before := c.Read(t)
		answers := s.Kind.Reader.Answers(before)
		for i := range before.Listeners {
			l := &before.Listeners[i]
			for _, n := range l.Sites {
				for _, name := range before.Sites[n].Names {
					host := name.Host()
					if a := answers.Answer(host, addressOf(l)); !l.TLS || !l.Network() || l.Protocol != kind.HTTP || host == "" || !a.Named || a.Site == nil ||
						a.Site.Place != before.Sites[n].Place {
						continue
					}
					edits, err := pledger.Pledge(c.FS(), filepath.Join(c.Dir, s.Main), []kind.Pledged{{Site: before.Sites[n].Place, Listener: l.Place,
						Hosts: []string{host}, Days: 1}})
					if c.refuses(t, err) {
						refused++
						continue
					}
					c.write(t, edits, false)
					out, err := s.Command(c, s.Test...).CombinedOutput()
					require.NoError(t, err, "%s: %s\n%s", host, out, edits.Files[0].After)
					c.untouched(t, before, answers, edits, before.Sites[n].Place, "")
					c.write(t, edits, true)
					pledged++
				}
			}
		}
	})
	t.Logf("%d pledged, %d refused", pledged, refused)
	assert.Greater(t, pledged, 10)
}

// untouched holds that nobody but who asks for a host gets something else by edits that
// were made.
func (c *Truth) untouched(t *testing.T, before *kind.Reading, answers kind.Answers, edits *kind.Edits, site kind.Place, own string) {
	after := c.Read(t)
	compared := &kind.Compared{Before: kind.Side{Reading: before, Answers: answers},
		After: kind.Side{Reading: after, Answers: c.Server.Kind.Reader.Answers(after)},
		Edits: edits, Wanted: []kind.Wanted{{Site: site}}, Own: func(h string) bool { return h == own }, Most: 5}
	assert.Empty(t, compared.Touched(), "%s %s", site, own)
}

// visitorsOf are the hosts of plain sites that are not led to https, each as it would be.
func visitorsOf(r *kind.Reading, answers kind.Answers) (out []kind.Led) {
	for i := range r.Listeners {
		l := &r.Listeners[i]
		if l.TLS || !l.Network() || l.Protocol != kind.HTTP {
			continue
		}
		for _, site := range l.Sites {
			for n := range r.Sites[site].Names {
				host := r.Sites[site].Names[n].Host()
				at := addressOf(l)
				a := answers.Answer(host, at)
				step, is := answers.Plain(host, at, check.Kept)
				if host == "" || !is || a.Site != &r.Sites[site] || step.Handling == kind.Depends {
					continue
				}
				w := kind.Led{Site: a.Site.Place, Hosts: []string{host}, Port: leadPort}
				status, to := 0, ""
				if step.Handling == kind.Redirects {
					status, to = step.Status, step.To
					if len(r.Comers(answers, l)[step.Place]) == 1 {
						w.Line = step.Place
					}
				}
				code, _ := check.Led(host, status, to)
				if w.Loses = code != check.RedirectTemporary; code != "" {
					out = append(out, w)
				}
			}
		}
	}
	return out
}

// addressOf is an address connections to which come to a listener.
func addressOf(l *kind.Listener) netip.AddrPort {
	switch {
	case !l.Address.Addr().IsUnspecified():
		return l.Address
	case l.Address.Addr().Is4():
		return netip.AddrPortFrom(netip.MustParseAddr("127.0.0.1"), l.Address.Port())
	}
	return netip.AddrPortFrom(netip.IPv6Loopback(), l.Address.Port())
}

// write makes edits, or takes them back.
func (c *Truth) write(t *testing.T, edits *kind.Edits, back bool) {
	for _, f := range edits.Files {
		text := f.After
		if back {
			text = f.Before
		}
		require.NoError(t, os.WriteFile(f.Path, []byte(text), 0o644))
	}
}

// ledWell holds edits against what they are for.
func (c *Truth) ledWell(t *testing.T, before *kind.Reading, answers kind.Answers, edits *kind.Edits, w kind.Led) {
	out, err := c.Server.Command(c, c.Server.Test...).CombinedOutput()
	require.NoError(t, err, "%+v: %s\n%s", w, out, edits.Files[0].After)
	after := c.Read(t)
	now := c.Server.Kind.Reader.Answers(after)
	host, asked := w.Hosts[0], 0
	for i := range before.Listeners {
		l := &before.Listeners[i]
		at := addressOf(l)
		if a := answers.Answer(host, at); l.TLS || !l.Network() || a.Site == nil || a.Site.Place != w.Site {
			continue
		}
		asked++
		step, is := now.Plain(host, at, check.Kept)
		code, do := check.Led(host, step.Status, step.To)
		assert.True(t, is && step.Handling == kind.Redirects && code == "", "%+v at %s: %+v, %s\n%s", w, at, step, do,
			edits.Files[0].After)
		const proof = "/.well-known/acme-challenge/token"
		was, _ := answers.Plain(host, at, proof)
		if got, _ := now.Plain(host, at, proof); !w.Line.Known() {
			assert.Equal(t, was.Handling, got.Handling, "%+v at %s", w, at)
			assert.Equal(t, was.To, got.To, "%+v at %s", w, at)
		}
	}
	assert.Positive(t, asked, w)
	c.untouched(t, before, answers, edits, w.Site, host)
}

// leadTogether leads all of them, and compares what the running server does.
func (c *Truth) leadTogether(t *testing.T, leader kind.Leader, all []kind.Led) {
	var list []kind.Led
	met := map[kind.Place]int{}
	for _, w := range all {
		w.Line = kind.Place{} // it may be another's as well
		if i, is := met[w.Site]; is {
			list[i].Hosts = append(list[i].Hosts, w.Hosts...)
			continue
		}
		met[w.Site] = len(list)
		list = append(list, w)
	}
	if len(list) == 0 {
		return
	}
	edits, err := leader.Lead(c.FS(), filepath.Join(c.Dir, c.Server.Main), list)
	require.NoError(t, err)
	c.write(t, edits, false)
	c.Start(t)
	c.asked(t)
}

// asked asks the running server for everything.
func (c *Truth) asked(t *testing.T) {
	if c.Server.Asked != nil {
		c.Server.Asked(t, c)
		return
	}
	c.Compare(t)
}
