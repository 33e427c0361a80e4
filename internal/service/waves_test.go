package service_test

import (
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/catest"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/servicetest"
	"insegna.example/internal/standin/ca"
	"insegna.example/internal/standin/process"
)

// convoy is a real HAProxy with three real nginx behind it, all of one name.
type convoy struct {
	at     map[string]string // where each shows the name
	dir    map[string]string
	town   *catest.Town
	estate string
	old    string // SHA-256 of what all show at first
}

func newConvoy(t *testing.T) *convoy {
	f := &convoy{at: map[string]string{}, dir: map[string]string{}}
	first := servicetest.FreeAddress(t) // where the CA asks
	ports := int(netip.MustParseAddrPort(first).Port())
	f.town = catest.Start(t, func(c *ca.Config) { c.HTTPPort = ports })
	former := pkitest.CA("former", nil)
	leaf := pkitest.Leaf(former, deck)
	f.old = leaf.Certificate.Fingerprint.String()
	key, err := certs.KeyPEM(leaf.Key)
	require.NoError(t, err)
	servers := ""
	for _, name := range []string{"n1", "n2", "n3", "lb"} {
		dir, err := os.MkdirTemp("", "fleet-"+name+"-")
		require.NoError(t, err)
		t.Cleanup(func() { _ = os.RemoveAll(dir) })
		require.NoError(t, os.Chmod(dir, 0o755))
		f.at[name], f.dir[name] = servicetest.FreeAddress(t), dir
		plain := servicetest.FreeAddress(t)
		if name == "n1" {
			plain = first
		}
		port := netip.MustParseAddrPort(f.at[name]).Port()
		both := append(certs.PEM(leaf.Raw), key...)
		require.NoError(t, os.WriteFile(dir+"/old.pem", both, 0o600))
		if name == "lb" {
			require.NoError(t, os.WriteFile(dir+"/haproxy.cfg",
				[]byte(fmt.Sprintf("global\n  stats socket %s/admin.sock mode 600 level "+
					"admin\ndefaults\n  mode http\n  timeout client 5s\n  timeout server 5s\n  timeout connect 5s\nfrontend web\n  bind %s ssl "+
					"crt %[1]s/old.pem\n  http-request return\n  default_backend nodes\nbackend nodes\n  server n1 %[3]s ssl verify required "+
					"ca-file %[1]s/trust.pem sni ssl_fc_sni\n", dir, f.at[name], f.at["n1"])), 0o644))
			require.NoError(t, os.WriteFile(dir+"/trust.pem", certs.PEM(former.Raw), 0o644))
			running, err := process.Start(exec.Command("/usr/sbin/haproxy", "-db", "-f", dir+"/haproxy.cfg"), syscall.SIGKILL)
			require.NoError(t, err)
			t.Cleanup(func() { running.Stop(syscall.SIGTERM) })
			servers += fmt.Sprintf("  - {name: lb, kind: haproxy, addresses: [127.0.0.1], ports: [%d], reach: {by: local, configuration: "+
				"%s/haproxy.cfg, test: '/usr/sbin/haproxy -c -f %[2]s/haproxy.cfg', reload: 'test -e %[2]s/reloads'}}\n", port, dir)
			continue
		}
		main := startNginx(t, dir, plain, fmt.Sprintf("server {\n  listen %s;\n  server_name %s;\n  root %s/www;\n}\nserver {\n"+
			"  listen %s ssl;\n  server_name %[2]s;\n  ssl_certificate %[3]s/old.pem;\n  ssl_certificate_key %[3]s/old.pem;\n}\n", plain,
			deck, dir, f.at[name]))
		command := "/usr/sbin/nginx -p " + dir + "/ -c " + main + " -e stderr"
		servers += fmt.Sprintf("  - {name: %s, kind: nginx, addresses: [127.0.0.1], ports: [%d], reach: {by: local, configuration: %s, "+
			"test: '%s -t', reload: 'test ! -e %s/broken && %[4]s -s reload'}}\n", name, port, main, command, dir)
	}
	f.estate = fmt.Sprintf("estate: Ferries\naudiences:\n  - {name: browsers, roots: [root.pem]}\nservers:\n%shosts:\n"+
		"  - {name: %s, at: [n1, n2, n3, lb]}\ncas:\n  - {name: harbour, directory: %q, test_directory: %[3]q, roots: [root.pem], "+
		"resolver: %q, http_port: %d}\nmandates:\n  - {name: deck, names: [%[2]s], ca: harbour, proof: {by: http, servers: [n1]}, "+
		"install: [lb, n1, n2, n3]}\n", servers, deck, f.town.Directory(), f.town.Names.Address(), ports)
	return f
}

