package service_test

import (
	"crypto/x509"
	"fmt"
	"net/netip"
	"os"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/catest"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/servicetest"
)

// TestHowACopyIsTested rehearses on servers that are tested by different
// commands: a copy is tested where the command can be led to it, and it is told
// where it cannot.
func TestHowACopyIsTested(t *testing.T) {
	t.Parallel()
	q := newQuay(t)
	r := servicetest.Start(t)
	own := q.dir + "/nginx"
	require.NoError(t,
		os.WriteFile(own, []byte("#!/bin/sh\nexec /usr/sbin/nginx -p "+q.dir+"/ -c nginx.conf -e stderr \"$@\"\n"), 0o755))
	require.NoError(t, os.WriteFile(q.dir+"/try", []byte("#!/bin/sh\n"+own+" -t\n"), 0o755))
	strict := q.dir + "/strict/nginx"
	require.NoError(t, os.Mkdir(q.dir+"/strict", 0o755))
	require.NoError(t,
		os.WriteFile(strict,
			[]byte("#!/bin/sh\n[ \"$*\" = -t ] || { echo 'not allowed to run that'; exit 1; }\nexec "+own+" -t\n"), 0o755))
	declared := strings.Replace(q.estate, "install: [quay]",
		"install: [quay, \"quay:"+strconv.Itoa(int(netip.MustParseAddrPort(q.secure).Port()))+"\"]", 1)
	before, rest, _ := strings.Cut(declared, "test: \"")
	_, after, _ := strings.Cut(rest, "\"")
	const copied, asItIs = "the server's own test of a staged copy passes; nothing was changed",
		"the server's own test passes as things are; the command names no file"
	commands := map[string]string{
		"/usr/sbin/nginx -p " + q.dir + "/ -c " + q.site + " -e stderr -t": copied,
		own + " -t": copied,
		"cd / && /usr/sbin/nginx -p " + q.dir + "/ -e stderr -c '" + q.site + "' -t -q": copied,
		"cd / && " + own + " -t": asItIs,
		q.dir + "/try":           asItIs,
		strict + " -t":           "passes as things are; no copy could be tested: not allowed to run that",
	}
	for command, says := range commands {
		q.estate = before + "test: \"" + command + "\"" + after
		q.open(t, r.URL, r.Client)
		rehearse(t, r.Client, q, func(v *client.Installation) {
			assert.Equal(t, client.InstallationStateRehearsed, v.State, "%s: %s", command, v.Reason)
			assert.Contains(t, v.Steps[len(v.Steps)-1].Words, says, command)
			assert.True(t, v.Rehearsal)
			require.Len(t, v.Acts, 2, "nothing is reloaded")
			assert.Equal(t, client.InstallationAct{Does: "test", What: command}, v.Acts[1])
			refused, err := r.Client.ReturnInstallationWithResponse(t.Context(), v.Number)
			require.NoError(t, err)
			assert.Equal(t, 409, refused.StatusCode(), "there is nothing to take back")
		})
	}
	list, err := r.Client.ListInstallationsWithResponse(t.Context(), nil)
	require.NoError(t, err)
	assert.Len(t, list.JSON200.Items, len(commands), "one on each server, however often it is named")
}

