package service_test

import (
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/servicetest"
	"insegna.example/internal/standin/ca"
)

// TestTheKeyStaysOnItsServer has a mandate's keys made on a real nginx: the certificate is
// installed there with its key, which is nowhere else and is not given out; keys of
// orders that failed are destroyed there at once, and former ones in time.
func TestTheKeyStaysOnItsServer(t *testing.T) {
	t.Parallel()
	q := newQuay(t)
	q.estate = strings.Replace(q.estate, "install: [quay]}", "install: [quay], key_on: quay, key: rsa-2048, keep: 1}", 1)
	r := servicetest.Start(t)
	q.open(t, r.URL, r.Client)
	m, err := r.Client.GetMandateWithResponse(t.Context(), "deck")
	require.NoError(t, err)
	assert.Equal(t, "quay", m.JSON200.KeyOn)
	said, _ := trials(t, r.Client, "deck")
	assert.Equal(t, deck+" key", said[0])
	assert.NoDirExists(t, q.dir+"/insegna", "what was tried is gone")
	keys := func() (list []string) {
		files, err := filepath.Glob(q.dir + "/insegna/deck/keys/*")
		require.NoError(t, err)
		for _, f := range files {
			list = append(list, strings.TrimSuffix(filepath.Base(f), ".pem"))
		}
		return list
	}
	text := func(n int64) string { return strconv.FormatInt(n, 10) }

	q.town.Faults.Set(ca.Fault{OtherNames: true})
	failed := ended(t, r.Client, begin(t, r.Client, "deck", false))
	require.NotNil(t, failed.Failure)
	assert.Empty(t, keys(), "the key of what failed")
	q.town.Faults.Set(ca.Fault{})
	first := begin(t, r.Client, "deck", false)
	o := ended(t, r.Client, first)
	require.Nil(t, o.Failure, "%+v", o.Failure)
	assert.Contains(t, o.Steps[0].Words+o.Steps[1].Words, "is made on quay, and stays there")
	assert.Equal(t, []string{text(first)}, keys())
	var kept int
	r.Query(t, "select count(*) from orders where octet_length(encrypted) > 0", &kept)
	assert.Zero(t, kept, "none is in the safe")
	out, err := r.Client.GetOrderCertificateWithResponse(t.Context(), first)
	require.NoError(t, err)
	require.NotNil(t, out.JSON200, string(out.Body))
	allow(t, r)
	given, err := r.Client.GiveCertificateWithResponse(t.Context(), first, client.GiveRequest{Form: "pem", Reason: "a copy"})
	require.NoError(t, err)
	assert.Equal(t, 409, given.StatusCode())
	assert.Contains(t, string(given.Body), "was made on quay and is kept there alone")

	v := preview(t, r.Client, "deck")
	begun, err := r.Client.BeginInstallationWithResponse(t.Context(), v.Number)
	require.NoError(t, err)
	require.NotNil(t, begun.JSON200, string(begun.Body))
	done := settled(t, r.Client, v.Number)
	require.Equal(t, client.InstallationStateDone, done.State, "%s", done.Reason)
	assert.Equal(t, *o.Certificate, q.served())

	taken, err := r.Client.TakeFromServerWithResponse(t.Context(), "quay", client.TakenFrom{Host: deck})
	require.NoError(t, err)
	assert.Equal(t, 409, taken.StatusCode())
	assert.Contains(t, string(taken.Body), "was made on quay and is kept there alone")

	var last int64
	for range 3 {
		last = begin(t, r.Client, "deck", false)
		o = ended(t, r.Client, last)
		require.Nil(t, o.Failure)
		done = settled(t, r.Client, newest(t, r.Client, *o.Certificate).Number)
		require.Equal(t, client.InstallationStateDone, done.State, "%s", done.Reason)
		require.Eventually(t, func() bool { return q.served() == *o.Certificate }, 10*time.Second, 20*time.Millisecond)
	}
	require.Len(t, keys(), 4)
	require.Eventually(t, func() bool { // once the surveys after the installations have ended
		require.NoError(t, r.DropFormerKeys(t.Context()))
		return len(keys()) == 2
	}, 20*time.Second, 200*time.Millisecond, "%v", keys())
	assert.Equal(t, []string{text(last - 1), text(last)}, keys())
	var gone int
	r.Query(t, "select count(*) from orders where key_gone_at is not null and id < "+text(last-1), &gone)
	assert.Equal(t, 2, gone)
	assert.Equal(t, *o.Certificate, q.served())

	r.Apply(t, strings.Replace(q.estate, "configuration: "+q.site, "configuration: /proc/nowhere/nginx.conf", 1), q.town.Root)
	said, list := trials(t, r.Client, "deck")
	assert.Equal(t, deck+" key no-key", said[0])
	assert.NotEmpty(t, list[0].Remedy)
}
