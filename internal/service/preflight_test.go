package service_test

import (
	"encoding/base64"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"insegna.example/internal/standin/process"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/catest"
	"insegna.example/internal/servicetest"
	"insegna.example/internal/standin/bind"
	"insegna.example/internal/standin/ca"
)

// startNginx runs a real nginx with sites at one address until the test ends,
// and gives the path of its main file.
func startNginx(t *testing.T, dir, at, sites string) string {
	require.NoError(t, os.MkdirAll(dir, 0o755))
	user := ""
	if os.Geteuid() == 0 {
		user = "user root;\n"
	}
	main := filepath.Join(dir, "nginx.conf")
	head := user + "daemon off; pid nginx.pid; error_log stderr;\nevents {}\nhttp {\naccess_log off; " +
		"client_body_temp_path t1; proxy_temp_path t2; fastcgi_temp_path t3; uwsgi_temp_path t4; scgi_temp_path t5;\n"
	require.NoError(t, os.WriteFile(main, []byte(head+sites+"}\n"), 0o644))
	cmd := exec.Command("/usr/sbin/nginx", "-p", dir+"/", "-c", main, "-e", "stderr")
	nginx, err := process.Start(cmd, syscall.SIGKILL)
	require.NoError(t, err)
	t.Cleanup(func() { nginx.Stop(syscall.SIGTERM) })
	require.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", at)
		if err == nil {
			_ = conn.Close()
		}
		return err == nil
	}, 20*time.Second, 20*time.Millisecond)
	return main
}

// line finds the line of a text in a file.
func line(t *testing.T, path, text string) string {
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	before, _, ok := strings.Cut(string(data), text)
	require.True(t, ok, text)
	return path + ":" + strconv.Itoa(strings.Count(before, "\n")+1)
}