// shows waits until servers show certificates, by their SHA-256, once all have settled on want.
func (f *convoy) shows(t *testing.T, want map[string]string) {
	for name, leaf := range want {
		assert.Eventually(t, func() bool {
			conn, err := tls.Dial("tcp", f.at[name], &tls.Config{ServerName: deck, InsecureSkipVerify: true})
			if err != nil {
				return false
			}
			defer func() { _ = conn.Close() }()
			sum := sha256.Sum256(conn.ConnectionState().PeerCertificates[0].Raw)
			return hex.EncodeToString(sum[:]) == leaf
		}, 10*time.Second, 50*time.Millisecond, "%s shows %s", name, leaf)
	}
}

func all(leaf string) map[string]string {
	return map[string]string{"n1": leaf, "n2": leaf, "n3": leaf, "lb": leaf}
}

// waved waits until a wave has ended or waits for a person.
func waved(t *testing.T, c *client.ClientWithResponses, number int64) *client.Wave {
	var last *client.Wave
	require.Eventually(t, func() bool {
		v, err := c.GetWaveWithResponse(t.Context(), number)
		if err != nil || v.JSON200 == nil {
			return false
		}
		last = v.JSON200
		return last.State != client.WaveStateRunning && last.State != client.WaveStateReturning
	}, 2*time.Minute, 50*time.Millisecond)
	return last
}

// begun gives the newest wave, once one of an order was begun.
func begun(t *testing.T, c *client.ClientWithResponses, order int64) (w *client.Wave) {
	require.Eventually(t, func() bool {
		list, err := c.ListWavesWithResponse(t.Context(), &client.ListWavesParams{})
		require.NoError(t, err)
		w = &list.JSON200.Items[0]
		for _, g := range w.Groups {
			assert.Empty(t, g[0].Installation.Acts, "lists do not tell what changes")
		}
		return w.Order == order && w.State != client.WaveStatePreviewed
	}, time.Minute, 100*time.Millisecond)
	return w
}

func orderOf(w *client.Wave) (out []string) {
	for _, g := range w.Groups {
		var names []string
		for _, s := range g {
			names = append(names, s.Server)
		}
		out = append(out, strings.Join(names, " "))
	}
	return out
}

