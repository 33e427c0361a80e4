package service_test

import (
	"bytes"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"fmt"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/catest"
	"insegna.example/internal/servicetest"
	"insegna.example/internal/standin/ca"
)

const deck = "deck.lantern.example"

// quay is a real nginx with a plain site, an estate that knows it, and a
// mandate for the site.
type quay struct {
	dir, site     string
	plain, secure string
	town          *catest.Town
	estate        string
}

func newQuay(t *testing.T) *quay {
	dir, err := os.MkdirTemp("", "quay-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	q := &quay{dir: dir, plain: servicetest.FreeAddress(t), secure: servicetest.FreeAddress(t)}
	require.NoError(t, os.MkdirAll(dir+"/www", 0o755))
	require.NoError(t, os.WriteFile(dir+"/www/index.html", []byte("deck plans"), 0o644))
	main := startNginx(t, dir, q.plain,
		fmt.Sprintf("server {\n  listen %s;\n  server_name %s;\n  root %s/www;\n}\n", q.plain, deck, dir))
	// What nginx runs in the foreground for the test is commanded as a service is.
	command := "/usr/sbin/nginx -p " + dir + "/ -c " + main + " -e stderr"
	q.site = main
	port := netip.MustParseAddrPort(q.plain).Port()
	q.town = catest.Start(t, func(c *ca.Config) { c.HTTPPort = int(port) })
	q.estate = fmt.Sprintf(`estate: Ferries
audiences:
  - {name: browsers, roots: [root.pem]}
servers:
  - {name: quay, kind: nginx, addresses: [127.0.0.1], ports: [%d], reach: {by: local, configuration: %s, test: %q, reload: %q}}
hosts:
  - {name: %s, at: [quay]}
cas:
  - {name: harbour, directory: %q, test_directory: %[6]q, roots: [root.pem], resolver: %q, http_port: %d}
mandates:
  - {name: deck, names: [%s], ca: harbour, proof: {by: http, servers: [quay]}, install: [quay]}
`, netip.MustParseAddrPort(q.secure).Port(), main, command+" -t", command+" -s reload", deck, q.town.Directory(), q.town.Names.Address(), port, deck)
	return q
}

// open applies the estate, agrees, and has the configuration read.
func (q *quay) open(t *testing.T, url string, c *client.ClientWithResponses) {
	applied, err := c.ApplyEstateWithResponse(t.Context(), servicetest.File(q.estate, q.town.Root))
	require.NoError(t, err)
	require.NotNil(t, applied.JSON200, string(applied.Body))
	agree(t, c, "harbour")
	v, err := c.StartSurveyWithResponse(t.Context(), client.SurveyRequest{})
	require.NoError(t, err)
	require.NotNil(t, v.JSON201, string(v.Body))
	servicetest.Follow(t, url, v.JSON201.Id)
}

// served gives the SHA-256 of what the site shows; "" for nothing.
func (q *quay) served() string {
	conn, err := tls.Dial("tcp", q.secure, &tls.Config{ServerName: deck, InsecureSkipVerify: true})
	if err != nil {
		return ""
	}
	defer func() { _ = conn.Close() }()
	sum := sha256.Sum256(conn.ConnectionState().PeerCertificates[0].Raw)
	return hex.EncodeToString(sum[:])
}

func preview(t *testing.T, c *client.ClientWithResponses, mandate string) *client.Installation {
	v, err := c.PreviewInstallationWithResponse(t.Context(), client.InstallationRequest{Mandate: mandate})
	require.NoError(t, err)
	require.NotNil(t, v.JSON201, string(v.Body))
	return v.JSON201
}

// settled waits until an installation has ended.
func settled(t *testing.T, c *client.ClientWithResponses, number int64) *client.Installation {
	var last *client.Installation
	require.Eventually(t, func() bool {
		v, err := c.GetInstallationWithResponse(t.Context(), number)
		if err != nil || v.JSON200 == nil {
			return false
		}
		last = v.JSON200
		return last.FinishedAt != nil
	}, time.Minute, 30*time.Millisecond)
	return last
}

// newest gives the last installation, once there is one of a certificate.
func newest(t *testing.T, c *client.ClientWithResponses, certificate string) *client.Installation {
	var last *client.Installation
	require.Eventually(t, func() bool {
		list, err := c.ListInstallationsWithResponse(t.Context(), nil)
		if err != nil || list.JSON200 == nil || len(list.JSON200.Items) == 0 ||
			list.JSON200.Items[0].Certificate == nil || *list.JSON200.Items[0].Certificate != certificate {
			return false
		}
		last = &list.JSON200.Items[0]
		return true
	}, time.Minute, 50*time.Millisecond)
	return last
}

func stepsOf(v *client.Installation) (list []string) {
	for _, s := range v.Steps {
		list = append(list, s.Step)
	}
	return list
}

// rehearse runs a rehearsal to its end, and looks that nothing was changed.
func rehearse(t *testing.T, c *client.ClientWithResponses, q *quay, check func(*client.Installation)) {
	before, err := os.ReadFile(q.site)
	require.NoError(t, err)
	served := q.served()
	o := ended(t, c, begin(t, c, "deck", true))
	require.Nil(t, o.Failure, "%+v", o.Failure)
	require.Eventually(t, func() bool {
		m, err := c.GetMandateWithResponse(t.Context(), "deck")
		if err != nil || m.JSON200.Rehearsed.Number != o.Number || len(m.JSON200.RehearsedOn) == 0 ||
			m.JSON200.RehearsedOn[0].FinishedAt == nil {
			return false
		}
		check(settled(t, c, m.JSON200.RehearsedOn[0].Number))
		return true
	}, 20*time.Second, 50*time.Millisecond)
	after, err := os.ReadFile(q.site)
	require.NoError(t, err)
	assert.Equal(t, string(before), string(after))
	assert.Equal(t, served, q.served())
	left, err := filepath.Glob(q.dir + "/[.i]*")
	require.NoError(t, err)
	assert.Empty(t, left, "nothing is left behind")
}

// TestNothingIsOrderedThatCannotBeInstalled breaks what is local in several ways:
// neither an order nor a run to https reaches the CA then, and the mandate a run
// has made is gone.
func TestNothingIsOrderedThatCannotBeInstalled(t *testing.T) {
	t.Parallel()
	q := newQuay(t)
	r := servicetest.Start(t)
	declared := q.estate
	whole, err := os.ReadFile(q.site)
	require.NoError(t, err)
	q.open(t, r.URL, r.Client) // so that there is a reading, of before
	write := func(path, text string) { require.NoError(t, os.WriteFile(path, []byte(text), 0o644)) }
	for name, c := range map[string]struct {
		spoil  func()
		reason string
		begins bool // a run to https finds out only when it is about to order
	}{
		"its test fails": {func() { q.estate = strings.Replace(declared, "-e stderr -t", "-e stderr -g nonsense -t", 1) },
			"nonsense", true},
		"it is not read": {
			func() { q.estate = strings.Replace(declared, "configuration: "+q.dir, "configuration: /nowhere", 1) },
			"/nowhere/nginx.conf", true},
		"no site fits": {
			func() { write(q.site, strings.ReplaceAll(string(whole), deck, "other.example")) }, "no site", false},
		"it cannot be written": {func() { write(q.dir+"/insegna", "") }, q.dir + "/insegna", true},
	} {
		t.Run(name, func(t *testing.T) {
			q.estate = declared
			c.spoil()
			q.open(t, r.URL, r.Client)
			before := q.town.CA.Orders()
			o, err := r.Client.BeginOrderWithResponse(t.Context(), client.OrderRequest{Mandate: "deck"})
			require.NoError(t, err)
			require.Nil(t, o.JSON201, "it must not be ordered")
			assert.Contains(t, string(o.Body), c.reason)
			assert.Contains(t, string(o.Body), "--anyway")

			q.estate, _, _ = strings.Cut(q.estate, "mandates:")
			q.open(t, r.URL, r.Client)
			v, err := r.Client.BeginHttpsWithResponse(t.Context(), client.HttpsRequest{Server: "quay", Host: deck})
			require.NoError(t, err)
			if !c.begins {
				assert.Nil(t, v.JSON201)
			} else {
				require.NotNil(t, v.JSON201, string(v.Body))
				run := waitsOrEnded(t, r.Client, v.JSON201.Number)
				assert.Equal(t, client.HttpsRunStateFailed, run.State)
				assert.Contains(t, run.Reason, c.reason)
				assert.Contains(t, run.Reason, "is taken away again")
			}
			list, err := r.Client.ListMandatesWithResponse(t.Context(), nil)
			require.NoError(t, err)
			assert.Empty(t, list.JSON200.Items)
			assert.Equal(t, before, q.town.CA.Orders())
			write(q.site, string(whole))
			_ = os.Remove(q.dir + "/insegna")
			left, err := filepath.Glob(q.dir + "/[.i]*")
			require.NoError(t, err)
			assert.Empty(t, left, "nothing is left behind")
		})
	}
}

// TestAServerIsPreparedForTheCA takes a site to https whose own rules stand before
// what the CA asks for: that is shown and waits for a person, and goes on then.
func TestAServerIsPreparedForTheCA(t *testing.T) {
	t.Parallel()
	q := newQuay(t)
	r := servicetest.Start(t)
	whole, err := os.ReadFile(q.site)
	require.NoError(t, err)
	// The site is written, and not switched on either.
	main, site, cut := strings.Cut(string(whole), "server {")
	require.True(t, cut)
	end := strings.LastIndex(site, "}")
	main += "include " + q.dir + "/sites-enabled/*;\n" + site[end:]
	denied := "server {" + strings.Replace(site[:end], "server_name", "location ~ /\\. { deny all; }\n  server_name", 1)
	for _, name := range []string{"available", "enabled"} {
		require.NoError(t, os.Mkdir(q.dir+"/sites-"+name, 0o755))
	}
	require.NoError(t, os.WriteFile(q.site, []byte(main), 0o644))
	q.site = q.dir + "/sites-available/deck"
	require.NoError(t, os.WriteFile(q.site, []byte(denied), 0o644))
	configuration := q.dir + "/nginx.conf"
	require.NoError(t,
		exec.Command("/usr/sbin/nginx", "-p", q.dir+"/", "-c", configuration, "-e", "stderr", "-s", "reload").Run())
	q.estate, _, _ = strings.Cut(q.estate, "mandates:")
	q.open(t, r.URL, r.Client)
	begun, err := r.Client.BeginHttpsWithResponse(t.Context(), client.HttpsRequest{Server: "quay", Host: deck})
	require.NoError(t, err)
	require.NotNil(t, begun.JSON201, string(begun.Body))
	number := begun.JSON201.Number

	run := waitsOrEnded(t, r.Client, number)
	require.Equal(t, client.HttpsRunStatePrepared, run.State, run.Reason)
	require.Len(t, run.Preparation.Files, 1)
	assert.Contains(t, run.Preparation.Files[0].Diff, "+  location ^~ /.insegna-proofs/ {")
	assert.Equal(t, "link", run.Preparation.Acts[0].Does)
	assert.Equal(t, q.dir+"/sites-enabled/deck → "+q.site, run.Preparation.Acts[0].What)
	assert.Zero(t, q.town.CA.Orders())
	text, err := os.ReadFile(q.site)
	require.NoError(t, err)
	assert.Equal(t, denied, string(text), "nothing is changed unasked")

	run = waitsOrEnded(t, r.Client, number)
	require.Equal(t, client.HttpsRunStatePreviewed, run.State, "%s %+v", run.Reason, run.Trials)
	var steps []string
	for _, s := range run.Preparation.Steps {
		steps = append(steps, s.Step+" "+string(s.Outcome))
	}
	assert.Equal(t, []string{"stage done", "test done", "switch done", "reload done", "look done"}, steps)
	run = waitsOrEnded(t, r.Client, number)
	require.Equal(t, client.HttpsRunStateDone, run.State, run.Reason)
	text, err = os.ReadFile(q.site)
	require.NoError(t, err)
	assert.Contains(t, string(text), "/.insegna-proofs/", "it is kept, for the renewals")
	assert.NotEmpty(t, q.served())
	removedWhileUsed(t, r, run.Mandate)
}

// removedWhileUsed holds that a mandate whose certificate visitors get is not
// removed by the way, and that nobody forgets what is not renewed then.
func removedWhileUsed(t *testing.T, r *servicetest.Running, mandate string) {
	require.Eventually(t, func() bool {
		m, err := r.Client.GetMandateWithResponse(t.Context(), mandate)
		return err == nil && m.JSON200 != nil && m.JSON200.SeenAt == 1
	}, 20*time.Second, 50*time.Millisecond)
	m, err := r.Client.GetMandateWithResponse(t.Context(), mandate)
	require.NoError(t, err)
	assert.Equal(t, []string{"quay"}, m.JSON200.InstalledOn)
	refused, err := r.Client.RemoveMandateWithResponse(t.Context(), mandate, nil)
	require.NoError(t, err)
	assert.Equal(t, 409, refused.StatusCode())
	assert.Contains(t, string(refused.Body), "is still used: installed on quay, seen at 1 bindings")
	yes := true
	removed, err := r.Client.RemoveMandateWithResponse(t.Context(), mandate, &client.RemoveMandateParams{Used: &yes})
	require.NoError(t, err)
	require.Equal(t, 204, removed.StatusCode(), string(removed.Body))
	r.Survey(t)
	assert.Equal(t, []string{"not-renewed " + deck + " at quay"}, r.Findings(t))
}

// waitsOrEnded agrees to a run's mandate and gives the run once it waits again or
// has ended.
func waitsOrEnded(t *testing.T, c *client.ClientWithResponses, number int64) (run *client.HttpsRun) {
	_, err := c.ContinueHttpsWithResponse(t.Context(), number)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		v, err := c.GetHttpsWithResponse(t.Context(), number)
		if err != nil || v.JSON200 == nil {
			return false
		}
		run = v.JSON200
		return run.FinishedAt != nil || run.State == client.HttpsRunStatePreviewed ||
			run.State == client.HttpsRunStatePrepared
	}, time.Minute, 50*time.Millisecond)
	return run
}