// TestPreflightFindsWhatIsInTheWay tries every way a proof fails on real nginx
// and BIND: each is found before the CA is asked, with its place and remedy.
func TestPreflightFindsWhatIsInTheWay(t *testing.T) {
	t.Parallel()
	dir, err := os.MkdirTemp("", "preflight-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	_, port, err := net.SplitHostPort(servicetest.FreeAddress(t))
	require.NoError(t, err)
	one, two := "127.21.0.1:"+port, "127.21.0.2:"+port
	www := func(n string) string {
		d := filepath.Join(dir, "www"+n)
		require.NoError(t, os.MkdirAll(d, 0o755))
		return d
	}
	site := func(at, name, rules string) string {
		return "server { listen " + at + "; server_name " + name + ".lantern.example;\n" + rules + "\n}\n"
	}
	root := "root " + www("1") + ";"
	first := startNginx(t, filepath.Join(dir, "1"), one,
		site(one, "fine", root)+site(one, "six", root)+site(one, "pair", root)+site(one, "app",
			"location / { proxy_pass http://127.21.0.1:1; }")+
			site(one, "moved", "return 301 https://elsewhere.example$request_uri;")+site(one, "dots",
			root+"\nlocation ~ /\\. { deny all; }")+site(one, "forbidden", root))
	second := startNginx(t, filepath.Join(dir, "2"), two, site(two, "pair", "root "+www("2")+";"))

	zone := `$TTL 1
@ IN SOA ns1 ops 1 3600 600 86400 1
@ IN NS ns1
ns1 IN A 127.0.0.1
fine IN A 127.21.0.1
six IN A 127.21.0.1
six IN AAAA ::1
pair IN A 127.21.0.1
pair IN A 127.21.0.2
app IN A 127.21.0.1
moved IN A 127.21.0.1
dots IN A 127.21.0.1
closed IN A 127.21.0.3
wrong IN A 127.21.0.9
forbidden IN A 127.21.0.1
forbidden IN CAA 0 issue "other.example"
wild IN CAA 0 issue "harbourlight.example"
wild IN CAA 0 issuewild ";"
account IN A 127.21.0.1
account IN CAA 0 issue "harbourlight.example; validationmethods=dns-01"
`
	secret := []byte("a secret of thirty-two bytes....")
	names, lagging := servicetest.FreeAddress(t), servicetest.FreeAddress(t)
	primary, err := bind.Start(bind.Config{Dir: filepath.Join(dir, "b1"), Address: names,
		Zones: map[string]string{"lantern.example": zone,
			"example": "$TTL 1\n@ IN SOA ns.test. ops.test. 1 3600 600 86400 1\n@ IN NS ns.test.\n"}, KeyName: "insegna",
		Secret: base64.StdEncoding.EncodeToString(secret)})
	require.NoError(t, err)
	t.Cleanup(primary.Stop)
	// Copies the zone at its start and hears of no change: it is not notified.
	secondary, err := bind.Start(bind.Config{Dir: filepath.Join(dir, "b2"), Address: lagging,
		Masters: map[string]string{"lantern.example": names}})
	require.NoError(t, err)
	t.Cleanup(secondary.Stop)

	place := catest.Start(t, func(c *ca.Config) {
		c.Resolver = names
		c.HTTPPort, err = strconv.Atoi(port)
		require.NoError(t, err)
	})
	mandates := ""
	for _, name := range []string{"fine", "six", "pair", "app", "moved", "dots", "closed", "wrong", "forbidden",
		"account"} {
		folder := ""
		if name == "closed" || name == "wrong" || name == "account" {
			folder = ", folder: " + www("1")
		}
		mandates += fmt.Sprintf("  - {name: %s, names: [%s.lantern.example], ca: harbour, proof: {by: http, servers: "+
			"[pier-1]%s}}\n", name, name, folder)
	}
	mandates += fmt.Sprintf("  - {name: both, names: [pair.lantern.example], ca: harbour, proof: {by: http, servers: "+
		"[pier-1, pier-2]}}\n"+
		"  - {name: seen, names: [a.lantern.example], ca: harbour, proof: {by: dns, server: %q, tsig: {name: insegna, "+
		"credential: tsig}}}\n"+
		"  - {name: late, names: [a.lantern.example], ca: harbour, proof: {by: dns, server: %q, await: [%q, %q], tsig: "+
		"{name: insegna, credential: tsig}}}\n"+
		"  - {name: stranger, names: [a.lantern.example], ca: harbour, proof: {by: dns, server: %q, tsig: {name: insegna, "+
		"credential: other}}}\n"+
		"  - {name: wild, names: ['*.wild.lantern.example'], ca: harbour, proof: {by: dns, server: %q, tsig: {name: "+
		"insegna, credential: tsig}}}\n", names, names, names, lagging, names, names)
	r := servicetest.Start(t)
	r.Apply(t, fmt.Sprintf(`estate: Ferries
audiences:
  - {name: browsers, roots: [root.pem]}
servers:
  - {name: pier-1, kind: nginx, addresses: [127.21.0.1], ports: [1], reach: {by: local, configuration: %s, test: "true"}}
  - {name: pier-2, kind: nginx, addresses: [127.21.0.2], ports: [1], reach: {by: local, configuration: %s, test: "true"}}
  - {name: dark, addresses: [127.21.0.3], ports: [1]}
hosts:
  - {name: fine.lantern.example, at: [pier-1]}
cas:
  - {name: harbour, directory: %q, roots: [root.pem], resolver: %q, http_port: %s}
mandates:
%s`, first, second, place.Directory(), names, port, mandates), place.Root)
	for name, value := range map[string][]byte{"tsig": secret, "other": []byte("another secret altogether, wrong")} {
		put, err := r.Client.AddCredentialWithResponse(t.Context(), name,
			client.CredentialValue{Value: base64.StdEncoding.EncodeToString(value)})
		require.NoError(t, err)
		require.Equal(t, 204, put.StatusCode())
	}
	agree(t, r.Client, "harbour")
	r.Survey(t)
	_, before := place.Requests()
	for mandate, want := range map[string][3]string{ // code, spot, remedy; "" for nothing in the way
		"fine": {}, "both": {}, "seen": {},
		"closed":    {"port-closed", "127.21.0.3:" + port, "without TLS at port " + port},
		"wrong":     {"wrong-address", "wrong.lantern.example A 127.21.0.9", "no server of the estate"},
		"six":       {"ipv6-astray", "six.lantern.example AAAA ::1", "take the AAAA record of six.lantern.example away"},
		"pair":      {"one-node-only", two, "add pier-2 to the servers"},
		"app":       {"path-passed-on", line(t, first, "proxy_pass"), "location ^~ /.well-known/acme-challenge/"},
		"moved":     {"path-redirected", line(t, first, "return 301"), "move the redirect into location /"},
		"dots":      {"path-denied", line(t, first, "deny all"), "location ^~ /.well-known/acme-challenge/"},
		"forbidden": {"caa-forbids", "forbidden.lantern.example CAA", `CAA 0 issue "harbourlight.example"`},
		"account":   {"caa-forbids", "account.lantern.example CAA", `CAA 0 issue "harbourlight.example"`},
		"wild":      {"caa-forbids", "wild.lantern.example CAA", `CAA 0 issuewild "harbourlight.example"`},
		"late":      {"name-server-lags", lagging + " zone lantern.example.", "does not follow the primary"},
		"stranger":  {"update-refused", names + " zone lantern.example.", "correct the key"},
	} {
		t.Run(mandate, func(t *testing.T) {
			got, err := r.Client.CheckMandateWithResponse(t.Context(), mandate)
			require.NoError(t, err)
			require.NotNil(t, got.JSON200, string(got.Body))
			met := [3]string{}
			for _, trial := range got.JSON200.Items {
				if trial.Code != "" && met[0] == "" {
					met = [3]string{trial.Code, trial.Spot, trial.Remedy}
				}
			}
			assert.Equal(t, want[0] == "", got.JSON200.Well)
			assert.Equal(t, want[:2], met[:2], string(got.Body))
			assert.Contains(t, met[2], want[2])
		})
	}
	_, after := place.Requests()
	assert.Equal(t, before, after, "the CA was not asked")
	left, err := filepath.Glob(dir + "/www*/.well-known/acme-challenge/*")
	require.NoError(t, err)
	assert.Empty(t, left)
	var probes int
	r.Query(t, "select count(*) from probes", &probes)
	assert.Zero(t, probes)
	o := ended(t, r.Client, begin(t, r.Client, "both", false))
	assert.Nil(t, o.Failure, "what pre-flight finds well, the CA does too: %+v", o.Failure)
	o = ended(t, r.Client, begin(t, r.Client, "seen", false))
	assert.Nil(t, o.Failure, "%+v", o.Failure)
}