// TestAWave takes one certificate to a balancer and its three nodes: the nodes first,
// one of them alone, each group only once the one before is seen to be well. It stops
// at the first fault, nobody speaks of siblings meanwhile, and a person goes back
// everywhere or stays. What is renewed goes by itself in the same way.
func TestAWave(t *testing.T) {
	t.Parallel()
	f := newConvoy(t)
	r := servicetest.Start(t)
	applied, err := r.Client.ApplyEstateWithResponse(t.Context(), servicetest.File(f.estate, f.town.Root))
	require.NoError(t, err)
	require.NotNil(t, applied.JSON200, string(applied.Body))
	agree(t, r.Client, "harbour")
	survey := func() {
		v, err := r.Client.StartSurveyWithResponse(t.Context(), client.SurveyRequest{})
		require.NoError(t, err)
		require.NotNil(t, v.JSON201, string(v.Body))
		servicetest.Follow(t, r.URL, v.JSON201.Id)
	}
	survey()
	f.shows(t, all(f.old))
	preview := func() *client.Wave {
		v, err := r.Client.PreviewWaveWithResponse(t.Context(), client.WaveRequest{Mandate: "deck"})
		require.NoError(t, err)
		require.NotNil(t, v.JSON201, string(v.Body))
		return v.JSON201
	}
	none, err := r.Client.PreviewWaveWithResponse(t.Context(), client.WaveRequest{Mandate: "deck"})
	require.NoError(t, err)
	assert.Contains(t, string(none.Body), "has brought no certificate yet")
	o := ended(t, r.Client, begin(t, r.Client, "deck", false))
	require.Nil(t, o.Failure, "%+v", o.Failure)
	// The balancer verifies what a node shows, and gets the new CA first.
	refused, err := r.Client.PreviewWaveWithResponse(t.Context(), client.WaveRequest{Mandate: "deck"})
	require.NoError(t, err)
	assert.Equal(t, 409, refused.StatusCode(), string(refused.Body))
	assert.Contains(t, string(refused.Body), "lb, in front of n1, would refuse it at "+f.dir["lb"]+"/haproxy.cfg:")
	give := regexp.MustCompile("give lb the new CA first: insegna installation begin ([0-9]+) adds the certificate of " +
		f.town.Root.CommonName() + " to " + f.dir["lb"] + "/trust.pem").FindStringSubmatch(string(refused.Body))
	require.NotNil(t, give, string(refused.Body))
	number, err := strconv.ParseInt(give[1], 10, 64)
	require.NoError(t, err)
	trust, err := os.ReadFile(f.dir["lb"] + "/trust.pem")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(f.dir["lb"]+"/reloads", nil, 0o600))
	given, err := r.Client.BeginInstallationWithResponse(t.Context(), number)
	require.NoError(t, err)
	require.Equal(t, 200, given.StatusCode(), string(given.Body))
	require.Equal(t, client.InstallationStateDone, settled(t, r.Client, number).State)
	require.NoError(t, os.Remove(f.dir["lb"]+"/reloads"))
	now, err := os.ReadFile(f.dir["lb"] + "/trust.pem")
	require.NoError(t, err)
	assert.Equal(t, string(trust)+string(certs.PEM(f.town.Root.Raw)), string(now))
	w := preview()
	assert.Equal(t, []string{"n1", "n2 n3", "lb"}, orderOf(w))
	f.shows(t, all(f.old))
	_, err = r.Client.BeginWaveWithResponse(t.Context(), w.Number)
	require.NoError(t, err)
	w = waved(t, r.Client, w.Number)
	require.Equal(t, client.WaveStateDone, w.State, "%+v", w)
	f.shows(t, all(*o.Certificate))
	for i, g := range w.Groups[1:] {
		for _, v := range g {
			for _, before := range w.Groups[i] {
				assert.False(t, v.Installation.StartedAt.Before(*before.Installation.FinishedAt), "%s waited for %s", v.Server,
					before.Server)
			}
		}
	}
	twice, err := r.Client.BeginWaveWithResponse(t.Context(), w.Number)
	require.NoError(t, err)
	assert.Equal(t, 409, twice.StatusCode(), string(twice.Body))
	f.old = *o.Certificate
	require.NoError(t, os.WriteFile(f.dir["n3"]+"/broken", nil, 0o600))
	o = ended(t, r.Client, begin(t, r.Client, "deck", false))
	require.Nil(t, o.Failure, "%+v", o.Failure)

	// It goes by itself, and there is a fault on the last node: the balancer is not
	// touched.
	w = begun(t, r.Client, o.Number)
	assert.Equal(t, []string{"n1", "n2 n3", "lb"}, orderOf(w))
	assert.Equal(t, "insegna", w.By)
	w = waved(t, r.Client, w.Number)
	require.Equal(t, client.WaveStateStopped, w.State, "%+v", w)
	assert.Contains(t, w.Reason, "n3 did not take it: ")
	assert.Contains(t, w.Advice, fmt.Sprintf("insegna wave return %d", w.Number))
	assert.Nil(t, w.FinishedAt)
	assert.Equal(t, client.InstallationStatePreviewed, w.Groups[2][0].Installation.State, "the balancer was not begun")
	f.shows(t, map[string]string{"n1": *o.Certificate, "n2": *o.Certificate, "n3": f.old, "lb": f.old})
	survey()
	assert.NotContains(t, strings.Join(r.Findings(t), "\n"), "differs-from-siblings", "both are expected during a wave")
	other, err := r.Client.PreviewWaveWithResponse(t.Context(), client.WaveRequest{Mandate: "deck"})
	require.NoError(t, err)
	require.NotNil(t, other.JSON201, string(other.Body))
	assert.Equal(t, []string{"n1", "n2"}, other.JSON201.There)
	second, err := r.Client.BeginWaveWithResponse(t.Context(), other.JSON201.Number)
	require.NoError(t, err)
	assert.Contains(t, string(second.Body), "another wave of that mandate")

	// Back everywhere.
	_, err = r.Client.ReturnWaveWithResponse(t.Context(), w.Number)
	require.NoError(t, err)
	w = waved(t, r.Client, w.Number)
	require.Equal(t, client.WaveStateReturned, w.State, "%+v", w)
	f.shows(t, all(f.old))
	kept, err := r.Client.KeepWaveWithResponse(t.Context(), w.Number)
	require.NoError(t, err)
	assert.Equal(t, 409, kept.StatusCode())

	// Once more, and left as it stopped; then what is told.
	w = preview()
	_, err = r.Client.BeginWaveWithResponse(t.Context(), w.Number)
	require.NoError(t, err)
	w = waved(t, r.Client, w.Number)
	require.Equal(t, client.WaveStateStopped, w.State, "%+v", w)
	_, err = r.Client.KeepWaveWithResponse(t.Context(), w.Number)
	require.NoError(t, err)
	survey()
	assert.Contains(t, strings.Join(r.Findings(t), "\n"), "differs-from-siblings", "now it is no wave any more")

	// What is left, without the fault.
	require.NoError(t, os.Remove(f.dir["n3"]+"/broken"))
	w = preview()
	assert.Equal(t, []string{"n3", "lb"}, orderOf(w))
	_, err = r.Client.BeginWaveWithResponse(t.Context(), w.Number)
	require.NoError(t, err)
	w = waved(t, r.Client, w.Number)
	require.Equal(t, client.WaveStateDone, w.State, "%+v", w)
	f.shows(t, all(*o.Certificate))
	again, err := r.Client.PreviewWaveWithResponse(t.Context(), client.WaveRequest{Mandate: "deck"})
	require.NoError(t, err)
	assert.Contains(t, string(again.Body), "is installed on lb, n1, n2, n3 already")

	// A renewal goes by itself as well.
	execSQL(t, r.Database, "update mandates set next_at = now() - interval '1 minute'")
	require.NoError(t, r.BeginDue(t.Context()))
	orders, err := r.Client.ListOrdersWithResponse(t.Context(), nil)
	require.NoError(t, err)
	o = ended(t, r.Client, orders.JSON200.Items[0].Number)
	require.Nil(t, o.Failure, "%+v", o.Failure)
	w = waved(t, r.Client, begun(t, r.Client, o.Number).Number)
	require.Equal(t, client.WaveStateDone, w.State, "%+v", w)
	f.shows(t, all(*o.Certificate))

	// One that stopped and nobody decides on is taken up again by itself, when its time
	// has come, and not before.
	require.NoError(t, os.WriteFile(f.dir["n3"]+"/broken", nil, 0o600))
	o = ended(t, r.Client, begin(t, r.Client, "deck", false))
	require.Nil(t, o.Failure, "%+v", o.Failure)
	stopped := waved(t, r.Client, begun(t, r.Client, o.Number).Number)
	require.Equal(t, client.WaveStateStopped, stopped.State, "%+v", stopped)
	require.NoError(t, os.Remove(f.dir["n3"]+"/broken"))
	require.NoError(t, r.InstallDue(t.Context()))
	list, err := r.Client.ListWavesWithResponse(t.Context(), &client.ListWavesParams{})
	require.NoError(t, err)
	assert.Equal(t, stopped.Number, list.JSON200.Items[0].Number, "not yet")
	execSQL(t, r.Database, "update installations set finished_at = finished_at - interval '9 days'")
	require.NoError(t, r.InstallDue(t.Context()))
	w = waved(t, r.Client, begun(t, r.Client, o.Number).Number)
	require.Equal(t, client.WaveStateDone, w.State, "%+v", w)
	assert.Equal(t, []string{"n3", "lb"}, orderOf(w))
	f.shows(t, all(*o.Certificate))
	assert.True(t, verify(t, r, "").Whole)
}