// TestRenewedAndInstalledByItself takes a plain site to https, renews it
// unattended under traffic, refuses what changed by hand, and goes back.
func TestRenewedAndInstalledByItself(t *testing.T) {
	t.Parallel()
	q := newQuay(t)
	r := servicetest.Start(t)
	q.open(t, r.URL, r.Client)
	before, err := os.ReadFile(q.site)
	require.NoError(t, err)
	none, err := r.Client.PreviewInstallationWithResponse(t.Context(), client.InstallationRequest{Mandate: "deck"})
	require.NoError(t, err)
	assert.Contains(t, string(none.Body), "has brought no certificate yet")
	o := ended(t, r.Client, begin(t, r.Client, "deck", false))
	require.Nil(t, o.Failure, "%+v", o.Failure)
	list, err := r.Client.ListInstallationsWithResponse(t.Context(), nil)
	require.NoError(t, err)
	assert.Empty(t, list.JSON200.Items, "the first time is a person's")

	rehearse(t, r.Client, q, func(v *client.Installation) {
		assert.Equal(t, client.InstallationStateRehearsed, v.State, v.Reason)
		assert.Equal(t, []string{"stage", "test"}, stepsOf(v))
	})
	require.NoError(t, os.WriteFile(q.site, append(before, "nonsense;\n"...), 0o644))
	rehearse(t, r.Client, q, func(v *client.Installation) {
		assert.Equal(t, client.InstallationStateReturned, v.State)
		assert.Contains(t, v.Reason, "the server's own test fails before anything was changed")
		assert.Contains(t, v.Reason, "nonsense")
	})
	require.NoError(t, os.WriteFile(q.site, before, 0o644))
	var happened int
	r.Query(t, "select count(*) from events where installation_id is not null", &happened)
	assert.Zero(t, happened, "a rehearsal is no event, however it ends")

	v := preview(t, r.Client, "deck")
	require.Len(t, v.Files, 1)
	assert.Contains(t, v.Files[0].Diff, "+  listen "+q.secure+" ssl;")
	assert.Contains(t, v.Acts[1].What, "nothing yet → versions/")
	text, err := os.ReadFile(q.site)
	require.NoError(t, err)
	assert.Equal(t, string(before), string(text), "a preview changes nothing")
	require.NoError(t, os.WriteFile(q.site, append(text, "# by hand\n"...), 0o644))
	_, err = r.Client.BeginInstallationWithResponse(t.Context(), v.Number)
	require.NoError(t, err)
	refused := settled(t, r.Client, v.Number)
	told, err := r.Client.GetTodayWithResponse(t.Context(), nil)
	require.NoError(t, err)
	require.Len(t, told.JSON200.Installed, 1, "what came to nothing is shown")
	assert.Equal(t, client.InstallationStateReturned, refused.State)
	assert.Contains(t, refused.Reason, "is not as the preview showed it")
	assert.Contains(t, refused.Advice, "new preview")
	require.NoError(t, os.WriteFile(q.site, text, 0o644))

	v = preview(t, r.Client, "deck")
	_, err = r.Client.BeginInstallationWithResponse(t.Context(), v.Number)
	require.NoError(t, err)
	twice, err := r.Client.BeginInstallationWithResponse(t.Context(), v.Number)
	require.NoError(t, err)
	assert.Equal(t, 409, twice.StatusCode())
	done := settled(t, r.Client, v.Number)
	require.Equal(t, client.InstallationStateDone, done.State, done.Reason)
	assert.Equal(t, *o.Certificate, q.served())
	require.Eventually(t, func() bool { return len(r.Findings(t)) == 0 }, 20*time.Second, 50*time.Millisecond,
		"what was broken closes by itself")
	m, err := r.Client.GetMandateWithResponse(t.Context(), "deck")
	require.NoError(t, err)
	var trail []string
	for _, e := range m.JSON200.Trail {
		trail = append(trail, string(e.Step)+" "+string(e.Outcome)+" "+e.Where)
	}
	assert.Subset(t, trail, []string{"ordered done harbour", "proved done harbour", "issued done harbour",
		"installed done quay", "reloaded done quay", "seen done " + deck + " at " + q.secure + ", from inside"})
	visits, err := r.Client.VisitMandateWithResponse(t.Context(), "deck")
	require.NoError(t, err)
	require.NotNil(t, visits.JSON200, string(visits.Body))
	assert.True(t, visits.JSON200.Well, string(visits.Body))
	assert.Contains(t, string(visits.Body), "status 301 to https://"+deck)

	stop, failed := make(chan struct{}), make(chan int)
	go func() { // visitors, all the while
		n := 0
		web := &http.Client{Transport: &http.Transport{DisableKeepAlives: true,
			TLSClientConfig: &tls.Config{ServerName: deck, InsecureSkipVerify: true}}}
		for {
			select {
			case <-stop:
				failed <- n
				return
			default:
			}
			resp, err := web.Get("https://" + q.secure + "/")
			if err != nil || resp.StatusCode != 200 {
				n++
			}
			if err == nil {
				_ = resp.Body.Close()
			}
		}
	}()
	seen := map[string]bool{q.served(): true}
	whole, err := os.ReadFile(q.site)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(q.site, append(bytes.Clone(whole), "nonsense;\n"...), 0o644))
	orders := q.town.CA.Orders()
	execSQL(t, r.Database, "update mandates set next_at = now() - interval '1 minute'")
	require.NoError(t, r.BeginDue(t.Context()))
	held, err := r.Client.GetMandateWithResponse(t.Context(), "deck")
	require.NoError(t, err)
	assert.Contains(t, held.JSON200.NextWhy, "could not be ordered: it could not be installed: quay: ")
	assert.Contains(t, held.JSON200.NextWhy, "nonsense")
	assert.True(t, held.JSON200.NextAt.After(time.Now()))
	assert.Equal(t, orders, q.town.CA.Orders(), "no CA is asked for what could not be installed")
	require.NoError(t, os.WriteFile(q.site, whole, 0o644))
	for range 3 {
		execSQL(t, r.Database, "update mandates set next_at = now() - interval '1 minute'")
		require.NoError(t, r.BeginDue(t.Context()))
		orders, err := r.Client.ListOrdersWithResponse(t.Context(), nil)
		require.NoError(t, err)
		o := ended(t, r.Client, orders.JSON200.Items[0].Number)
		require.Nil(t, o.Failure, "%+v", o.Failure)
		v := settled(t, r.Client, newest(t, r.Client, *o.Certificate).Number)
		require.Equal(t, client.InstallationStateDone, v.State, v.Reason)
		assert.Equal(t, "insegna", v.By)
		assert.Empty(t, v.Files)
		assert.Equal(t, *o.Certificate, q.served())
		seen[q.served()] = true
	}
	close(stop)
	assert.Zero(t, <-failed, "no visitor noticed")
	assert.Len(t, seen, 4)
	today, err := r.Client.GetTodayWithResponse(t.Context(), nil)
	require.NoError(t, err)
	assert.Len(t, today.JSON200.Installed, 3,
		"what happened by itself; a person's own is no news, the refused one has a better after it")
	again, err := r.Client.PreviewInstallationWithResponse(t.Context(), client.InstallationRequest{Mandate: "deck"})
	require.NoError(t, err)
	assert.Contains(t, string(again.Body), "is installed on quay already")

	early, err := r.Client.ReturnInstallationWithResponse(t.Context(), v.Number)
	require.NoError(t, err)
	assert.Equal(t, 409, early.StatusCode(), "only the last one")
	last := newest(t, r.Client, q.served())
	_, err = r.Client.ReturnInstallationWithResponse(t.Context(), last.Number)
	require.NoError(t, err)
	back := settled(t, r.Client, last.Number)
	assert.Equal(t, client.InstallationStateReturned, back.State)
	assert.Equal(t, "taken back by keeper", back.Reason)
	assert.True(t, back.AskedBack)
	assert.NotEqual(t, *last.Certificate, q.served())
	assert.True(t, verify(t, r, "").Whole)
}

