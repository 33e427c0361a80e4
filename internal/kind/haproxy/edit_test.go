package haproxy_test

import (
	"context"
	"crypto/sha256"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/names"
	"insegna.example/internal/install"
	"insegna.example/internal/kind"
	"insegna.example/internal/kind/haproxy"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/reach"
	"insegna.example/internal/truthtest"
)

// machine is this one, with a configuration's own files below /root of it.
type machine struct {
	reach.Connection
	files fs.FS
}

func (m machine) FS() fs.FS { return m.files }

// destination is a laid configuration as an estate file declares its server.
func destination(c *truthtest.Truth) install.Destination {
	args := "-f " + c.Dir + "/haproxy.cfg"
	if len(c.Args) > 0 {
		args = strings.ReplaceAll(strings.Join(c.Args, " "), "@dir@", c.Dir)
	}
	way := &estate.Reach{Configuration: c.Dir + "/haproxy.cfg", Commands: map[string]string{
		"test": "env SITE_HOME=" + c.Dir + " SHOP=shop.example /usr/sbin/haproxy -c " + args, "reload": "true"}}
	return haproxy.Kind.Installs(machine{reach.Local(), c.FS()}, &estate.Server{Reach: way})
}

// state is everything below a folder but what begins with a dot.
func state(t *testing.T, dir string) (out []string) {
	require.NoError(t, filepath.WalkDir(dir, func(at string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.HasSuffix(at, ".sock") {
			return err
		}
		info, err := d.Info()
		require.NoError(t, err)
		text, _ := os.ReadFile(at)
		to, _ := os.Readlink(at)
		out = append(out, fmt.Sprintf("%s %s %s %x", at, info.Mode(), to, sha256.Sum256(text)))
		return nil
	}))
	return out
}

// TestInstallingOnEveryConfiguration exchanges the certificate of every site of
// every configuration, and loads one more at every line that takes one: a copy is
// tested and passes, the server's own test passes once it is there, the names are
// shown it and nobody else anything new, a second installation changes nothing but
// the version, and the way back leaves everything as it was.
func TestInstallingOnEveryConfiguration(t *testing.T) {
	list, err := filepath.Glob("testdata/truth/*.txtar")
	require.NoError(t, err)
	made := pairs(t)
	root := pkitest.CA("root", nil)
	installed, copies, refused := 0, 0, map[string]int{}
	for _, file := range list {
		archive, err := txtar.ParseFile(file)
		require.NoError(t, err)
		c := server.Unpack(t, archive, made)
		if c.Refused != "" {
			continue
		}
		before := c.Read(t)
		seen := map[string]bool{}
		for i := range before.Sites {
			if few := 60; len(before.Sites) > few && i%(len(before.Sites)/few*5) != 0 {
				continue // of generated ones a few are enough
			}
			var hosts []string
			for n := range before.Sites[i].Names {
				hosts = append(hosts, before.Sites[i].Names[n].Covers...)
			}
			if seen[fmt.Sprint(hosts)] || len(hosts) == 0 {
				continue
			}
			seen[fmt.Sprint(hosts)] = true
			copies += installOn(t, c, before, root, hosts, &installed, refused)
		}
		copies += installOn(t, c, before, root, []string{"one-more.test"}, &installed, refused)
	}
	t.Log(installed, copies, refused)
	assert.Greater(t, installed, 60)
	assert.Greater(t, copies, installed*9/10)
}

