package service_test

import (
	"crypto/tls"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/servicetest"
)

// TestAMandateGetsMoreNames takes a site to https, gives the site more names, and takes one
// of these to https: no second mandate is made, which would take the site from the first
// in turn, but the first gets the name, unless a CA would not find it. One of the estate
// file is that file's.
func TestAMandateGetsMoreNames(t *testing.T) {
	t.Parallel()
	const www, gone = "www.lantern.example", "gone.lantern.example"
	q := newQuay(t)
	r := servicetest.Start(t)
	declared := q.estate
	q.estate, _, _ = strings.Cut(q.estate, "mandates:")
	named := func(list string) {
		text, err := os.ReadFile(q.site)
		require.NoError(t, err)
		lines := strings.Split(string(text), "\n")
		for i, l := range lines {
			if strings.Contains(l, "server_name ") {
				lines[i] = "  server_name " + list + ";"
			}
		}
		require.NoError(t, os.WriteFile(q.site, []byte(strings.Join(lines, "\n")), 0o644))
		require.NoError(t, exec.Command("/usr/sbin/nginx", "-p", q.dir+"/", "-c", q.dir+"/nginx.conf", "-e", "stderr", "-s", "reload").Run())
		q.open(t, r.URL, r.Client)
	}
	begin := func(host string) *client.HttpsRun {
		v, err := r.Client.BeginHttpsWithResponse(t.Context(), client.HttpsRequest{Server: "quay", Host: host})
		require.NoError(t, err)
		require.NotNil(t, v.JSON201, string(v.Body))
		return v.JSON201
	}
	names := func(mandate string) []string {
		m, err := r.Client.GetMandateWithResponse(t.Context(), mandate)
		require.NoError(t, err)
		return m.JSON200.Names
	}
	q.open(t, r.URL, r.Client)
	first := begin(deck)
	assert.Nil(t, first.Widens)
	require.Equal(t, client.HttpsRunStatePreviewed, waitsOrEnded(t, r.Client, first.Number).State)
	done := waitsOrEnded(t, r.Client, first.Number)
	require.Equal(t, client.HttpsRunStateDone, done.State, done.Reason)
	strict := func(days int) string {
		plan, err := r.Client.PreviewMendingWithResponse(t.Context(), client.MendRequest{Host: ptr(deck), StrictDays: &days})
		require.NoError(t, err)
		require.NotNil(t, plan.JSON201, string(plan.Body))
		require.Len(t, plan.JSON201.Installations, 1, string(plan.Body))
		number := plan.JSON201.Installations[0].Number
		_, err = r.Client.BeginInstallationWithResponse(t.Context(), number)
		require.NoError(t, err)
		require.Equal(t, client.InstallationStateDone, settled(t, r.Client, number).State)
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, "https://"+q.secure+"/", nil)
		require.NoError(t, err)
		req.Host = deck
		resp, err := (&http.Transport{DisableKeepAlives: true, TLSClientConfig: &tls.Config{ServerName: deck, InsecureSkipVerify: true}}).RoundTrip(req)
		require.NoError(t, err)
		_ = resp.Body.Close()
		return resp.Header.Get("Strict-Transport-Security")
	}
	assert.Equal(t, "max-age=172800", strict(2))
	assert.Equal(t, "max-age=0", strict(0))
	was := q.served()

	named(deck + " " + www)
	more := begin(www)
	require.NotNil(t, more.Widens)
	assert.Equal(t, []string{deck}, *more.Widens)
	assert.Equal(t, []string{deck, www}, more.Names)
	assert.Contains(t, more.Draft, "names: ["+deck+", "+www+"]")
	assert.Equal(t, []string{deck}, names(done.Mandate), "nothing is changed unasked")
	run := waitsOrEnded(t, r.Client, more.Number)
	if run.State == client.HttpsRunStatePreviewed { // else it was installed by itself
		run = waitsOrEnded(t, r.Client, more.Number)
	}
	require.Equal(t, client.HttpsRunStateDone, run.State, run.Reason)
	assert.NotEqual(t, was, q.served())
	assert.Equal(t, []string{deck, www}, names(done.Mandate))

	named(deck + " " + www + " " + gone)
	q.town.Names.Fail(gone)
	run = waitsOrEnded(t, r.Client, begin(gone).Number)
	require.Equal(t, client.HttpsRunStateFailed, run.State)
	assert.Contains(t, run.Reason, "is for its former names again")
	assert.Equal(t, []string{deck, www}, names(done.Mandate), "so that its renewals go on")

	used := true
	_, err := r.Client.RemoveMandateWithResponse(t.Context(), done.Mandate, &client.RemoveMandateParams{Used: &used})
	require.NoError(t, err)
	q.estate = declared
	q.open(t, r.URL, r.Client)
	refused, err := r.Client.BeginHttpsWithResponse(t.Context(), client.HttpsRequest{Server: "quay", Host: www})
	require.NoError(t, err)
	assert.Equal(t, 409, refused.StatusCode())
	assert.Contains(t, string(refused.Body), "of the estate file (line 11) is for a part of the site's names: "+deck)
	assert.Contains(t, string(refused.Body), "add to it there, and apply the file: "+www+", "+gone)
}
