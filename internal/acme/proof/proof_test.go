package proof_test

import (
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/acme"
	"insegna.example/internal/acme/proof"
	"insegna.example/internal/reach"
	"insegna.example/internal/standin/bind"
	"insegna.example/internal/standin/nameserver"
)

var secret = []byte("a secret of thirty-two bytes....")

const zoneText = `$TTL 60
@ IN SOA ns1.%[1]s. ops.%[1]s. 1 3600 600 86400 60
@ IN NS ns1
@ IN NS ns2
ns1 IN A 127.0.0.1
ns2 IN A 127.0.0.1
_acme-challenge.alias IN CNAME _acme-challenge.target
`

func freeAddress(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	return l.Addr().String()
}

// pair starts a primary and a secondary for a zone.
func pair(t *testing.T, zone string) (one, two *bind.Server) {
	dir, err := os.MkdirTemp("", "bind-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	first, second := freeAddress(t), freeAddress(t)
	one, err = bind.Start(bind.Config{Dir: filepath.Join(dir, "1"), Address: first,
		Zones: map[string]string{zone: fmt.Sprintf(zoneText, zone)}, KeyName: "insegna",
		Secret: base64.StdEncoding.EncodeToString(secret), Notify: []string{second}})
	require.NoError(t, err)
	t.Cleanup(one.Stop)
	two, err = bind.Start(bind.Config{Dir: filepath.Join(dir, "2"), Address: second,
		Masters: map[string]string{zone: first}})
	require.NoError(t, err)
	t.Cleanup(two.Stop)
	require.Eventually(t, func() bool { return len(txt(second, "x."+zone)) == 0 && answers(second, zone) },
		20*time.Second, 50*time.Millisecond)
	return one, two
}

func answers(server, zone string) bool {
	r, _, err := new(dns.Client).Exchange(new(dns.Msg).SetQuestion(zone+".", dns.TypeSOA), server)
	return err == nil && len(r.Answer) == 1
}

func txt(server, name string) (out []string) {
	r, _, err := new(dns.Client).Exchange(new(dns.Msg).SetQuestion(name+".", dns.TypeTXT), server)
	if err != nil {
		return nil
	}
	for _, rr := range r.Answer {
		if t, ok := rr.(*dns.TXT); ok {
			out = append(out, strings.Join(t.Txt, ""))
		}
	}
	return out
}

// TestRecordsOnARealNameServer puts records up on BIND, waits for every name
// server, and takes them down; other records of the name stay.
func TestRecordsOnARealNameServer(t *testing.T) {
	one, two := pair(t, "lantern.example")
	u := &proof.Updates{Primary: one.Address, KeyName: "insegna", Algorithm: "hmac-sha256", Secret: secret,
		Servers: []string{one.Address, two.Address}, Patience: 20 * time.Second}
	list := []proof.Publication{
		{Kind: acme.DNS01, Name: "lantern.example", Content: "for-the-apex"},
		{Kind: acme.DNS01, Name: "lantern.example", Content: "for-the-wildcard"},
		{Kind: acme.DNS01, Name: "alias.lantern.example", Content: "behind-an-alias"},
	}
	other := []proof.Publication{{Kind: acme.DNS01, Name: "lantern.example", Content: "somebody-else's"}}
	require.NoError(t, u.Publish(t.Context(), other))
	require.NoError(t, u.Publish(t.Context(), list))
	require.NoError(t, u.Publish(t.Context(), list), "twice is fine")
	require.NoError(t, u.Await(t.Context(), list))
	for _, s := range []*bind.Server{one, two} {
		assert.ElementsMatch(t, []string{"for-the-apex", "for-the-wildcard", "somebody-else's"},
			txt(s.Address, "_acme-challenge.lantern.example"))
		assert.Equal(t, []string{"behind-an-alias"}, txt(s.Address, "_acme-challenge.target.lantern.example"))
	}
	require.NoError(t, u.Withdraw(t.Context(), list))
	require.NoError(t, u.Withdraw(t.Context(), list), "what is not there is fine")
	assert.Equal(t, []string{"somebody-else's"}, txt(one.Address, "_acme-challenge.lantern.example"))

	alone := *u
	alone.Servers = nil
	require.NoError(t, alone.Publish(t.Context(), list[:1]))
	require.NoError(t, alone.Await(t.Context(), list[:1]), "the servers the zone names, at the primary's port")
	require.NoError(t, alone.Withdraw(t.Context(), list[:1]))

	two.Pause()
	u.Patience = time.Second
	require.NoError(t, u.Publish(t.Context(), list[:1]))
	err := u.Await(t.Context(), list[:1])
	var lag *proof.LagError
	require.ErrorAs(t, err, &lag)
	assert.Equal(t, two.Address, lag.Server)
	two.Resume()

	for want, change := range map[string]func(*proof.Updates){
		"the key's secret is another one there": func(u *proof.Updates) { u.Secret = []byte("another one") },
		"knows no key of that name":             func(u *proof.Updates) { u.KeyName = "stranger" },
	} {
		bad := *u
		change(&bad)
		err := bad.Publish(t.Context(), list[:1])
		assert.ErrorContains(t, err, want)
		assert.NotContains(t, err.Error(), base64.StdEncoding.EncodeToString(bad.Secret))
	}
	err = u.Publish(t.Context(), []proof.Publication{{Kind: acme.DNS01, Name: "elsewhere.example", Content: "x"}})
	assert.Error(t, err, "no zone of this server")
}

// elsewhere answers for a name server of this machine at another address, over
// TCP: BIND listens at addresses of interfaces alone.
func elsewhere(t *testing.T, at, to string) {
	l, err := net.Listen("tcp", at)
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer func() { _ = c.Close() }()
				if s, err := net.Dial("tcp", to); err == nil {
					go func() { _, _ = io.Copy(s, c); _ = s.Close() }()
					_, _ = io.Copy(c, s)
				}
			}()
		}
	}()
}

