package cli_test

import (
	"encoding/json"
	"fmt"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/catest"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/httpapi"
	"insegna.example/internal/servicetest"
	"insegna.example/internal/standin/ca"
)

// TestFromNamesToACertificate goes the way of the guide: terms, secret,
// mandate, pre-flight, rehearsal, order, certificate.
func TestFromNamesToACertificate(t *testing.T) {
	r := servicetest.Start(t)
	web := httptest.NewServer(httpapi.Proofs(r.Service))
	defer web.Close()
	port := int(netip.MustParseAddrPort(web.Listener.Addr().String()).Port())
	place := catest.Start(t, func(c *ca.Config) { c.HTTPPort = port })
	dir := t.TempDir()
	run := func(args ...string) result { return insegna(t, dir, r.URL, args...) }
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	write("root.pem", string(certs.PEM(place.Root.Raw)))
	write("estate.yaml",
		fmt.Sprintf("estate: Ferries\naudiences:\n  - {name: browsers, roots: [root.pem]}\nservers:\n  - {name: quay, "+
			"addresses: [127.0.0.1], ports: [1]}\nhosts:\n  - {name: a.lantern.example, at: [quay]}\n"+
			"cas:\n  - {name: harbour, directory: %q, test_directory: %q, roots: [root.pem], resolver: %q, http_port: %d, "+
			"budget: {certificates: 5, days: 7}}\n  - {name: beacon, directory: %[1]q, roots: [root.pem], resolver: %[3]q, http_port: %[4]d}\n",
			place.Directory(), place.Directory(), place.Names.Address(), port))
	require.Equal(t, 0, run("estate", "apply", "estate.yaml").code)
	assert.Contains(t, run("mandate", "list").out, "insegna mandate draft")
	assert.Contains(t, run("ca", "list").out, "nobody has agreed")

	write("m.yaml", "name: deck\nnames: [a.lantern.example, \"*.lantern.example\"]\nca: harbour\nproof: {by: listener}\n")
	r1 := run("mandate", "add", "m.yaml")
	assert.Equal(t, 1, r1.code)
	assert.Contains(t, r1.err,
		"mandate:1:1: mandate deck holds *.lantern.example, and a wildcard can be proved by dns alone; expected proof by dns")
	write("m.yaml",
		"name: deck\nnames: [a.lantern.example, www.lantern.example]\nca: harbour\notherwise: [beacon]\nproof: {by: listener}\nkey: ecdsa-p384\n")
	assert.Contains(t, run("mandate", "add", "m.yaml").out, "Nothing is ordered yet")
	assert.Contains(t, run("mandate", "add", "m.yaml").err, "there is a mandate of that name already")
	r1 = run("mandate", "order", "deck")
	assert.Contains(t, r1.err,
		"nobody has agreed to the terms of harbour yet\n         read and agree to them: insegna ca agree harbour")
	r1 = run("ca", "agree", "harbour")
	require.Contains(t, r1.out, "Read them.")
	terms := r1.out[strings.LastIndex(r1.out, "https://"):]
	assert.Equal(t, 1, run("ca", "agree", "harbour", "--terms", "https://elsewhere.example/").code)
	assert.Contains(t, run("ca", "agree", "harbour", "--terms", strings.TrimSpace(terms)).out, "keeper agreed to")

	r1 = run("mandate", "check", "deck")
	assert.Equal(t, 0, r1.code, r1.err)
	assert.Contains(t, r1.out, "Nothing is in the way. Order it: insegna mandate order deck")
	assert.Contains(t, r1.out, "no CAA record; every CA may issue")
	assert.Contains(t, r1.out, "quay at 127.0.0.1:")
	assert.Regexp(t, `(?s)a.lantern.example\s+for harbour .*a.lantern.example\s+for beacon`, strings.ReplaceAll(r1.out, "\n", " "))
	assert.Contains(t, run("mandate", "show", "deck").out, "harbour, else beacon")
	r1 = run("mandate", "rehearse", "deck")
	assert.Contains(t, r1.out, "The rehearsal went well to its end", r1.err)
	r1 = run("mandate", "order", "deck")
	assert.Contains(t, r1.out, "✓  key          a key of the kind ecdsa-p384 is made and encrypted")
	assert.Contains(t, r1.out, "Issued: certificate and key lie in the safe")
	var list []struct{ Number int }
	require.NoError(t, json.Unmarshal([]byte(run("order", "list", "-o", "json").out), &list))
	require.Len(t, list, 2)
	r1 = run("order", "certificate", fmt.Sprint(list[0].Number))
	chain, err := certs.ReadCertificates([]byte(r1.out))
	require.NoError(t, err)
	assert.Equal(t, []string{"a.lantern.example", "www.lantern.example"}, chain[0].DNSNames)
	assert.Contains(t, run("order", "show", fmt.Sprint(list[0].Number)).out, "the proofs are taken down")
	assert.Contains(t, run("mandate", "show", "deck").out, "1 of 5 certificates used in 7 days")
	assert.Contains(t, run("mandate", "list").out, "its CA suggests")

	place.Faults.Set(ca.Fault{Limited: 3600e9})
	r1 = run("mandate", "order", "deck")
	assert.Equal(t, 2, r1.code, "what is in force is not ordered again unasked")
	r1 = run("mandate", "order", "deck", "--yes")
	assert.Equal(t, 1, r1.code)
	assert.Contains(t, r1.err, "too many certificates already issued for this set of names\n         wait;")
	write("key", "c2VjcmV0IG9mIHRoZSB6b25lIHNlcnZlcg==\n")
	assert.Contains(t, run("credential", "add", "zone", "--file", "key").out, "in the safe")
	assert.NotContains(t, run("credential", "list", "-o", "json").out, "c2VjcmV0")
	assert.Equal(t, 0, run("credential", "remove", "zone").code)
	assert.Equal(t, 0, run("mandate", "remove", "deck").code)
	assert.Contains(t, run("mandate", "show", "deck").err, `there is no mandate "deck"; see: insegna mandate list`)
	for _, wrong := range [][]string{{"order", "show", "x"}, {"mandate", "draft", "--site", "x"}, {"mandate", "add"}} {
		assert.Equal(t, 2, run(wrong...).code, wrong)
	}
}
