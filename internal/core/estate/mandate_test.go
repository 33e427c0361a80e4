package estate_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/estate"
	"insegna.example/internal/pkitest"
)

var rootOfTests = pkitest.CA("root", nil)

func withRoot(string) ([]byte, error) { return rootOfTests.Raw, nil }

const before = `estate: Ferries
audiences:
  - {name: browsers, roots: [root.pem]}
servers:
  - {name: pier-1, kind: nginx, addresses: [192.0.2.1], reach: {by: local}}
  - {name: edge, addresses: [192.0.2.9]}
hosts:
  - {name: a.lantern.example, at: [pier-1]}
`

// TestMandatesAreRead goes through every key of CAs and mandates.
func TestMandatesAreRead(t *testing.T) {
	e, err := estate.Parse("e.yaml", []byte(before+`cas:
  - name: harbour
    directory: https://ca.example/directory
    test_directory: https://test.ca.example/directory
    contact: [ops@lantern.example, mailto:night@lantern.example]
    roots: [root.pem]
    external_account: {key_id: kid-1, credential: harbour-mac}
    budget: {certificates: 50, days: 7}
    resolver: 192.0.2.53
    http_port: 8080
mandates:
  - {name: plain, names: [A.Lantern.example, fähre.lantern.example], ca: harbour, proof: {by: http, servers: [pier-1], folder: /srv/www}}
  - {name: wild, names: ["*.lantern.example", lantern.example], ca: harbour, proof: {by: dns, server: "192.0.2.53:5353", await: [192.0.2.54], tsig: {name: k, algorithm: hmac-sha512, credential: zone}}, key: rsa-3072, install: ["pier-1:443", edge], renew_days: 20}
`), kinds, withRoot)
	require.NoError(t, err)
	ca := e.CA("harbour")
	assert.Equal(t, []string{"mailto:ops@lantern.example", "mailto:night@lantern.example"}, ca.ACME.Contact)
	assert.Equal(t, "192.0.2.53:53", ca.ACME.Resolver)
	assert.Equal(t, estate.Budget{Certificates: 50, Days: 7}, ca.Budget)
	assert.Equal(t, &estate.External{KeyID: "kid-1", Credential: "harbour-mac"}, ca.ACME.External)
	assert.Len(t, ca.Anchors, 1)
	assert.Equal(t, uint16(8080), ca.ACME.HTTPPort)
	assert.Nil(t, e.CA("other"))
	require.Len(t, e.Mandates, 2)
	plain, wild := e.Mandates[0], e.Mandates[1]
	assert.Equal(t, []string{"a.lantern.example", "xn--fhre-loa.lantern.example"}, plain.Names)
	assert.Equal(t, "ecdsa-p256", plain.Key, "when none is said")
	assert.Equal(t, estate.Proof{By: "http", Servers: []string{"pier-1"}, Folder: "/srv/www"}, plain.Proof)
	assert.Equal(t, estate.Proof{By: "dns", Server: "192.0.2.53:5353", Await: []string{"192.0.2.54:53"},
		TSIG: estate.TSIG{Name: "k", Algorithm: "hmac-sha512", Credential: "zone"}}, wild.Proof)
	assert.Equal(t, 20, wild.RenewDays)
	assert.Equal(t, []string{"root.pem"}, estate.Mentioned([]byte("cas:\n  - {roots: [root.pem]}\n")))
}