// TestAVisitToEveryName walks to an apex, its www and its aliases: each one's
// own trouble is told, with what to do.
func TestAVisitToEveryName(t *testing.T) {
	town := catest.Start(t)
	dir, err := os.MkdirTemp("", "visit-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	plain, secure := servicetest.FreeAddress(t), servicetest.FreeAddress(t)
	leaf := pkitest.Leaf(town.Root, "menu.example",
		func(c *x509.Certificate) { c.DNSNames = append(c.DNSNames, "*.menu.example") })
	key, err := certs.KeyPEM(leaf.Key)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(dir+"/leaf.pem", certs.PEM(leaf.Raw), 0o644))
	require.NoError(t, os.WriteFile(dir+"/leaf.key", key, 0o600))
	sites, hosts := fmt.Sprintf("server { listen %s ssl; server_name menu.example *.menu.example; ssl_certificate "+
		"leaf.pem; ssl_certificate_key leaf.key; return 200; }\n", secure), ""
	for name, does := range map[string]string{
		"menu.example":      "return 308 https://$host$request_uri;",
		"www.menu.example":  "return 302 https://$host$request_uri;",
		"shop.menu.example": "return 301 https://$host/;",
		"gone.menu.example": "return 301 https://$host$request_uri;",
		"old.menu.example":  "return 301 https://menu.example$request_uri;",
		"down.menu.example": "return 301 https://$host$request_uri;",
		"loop.menu.example": "return 301 https://$host$request_uri;",
		"on.menu.example":   "return 301 https://$host$request_uri;",
	} {
		sites += fmt.Sprintf("server { listen %s; server_name %s; %s }\n", plain, name, does)
		hosts += fmt.Sprintf("  - {name: %s, at: [quay]}\n", name)
	}
	for name, to := range map[string]string{"down": "http://$host/", "loop": "https://$host:$server_port/",
		"on": "/start"} {
		sites += fmt.Sprintf("server { listen %s ssl; server_name %s.menu.example; ssl_certificate leaf.pem; "+
			"ssl_certificate_key leaf.key; absolute_redirect off; return 302 %s; }\n", secure, name, to)
	}
	startNginx(t, dir, plain, sites)
	require.NoError(t, town.Names.Set("gone.menu.example"))
	r := servicetest.Start(t)
	r.Apply(t, fmt.Sprintf(`estate: Ferries
audiences:
  - {name: browsers, roots: [root.pem]}
servers:
  - {name: quay, addresses: [127.0.0.1], ports: [%d]}
hosts:
%scas:
  - {name: harbour, directory: %q, roots: [root.pem], resolver: %q, http_port: %d}
mandates:
  - {name: menu, names: [menu.example, www.menu.example, shop.menu.example, gone.menu.example, old.menu.example, down.menu.example, loop.menu.example, on.menu.example, "*.menu.example"], ca: harbour, proof: {by: dns, server: "127.0.0.1:53", tsig: {name: insegna, credential: none}}}
`, netip.MustParseAddrPort(secure).Port(), hosts, town.Directory(), town.Names.Address(), netip.MustParseAddrPort(plain).Port()), town.Root)
	got, err := r.Client.VisitMandateWithResponse(t.Context(), "menu")
	require.NoError(t, err)
	require.NotNil(t, got.JSON200, string(got.Body))
	assert.False(t, got.JSON200.Well)
	told := map[string][]string{}
	for _, v := range got.JSON200.Items {
		var steps []string
		for _, s := range v.Steps {
			steps = append(steps, string(s.Step))
			if !s.Fine {
				told[v.Host] = append(told[v.Host], string(s.Step)+": "+s.Do)
			}
		}
		if v.Host != "*.menu.example" {
			assert.Equal(t, strings.Fields("dns http tls certificate chain trust https"), steps, v.Host)
		}
		assert.Equal(t, v.Well, told[v.Host] == nil, v.Host)
	}
	assert.Equal(t, map[string][]string{
		"www.menu.example":  {"http: make it permanent (301 or 308 instead of 302), so that browsers remember"},
		"shop.menu.example": {"http: keep path and query in the redirect"},
		"down.menu.example": {
			"https: redirect to https: visitors are sent back to plain http, and may go round in circles"},
		"loop.menu.example": {"https: serve the page: it redirects to itself"},
		"gone.menu.example": {"dns: add A and AAAA records for gone.menu.example"},
		"old.menu.example": {
			"http: keep the host: redirect to https://old.menu.example, and from there elsewhere if need be"},
	}, told)
	unknown, err := r.Client.VisitMandateWithResponse(t.Context(), "nobody")
	require.NoError(t, err)
	assert.Equal(t, 404, unknown.StatusCode())
}
