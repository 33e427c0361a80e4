package draft_test

import (
	"net/netip"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/draft"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/pkitest"
)

func addr(list ...string) (out []netip.Addr) {
	for _, s := range list {
		out = append(out, netip.MustParseAddr(s))
	}
	return out
}

// TestWhateverWasFoundIsAnEstateFile writes what nobody would call so: each endpoint stands
// under one server, names fit, and no text from outside leaves its comment.
func TestWhateverWasFoundIsAnEstateFile(t *testing.T) {
	d := &draft.Draft{Name: "# no: [comment]", Roots: []string{"a, b: c.pem"}}
	web := &draft.Server{Name: "über web/1", Kind: "nginx", Addresses: addr("192.0.2.2", "192.0.2.1"), Ports: []uint16{8444, 443, 8443, 8445}, From: "x\ninjected: true\u2028#",
		Reach: &estate.Reach{By: "local", Configuration: "/etc/it's: \"here\"", Commands: map[string]string{"test": "true"}}, Commands: []string{"test"}}
	require.True(t, d.Add(web))
	assert.True(t, d.Add(&draft.Server{Name: "über web/1", Addresses: addr("192.0.2.1", "192.0.2.3"), Ports: []uint16{443}}))
	assert.False(t, d.Add(&draft.Server{Name: "third", Addresses: addr("192.0.2.3"), Ports: []uint16{443}}), "nothing is left of it")
	d.Add(&draft.Server{Name: "plain", Addresses: addr("2001:db8::1"), Ports: []uint16{443}, Plain: true})
	d.Doubt("a.example", nil, "zone", "why\nhosts: []")
	d.Found("a.example", estate.Ref{Server: web.Name, Port: 443}, "one")
	for _, from := range []string{"two", "three", "four", "five"} {
		d.Found("a.example", estate.Ref{Server: web.Name, Port: 443}, from)
	}
	d.Doubt("a.example", nil, "zone", "it is known better")
	d.Doubt("b.example", []estate.Ref{{Server: web.Name, Port: 8443}}, "zone", "why\nhosts: []")
	d.Untold("%s", strings.Repeat("long\x1b[31m ", 200))
	text := d.Text()
	kinds := estate.Kinds{{Name: "nginx", Reached: true, Commands: []estate.Command{{Key: "test", Usual: func(string) string { return "" }}}}, {Name: "other"}}
	e, err := estate.Parse("estate.yaml", []byte(text), kinds, func(p string) ([]byte, error) {
		if p != "a, b: c.pem" {
			return nil, os.ErrNotExist
		}
		return certs.PEM(pkitest.CA("root", nil).Raw), nil
	})
	require.NoError(t, err, text)
	assert.Equal(t, "# no: [comment]", e.Name)
	require.Len(t, e.Servers, 3)
	assert.Equal(t, []string{"ber-web-1", "ber-web-1-2", "plain"}, []string{e.Servers[0].Name, e.Servers[1].Name, e.Servers[2].Name})
	assert.Equal(t, addr("192.0.2.3"), e.Servers[1].Addresses)
	assert.Equal(t, `/etc/it's: "here"`, e.Servers[0].Reach.Configuration)
	assert.False(t, e.Servers[2].WithoutSNI)
	assert.Contains(t, text, "ports: [443, 8443-8445]\n")
	assert.Contains(t, text, "# one, two, three and 2 more\n")
	assert.Contains(t, text, "#  - name: b.example   # why·hosts: []; zone\n")
	assert.NotContains(t, text, "\x1b")
	require.Len(t, e.Hosts, 1)

	// Servers are the same by their addresses; what was not read is not said to be gone.
	declared, err := estate.Parse("estate.yaml", []byte("estate: x\naudiences: [{name: a, roots: ['a, b: c.pem']}]\nservers:\n  - {name: other-name, addresses: [192.0.2.1], ports: [443]}\n"+
		"  - {name: elsewhere, addresses: [198.51.100.1]}\nhosts:\n  - {name: a.example, at: [other-name]}\n  - {name: b.example, at: [other-name]}\n  - {name: c.wild.example, at: [other-name]}\n"+
		"  - {name: far.example, at: [elsewhere]}\n"), kinds, func(string) ([]byte, error) { return certs.PEM(pkitest.CA("root", nil).Raw), nil })
	require.NoError(t, err)
	d.Wildcard("*.wild.example", estate.Ref{Server: web.Name, Port: 443}, "site")
	assert.Equal(t, []draft.Change{{"new", "a.example", "ber-web-1:443", "one, two, three and 2 more"},
		{"gone", "b.example", "other-name:443", "estate.yaml:8; met: why\nhosts: []"}}, d.Against(declared))
}

// TestOwnAddresses are those others can reach, or else the machine's own.
func TestOwnAddresses(t *testing.T) {
	assert.Equal(t, addr("192.0.2.1", "2001:db8::1"), draft.Own(addr("127.0.0.1", "::1", "192.0.2.1", "fe80::1", "2001:db8::1", "192.0.2.1")))
	assert.Equal(t, addr("127.0.0.1"), draft.Own(addr("127.0.0.1", "::1", "fe80::1")))
}

// TestHostsAreGroupedByDomain makes groups of a few domains, and none of one or of very many.
func TestHostsAreGroupedByDomain(t *testing.T) {
	drafted := func(names ...string) (*estate.Estate, string) {
		d := &draft.Draft{Name: "x", Roots: []string{"root.pem"}}
		web := &draft.Server{Name: "web", Addresses: addr("192.0.2.1"), Ports: []uint16{443}}
		require.True(t, d.Add(web))
		for _, name := range names {
			d.Found(name, estate.Ref{Server: "web", Port: 443}, "here")
		}
		e, err := estate.Parse("estate.yaml", []byte(d.Text()), estate.Kinds{{Name: "other"}}, func(string) ([]byte, error) {
			return certs.PEM(pkitest.CA("root", nil).Raw), nil
		})
		require.NoError(t, err, d.Text())
		var groups []string
		for _, g := range e.Groups {
			groups = append(groups, g.Name)
		}
		return e, strings.Join(groups, " ")
	}
	_, groups := drafted("a.lantern.example", "b.lantern.example", "lantern.example")
	assert.Empty(t, groups)
	e, groups := drafted("a.lantern.example", "c.b.pier.test", "pier.test", "192.0.2.7")
	assert.Equal(t, "lantern.example pier.test", groups)
	assert.Equal(t, "pier.test", e.Host("c.b.pier.test").Group)
	assert.Empty(t, e.Host("192.0.2.7").Group)
	var many []string
	for n := range 21 {
		many = append(many, "www.d"+string(rune('a'+n))+".example")
	}
	_, groups = drafted(many...)
	assert.Empty(t, groups)
}