// TestKilledWhileInstalling kills the service with SIGKILL at every step of an
// installation, and starts it again: new everywhere.
func TestKilledWhileInstalling(t *testing.T) {
	t.Parallel()
	q := newQuay(t)
	listen, dsn, data := servicetest.FreeAddress(t), servicetest.Database(t), t.TempDir()
	start := func() *servicetest.Process {
		return servicetest.StartProcess(t, listen, "--data", data, "--database", dsn)
	}
	p := start()
	c, err := client.NewClientWithResponses(p.URL + "/api/v1")
	require.NoError(t, err)
	q.open(t, p.URL, c)
	for n, state := range []string{"staging", "testing", "switching", "reloading", "looking"} {
		o := ended(t, c, begin(t, c, "deck", false))
		require.Nil(t, o.Failure, "%+v", o.Failure)
		var v *client.Installation
		if n == 0 {
			v = preview(t, c, "deck")
			_, err = c.BeginInstallationWithResponse(t.Context(), v.Number)
			require.NoError(t, err)
		} else {
			v = newest(t, c, *o.Certificate)
		}
		for deadline := time.Now().Add(5 * time.Second); time.Now().Before(deadline); {
			var at string
			servicetest.Query(t, dsn, "select state from installations where id = $1", &at, v.Number)
			if at == state || at == "done" {
				break
			}
		}
		p.Kill()
		p = start()
		end := settled(t, c, v.Number)
		assert.Equal(t, client.InstallationStateDone, end.State, "killed while %s: %s", state, end.Reason)
		assert.Equal(t, *o.Certificate, q.served(), "killed while %s", state)
		var steps []string
		for _, s := range end.Steps {
			steps = append(steps, s.Step)
		}
		assert.Subset(t, steps, strings.Fields("stage test switch reload look"))
	}
	left, err := filepath.Glob(q.dir + "/insegna/deck/.now")
	require.NoError(t, err)
	assert.Empty(t, left)
}