// installOn installs a certificate for some hosts; it gives 1 when a copy was tested.
func installOn(t *testing.T, c *truthtest.Truth, before *kind.Reading, root *pkitest.Entity, hosts []string,
	installed *int,
	refused map[string]int) (copied int) {
	what := filepath.Base(c.Dir) + " " + t.Name() + " " + strings.Join(hosts, " ")
	leaf := pkitest.Leaf(root, hosts[0], func(x *x509.Certificate) { x.DNSNames = hosts })
	key, err := certs.KeyPEM(leaf.Key)
	require.NoError(t, err)
	m := install.Material{Chain: certs.PEM(leaf.Raw), Key: key}
	to, ctx := destination(c), t.Context()
	was := state(t, c.Dir)
	wish := install.Wish{Mandate: "menu", Server: "quay", Names: hosts, Leaf: leaf.Certificate, Version: "1",
		Addresses: []netip.Addr{netip.MustParseAddr("127.0.0.1")}}
	planned, err := to.Plan(ctx, &wish)
	var no *install.RefusedError
	if errors.As(err, &no) {
		assert.NotEmpty(t, no.Next, what)
		_, reason, _ := strings.Cut(strings.ReplaceAll(no.Reason, c.Dir, ""), ": ")
		refused[reason[:min(len(reason), 40)]]++
		return 0
	}
	require.NoError(t, err, what)
	*installed++
	i := &install.Installation{Plan: planned.Plan, Material: m}
	_, err = to.Stage(ctx, &i.Plan, &m)
	require.NoError(t, err, what)
	said, err := to.Try(ctx, &i.Plan)
	require.NoError(t, err, "%s: %+v", what, planned.Plan.Acts)
	if strings.Contains(said, "staged copy passes") {
		copied = 1
	}
	_, err = to.Switch(ctx, &i.Plan)
	require.NoError(t, err, what)
	compare(t, c, before, leaf, hosts, what)

	wish.Version = "2"
	again, err := to.Plan(ctx, &wish)
	require.NoError(t, err, what)
	assert.True(t, again.Unasked, "%s: %+v", what, again.Plan.Acts)
	i2 := &install.Installation{Plan: again.Plan}
	_, err = to.Stage(ctx, &i2.Plan, &m)
	require.NoError(t, err, what)
	said, err = to.Try(ctx, &i2.Plan)
	require.NoError(t, err, "%s: %s", what, said)
	require.NoError(t, to.Clear(ctx, &i2.Plan, false), what)

	_, err = to.Back(ctx, &i.Plan)
	require.NoError(t, err, what)
	require.NoError(t, to.Clear(context.WithoutCancel(ctx), &i.Plan, false), what)
	assert.Equal(t, was, state(t, c.Dir), what)
	return copied
}

// compare asks for every name at every listener what is shown now: the new
// certificate for its own hosts, and what was shown for the others.
func compare(t *testing.T, c *truthtest.Truth, before *kind.Reading, leaf *pkitest.Entity, hosts []string, what string) {
	after := c.Read(t)
	for _, p := range after.Problems {
		assert.NotEqual(t, kind.Refused, p.Effect, "%s: %s", what, p.Error())
	}
	one, other := haproxy.NewIndex(before), haproxy.NewIndex(after)
	mine := map[string]bool{}
	for _, h := range hosts {
		mine[strings.Replace(h, "*", "any-name", 1)] = true
	}
	shownAt := 0
	for i := range before.Listeners {
		l := &before.Listeners[i]
		if !l.Network() || !l.TLS {
			continue
		}
		asked := append([]string{}, c.Names...)
		for h := range mine {
			asked = append(asked, h)
		}
		for _, name := range asked {
			name = strings.Trim(name, "-")
			a, b := one.Answer(name, l.Address), other.Answer(name, l.Address)
			was, is := leaves(before, a.Pairs), leaves(after, b.Pairs)
			if is == leaf.Certificate.Fingerprint.String() || strings.Contains(is, leaf.Certificate.Fingerprint.String()) {
				shownAt++
				continue
			}
			if host, err := names.Host(name); !mine[name] && (err != nil || !names.Covers(leaf.Certificate, host).Covered) {
				assert.Equal(t, was, is, "%s: %q at %s", what, name, l)
			}
		}
	}
	for i := range after.Listeners { // where a section that spoke plain http has got TLS
		l := &after.Listeners[i]
		if !l.Network() || !l.TLS || slices.ContainsFunc(before.Listeners, func(o kind.Listener) bool { return o.Address == l.Address }) {
			continue
		}
		for h := range mine {
			if strings.Contains(leaves(after, other.Answer(h, l.Address).Pairs), leaf.Certificate.Fingerprint.String()) {
				shownAt++
			}
		}
	}
	for i := range before.Listeners { // and nobody else gets anything else in plain http
		l := &before.Listeners[i]
		if !l.Network() || l.TLS || l.Protocol != kind.HTTP {
			continue
		}
		for _, name := range c.Names {
			for _, path := range []string{"/", "/any?x=1", "/.well-known/acme-challenge/token"} {
				if name = strings.Trim(name, "-"); mine[name] && !strings.HasPrefix(path, "/.well") {
					continue
				}
				a, _ := one.Plain(name, l.Address, path)
				b, _ := other.Plain(name, l.Address, path)
				a.Place, b.Place, a.Hidden, b.Hidden = kind.Place{}, kind.Place{}, nil, nil
				assert.Equal(t, a, b, "%s: %q%s at %s", what, name, path, l)
			}
		}
	}
	assert.Positive(t, shownAt, what)
}

// leaves are the certificates of pairs.
func leaves(r *kind.Reading, list []kind.Pair) string {
	var out []string
	for _, p := range list {
		if m := r.Material[p.Certificate]; m != nil {
			out = append(out, m.Chain...)
		}
	}
	return strings.Join(out, " ")
}