// TestAnAliasIntoAZoneOfAnotherPrimary follows a CNAME out of the mandate's own
// name server: the record goes to the primary of the zone it leads to.
func TestAnAliasIntoAZoneOfAnotherPrimary(t *testing.T) {
	dir := t.TempDir()
	own, behind := freeAddress(t), freeAddress(t)
	_, port, err := net.SplitHostPort(own)
	require.NoError(t, err)
	far := net.JoinHostPort("127.0.0.2", port)
	for at, zone := range map[string][2]string{
		own: {"lantern.example",
			fmt.Sprintf(zoneText, "lantern.example") + "_acme-challenge.far IN CNAME far.proofs.example.\n"},
		behind: {"proofs.example", strings.ReplaceAll(fmt.Sprintf(zoneText, "proofs.example"), "127.0.0.1", "127.0.0.2")},
	} {
		s, err := bind.Start(bind.Config{Dir: filepath.Join(dir, zone[0]), Address: at,
			Zones:   map[string]string{zone[0]: zone[1]},
			KeyName: "insegna", Secret: base64.StdEncoding.EncodeToString(secret)})
		require.NoError(t, err)
		t.Cleanup(s.Stop)
	}
	elsewhere(t, far, behind)
	resolver, err := nameserver.Start(net.IPv4(127, 0, 0, 1))
	require.NoError(t, err)
	t.Cleanup(resolver.Close)
	require.NoError(t, resolver.Set("proofs.example",
		"proofs.example. 60 IN SOA ns1.proofs.example. ops.proofs.example. 1 3600 600 86400 60"))
	require.NoError(t, resolver.Set("ns1.proofs.example", "ns1.proofs.example. 60 IN A 127.0.0.2"))
	u := &proof.Updates{Primary: own, KeyName: "insegna", Algorithm: "hmac-sha256", Secret: secret,
		Patience: 10 * time.Second}
	list := []proof.Publication{{Kind: acme.DNS01, Name: "far.lantern.example", Content: "far away"},
		{Kind: acme.DNS01, Name: "lantern.example", Content: "at home"}}
	assert.ErrorContains(t, u.Publish(t.Context(), list), "look for the zone of far.proofs.example")
	u.Resolver = resolver.Address()
	require.NoError(t, u.Publish(t.Context(), list))
	require.NoError(t, u.Await(t.Context(), list))
	assert.Equal(t, []string{"far away"}, txt(behind, "far.proofs.example"))
	assert.Equal(t, []string{"at home"}, txt(own, "_acme-challenge.lantern.example"))
	require.NoError(t, u.Withdraw(t.Context(), list))
	assert.Empty(t, txt(behind, "far.proofs.example"))
}

// TestFilesOnAServer puts files up in several folders, and says which failed.
func TestFilesOnAServer(t *testing.T) {
	dirs := []string{t.TempDir(), filepath.Join(t.TempDir(), "it's a folder/.well-known/acme-challenge")}
	local := func(context.Context) (reach.Connection, error) { return reach.Local(), nil }
	folders := []proof.Folder{{Server: "pier-1", Path: dirs[0], Open: local},
		{Server: "pier-2", Path: dirs[1], Open: local}}
	f := &proof.Files{Folders: func(string) ([]proof.Folder, error) { return folders, nil }}
	list := []proof.Publication{{Kind: acme.HTTP01, Name: "a.example", Token: "tokenA", Content: "one"},
		{Kind: acme.HTTP01, Name: "b.example", Token: "tokenB", Content: "two"}}
	require.NoError(t, f.Publish(t.Context(), list))
	require.NoError(t, f.Publish(t.Context(), list))
	for _, d := range dirs {
		text, err := os.ReadFile(filepath.Join(d, "tokenB"))
		require.NoError(t, err)
		assert.Equal(t, "two", string(text))
	}
	require.NoError(t, f.Withdraw(t.Context(), list))
	require.NoError(t, f.Withdraw(t.Context(), list))
	left, err := filepath.Glob(dirs[1] + "/*")
	require.NoError(t, err)
	assert.Empty(t, left)
	require.NoError(t, os.WriteFile(filepath.Join(dirs[0], "file"), nil, 0o600))
	folders[0].Path = filepath.Join(dirs[0], "file")
	assert.ErrorContains(t, f.Publish(t.Context(), list[:1]), "cannot put the file up at pier-1 "+dirs[0]+"/file/tokenA")
}