// TestMandateFaults holds that each fault is told with its line and what was
// expected.
func TestMandateFaults(t *testing.T) {
	const ca = "cas:\n  - {name: harbour, directory: https://ca.example/d}\n"
	for text, says := range map[string][2]string{
		"cas:\n  - {name: x, directory: http://ca.example/d}\n": {
			"e.yaml:10:26", "an https address"},
		"cas:\n  - {name: x, directory: https://ca.example/d, contact: [nobody]}\n": {
			`found "nobody"`, "an e-mail address"},
		"cas:\n  - {name: x, directory: https://ca.example/d, resolver: ns1.example}\n": {
			`found "ns1.example"`, "an address, or address:port"},
		"cas:\n  - {name: x, directory: https://ca.example/d, budget: {certificates: 0, days: 7}}\n": {
			`found "0"`, "a whole number from 1 to 1000000"},
		"cas:\n  - {name: x, directory: https://ca.example/d}\n  - {name: x, directory: https://ca.example/d}\n": {
			`CA "x" is declared again; first in line 10`, "each CA once"},
		ca + "mandates:\n  - {name: m, names: [a.example.test], ca: other, proof: {by: listener}}\n": {
			`unknown CA "other"`, "one of harbour"},
		ca + "mandates:\n  - {name: m, names: [192.0.2.1], ca: harbour, proof: {by: dns, server: 192.0.2.1, tsig: {name: k, credential: s}}}\n": {
			"an address cannot be proved by dns", "proof by http, listener or tls-alpn"},
		ca + "mandates:\n  - {name: m, names: [a.test.example], ca: harbour, proof: {by: program, program: ../sh}}\n": {
			`found "../sh"`, "--programs"},
		ca + "mandates:\n  - {name: m, names: [a.test.example], ca: harbour, proof: {by: program}}\n": {
			"proof by program says no program", "the key program"},
		ca + "mandates:\n  - {name: m, names: [a.test.example], ca: harbour, proof: {by: call, url: 'http://dns.example/x'}}\n": {
			`found "http://dns.example/x"`, "an https address, or an http one of this machine"},
		ca + "mandates:\n  - {name: m, names: [a.test.example], ca: harbour, otherwise: [harbour], proof: {by: tls-alpn}}\n": {
			"names the CA harbour twice", "each CA once"},
		ca + "mandates:\n  - {name: m, names: [a.test.example], ca: harbour, otherwise: [self-signed], proof: {by: tls-alpn}}\n": {
			"asked in different ways", "CAs asked in the same way"},
		ca + "mandates:\n  - {name: m, names: [a.test.example], ca: harbour, otherwise: [nobody], proof: {by: tls-alpn}}\n": {
			`unknown CA "nobody"`, "one of harbour"},
		ca + "mandates:\n  - {name: m, names: [localhost], ca: harbour, proof: {by: listener}}\n": {
			"is not a name to order", "a DNS name"},
		ca + "mandates:\n  - {name: m, names: [a.test.example, A.test.example], ca: harbour, proof: {by: listener}}\n": {
			"a.test.example stands twice", "each name once"},
		ca + "mandates:\n  - {name: m, names: ['*.test.example'], ca: harbour, proof: {by: listener}}\n": {
			"a wildcard can be proved by dns alone", "proof by dns"},
		ca + "mandates:\n  - {name: m, names: [a.test.example], ca: harbour, proof: {by: mail}}\n": {
			`unknown proof "mail"`, "one of http, listener, tls-alpn, dns, program, call"},
		ca + "mandates:\n  - {name: m, names: [a.test.example], ca: harbour, proof: {by: http}}\n": {
			"says no servers", "the key servers"},
		ca + "mandates:\n  - {name: m, names: [a.test.example], ca: harbour, proof: {by: http, servers: [edge]}}\n": {
			"there is no way to it", "reach for that server"},
		ca + "mandates:\n  - {name: m, names: [a.test.example], ca: harbour, proof: {by: http, servers: [pier-9]}}\n": {
			`unknown server "pier-9"`, "one of edge, pier-1"},
		ca + "mandates:\n  - {name: m, names: [a.test.example], ca: harbour, proof: {by: listener, folder: /x}}\n": {
			"folder belongs to another proof than by listener", "the keys of proof by listener: at"},
		ca + "mandates:\n  - {name: m, names: [a.test.example], ca: harbour, proof: {by: dns, server: 192.0.2.1}}\n": {
			"proof by dns says no tsig", "the key tsig"},
		ca + "mandates:\n  - {name: m, names: [a.test.example], ca: harbour, proof: {by: dns, server: 192.0.2.1, tsig: " +
			"{name: k, credential: s, algorithm: hmac-md5}}}\n": {`unknown algorithm "hmac-md5"`, "hmac-sha256"},
		ca + "mandates:\n  - {name: m, names: [a.test.example], ca: harbour, proof: {by: listener}, key: dsa}\n":               {`unknown kind of key "dsa"`, "ecdsa-p256"},
		ca + "mandates:\n  - {name: m, names: [a.test.example], ca: harbour, proof: {by: listener}, install: [nowhere:443]}\n": {`unknown server "nowhere"`, "one of edge, pier-1"},
		ca + "mandates:\n  - {name: m, names: [" + strings.Repeat("x",
			3) + "], ca: harbour, proof: {by: listener}, renew_days: soon}\n": {`found "soon"`, "a whole number from 1 to 365"},
	} {
		_, err := estate.Parse("e.yaml", []byte(before+text), kinds, withRoot)
		var faults estate.Errors
		require.ErrorAs(t, err, &faults, text)
		assert.Contains(t, err.Error(), says[0])
		assert.Contains(t, err.Error(), says[1])
	}
	e, err := estate.Parse("e.yaml", []byte(before+ca), kinds, withRoot)
	require.NoError(t, err)
	m, err := estate.ParseMandate(
		[]byte(`{"name":"m","names":["a.test.example"],"ca":"harbour","proof":{"by":"listener"}}`), e)
	require.NoError(t, err, "JSON is taken too")
	assert.Equal(t, "m", m[0].Name)
	for _, text := range []string{"", "[", "- x", "name: m", strings.Repeat(" ", 2<<20)} {
		_, err := estate.ParseMandate([]byte(text), e)
		assert.True(t, errors.As(err, new(estate.Errors)), "%.10q", text)
	}
}

// TestHowACAIsAsked holds that the way is a word of the registered ones, ACME
// when none is said, and that only ACME needs a directory.
func TestHowACAIsAsked(t *testing.T) {
	read := func(ca string) (*estate.CA, error) {
		e, err := estate.Parse("e.yaml", []byte(before+"cas:\n  - {"+ca+"}\n"), kinds, withRoot)
		if err != nil {
			return nil, err
		}
		return e.CA("harbour"), nil
	}
	for _, text := range []string{"name: harbour, directory: https://ca.example/d",
		"name: harbour, by: acme, directory: https://ca.example/d"} {
		ca, err := read(text)
		require.NoError(t, err)
		assert.Equal(t, estate.ByACME, ca.By)
		assert.Equal(t, "https://ca.example/d", ca.ACME.Directory)
	}
	_, err := read("name: harbour, by: acme")
	assert.ErrorContains(t, err, "e.yaml:10:5: a CA has no directory; expected the key directory")
	_, err = read("name: harbour, by: pigeon, directory: https://ca.example/d")
	assert.ErrorContains(t, err, `unknown way to ask a CA "pigeon"; expected one of `+strings.Join(estate.Sources, ", "))
	assert.NotContains(t, err.Error(), "has no directory", "what another way needs is not asked for")
}

// TestChangesOfMandates are told field by field.
func TestChangesOfMandates(t *testing.T) {
	read := func(names, key string) *estate.Estate {
		e, err := estate.Parse("e.yaml",
			[]byte(before+"cas:\n  - {name: harbour, directory: https://ca.example/d}\nmandates:\n  - {name: m, names: ["+names+
				"], ca: harbour, proof: {by: listener}, key: "+key+"}\n"), kinds, withRoot)
		require.NoError(t, err)
		return e
	}
	changes := estate.Diff(read("a.test.example", "rsa-2048"), read("a.test.example, b.test.example", "ecdsa-p384"))
	require.Len(t, changes, 1)
	assert.Equal(t, "mandate", changes[0].Kind)
	assert.Equal(t, []string{"names: a.test.example → a.test.example, b.test.example", "key: rsa-2048 → ecdsa-p384"},
		changes[0].Fields)
}

// TestAMandateIsSplit holds the rule by which names come to several certificates: nothing
// is lost, nothing stands twice, and a name added at the end changes the last one alone.
func TestAMandateIsSplit(t *testing.T) {
	list := func(n int) (out []string) {
		for i := range n {
			out = append(out, fmt.Sprintf("h%d.test.example", i))
		}
		return out
	}
	read := func(most string, names []string) ([]estate.Mandate, error) {
		e, err := estate.Parse("e.yaml", []byte(before+"cas:\n  - {name: harbour, directory: https://ca.example/directory}\nmandates:\n  - {name: web, names: ["+strings.Join(names, ", ")+"], ca: harbour, proof: {by: dns, server: "+
			"'127.0.0.1:53', tsig: {name: k, credential: k}}, key: rsa-2048"+most+"}\n"), kinds, withRoot)
		if err != nil {
			return nil, err
		}
		return e.Mandates, nil
	}
	_, err := read("", list(101))
	require.Error(t, err)
	assert.Contains(t, err.Error(), "mandate web has 101 names, too many for one certificate; expected at most 100 names, or the key at_most")
	one, err := read("", list(100))
	require.NoError(t, err)
	assert.Len(t, one, 1)
	many, err := read(", at_most: 40", list(101))
	require.NoError(t, err)
	require.Len(t, many, 3)
	more, err := read(", at_most: 40", list(102))
	require.NoError(t, err)
	assert.Equal(t, many[:2], more[:2], "what is full stays as it is")
	var all []string
	for i, m := range many {
		assert.Equal(t, []string{"web", "web-2", "web-3"}[i], m.Name)
		assert.Equal(t, "rsa-2048 harbour", m.Key+" "+m.CA)
		assert.LessOrEqual(t, len(m.Names), 40)
		all = append(all, m.Names...)
	}
	assert.Equal(t, list(101), all)
	wild, err := read(", at_most: 2", []string{"a.test.example", "'*.test.example'", "test.example", "b.a.test.example", "c.test.example"})
	require.NoError(t, err)
	require.Len(t, wild, 2)
	assert.Equal(t, []string{"*.test.example", "test.example"}, wild[0].Names, "what a wildcard covers is left out")
	assert.Equal(t, []string{"b.a.test.example"}, wild[1].Names, "a wildcard covers one label")
	for _, wrong := range []string{", at_most: 0", ", at_most: 101", ", at_most: some"} {
		_, err := read(wrong, list(3))
		assert.Error(t, err, wrong)
	}
}
