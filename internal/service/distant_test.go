package service_test

import (
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/pkitest"
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
	q.estate = strings.Replace(q.estate, "hosts:\n", "  - {name: pier, kind: nginx, addresses: [127.0.0.9], reach: {by: local, configuration: "+q.site+"}}\nhosts:\n", 1)
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
	var found bool
	r.Query(t, "select (detail::jsonb->>'found')::bool from journal where action = 'key.destroy'", &found)
	assert.True(t, found, "and the journal says so")
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

	elsewhere, err := r.Client.PreviewInstallationWithResponse(t.Context(), client.InstallationRequest{Mandate: "deck", Server: ptrTo("pier")})
	require.NoError(t, err)
	assert.Equal(t, 409, elsewhere.StatusCode())
	assert.Contains(t, string(elsewhere.Body), "was made on quay and is kept there alone")

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
	assert.Equal(t, 3, gone, "that of the failed order, and two former ones")
	assert.Equal(t, *o.Certificate, q.served())

	destroyed := func() (n int) {
		r.Query(t, "select count(*) from journal where action = 'key.destroy'", &n)
		return n
	}
	told := destroyed()
	folder := q.dir + "/insegna/deck/keys"
	require.NoError(t, os.Rename(folder, folder+" before"))
	require.NoError(t, os.WriteFile(folder, nil, 0o600))
	all, err := r.Client.BeginOrderWithResponse(t.Context(), client.OrderRequest{Mandate: "deck", Anyway: ptrTo(true)})
	require.NoError(t, err)
	require.NotNil(t, all.JSON201, string(all.Body))
	o = ended(t, r.Client, all.JSON201.Number)
	require.NotNil(t, o.Failure, "no key can be made")
	assert.Equal(t, told, destroyed(), "what was never made is not told as destroyed")
	require.NoError(t, os.Remove(folder))
	require.NoError(t, os.Rename(folder+" before", folder))

	r.Apply(t, strings.Replace(q.estate, "configuration: "+q.site, "configuration: /proc/nowhere/nginx.conf", 1), q.town.Root)
	said, list := trials(t, r.Client, "deck")
	assert.Equal(t, deck+" key no-key", said[0])
	assert.NotEmpty(t, list[0].Remedy)
}

// TestKeysOnServersGoInTime has keys made on a server for a CA that is asked by hand, and
// for rehearsals: what is given up is destroyed at once, what a rehearsal left within the
// hour; a server there is no way to keeps its keys, and that nothing says they are gone.
func TestKeysOnServersGoInTime(t *testing.T) {
	t.Parallel()
	q := newQuay(t)
	q.estate = strings.Replace(q.estate, "install: [quay]}", "install: [quay], key_on: quay}", 1)
	without := strings.NewReplacer("mandates:\n", "", "  - {name: deck, names: ["+deck+"], ca: harbour, proof: {by: http, servers: [quay]}, install: [quay], key_on: quay}\n", "",
		"reach: {by: local", "without_sni: true} #").Replace(q.estate)
	q.estate = strings.Replace(q.estate, "mandates:\n", "  - {name: desk, by: hand}\nmandates:\n", 1) +
		"  - {name: kiosk, names: [kiosk.lantern.example], ca: desk, key_on: quay, key: ecdsa-p384, subject: {organization: Ferries}}\n"
	r := servicetest.Start(t)
	q.open(t, r.URL, r.Client)
	there := func(mandate string, order int64) bool {
		_, err := os.Stat(q.dir + "/insegna/" + mandate + "/keys/" + strconv.FormatInt(order, 10) + ".pem")
		return err == nil
	}
	gone := func(order int64) (is bool) {
		r.Query(t, "select key_gone_at is not null from orders where id = "+strconv.FormatInt(order, 10), &is)
		return is
	}
	waiting := func() (int64, *x509.CertificateRequest) {
		n := begin(t, r.Client, "kiosk", false)
		var o *client.Order
		require.Eventually(t, func() bool {
			v, err := r.Client.GetOrderWithResponse(t.Context(), n)
			require.NoError(t, err)
			o = v.JSON200
			return o.Waits
		}, 20*time.Second, 20*time.Millisecond)
		assert.Equal(t, "quay", *o.KeyOn)
		block, _ := pem.Decode([]byte(*o.Request))
		asked, err := x509.ParseCertificateRequest(block.Bytes)
		require.NoError(t, err)
		require.NoError(t, asked.CheckSignature())
		assert.Equal(t, []string{"kiosk.lantern.example"}, asked.DNSNames)
		assert.Equal(t, []string{"Ferries"}, asked.Subject.Organization)
		return n, asked
	}
	first, _ := waiting()
	require.True(t, there("kiosk", first))
	assert.False(t, gone(first))
	ended1, err := r.Client.EndOrderWithResponse(t.Context(), first)
	require.NoError(t, err)
	require.NotNil(t, ended1.JSON200, string(ended1.Body))
	assert.False(t, there("kiosk", first))
	assert.True(t, gone(first))

	second, asked := waiting()
	like := *pkitest.Leaf(q.town.Root, "kiosk.lantern.example").X509()
	der, err := x509.CreateCertificate(rand.Reader, &like, q.town.Root.X509(), asked.PublicKey, q.town.Root.Key)
	require.NoError(t, err)
	foreign := pkitest.Leaf(q.town.Root, "kiosk.lantern.example")
	wrong, err := r.Client.TakeReplyWithResponse(t.Context(), client.TakeReplyJSONRequestBody{Files: given(certs.PEM(foreign.Raw))})
	require.NoError(t, err)
	assert.Contains(t, string(wrong.Body), "is for a key that no request here has")
	taken, err := r.Client.TakeReplyWithResponse(t.Context(), client.TakeReplyJSONRequestBody{Files: given(certs.PEM(der))})
	require.NoError(t, err)
	assert.Less(t, taken.StatusCode(), 300, string(taken.Body))
	require.Nil(t, ended(t, r.Client, second).Failure)
	assert.True(t, there("kiosk", second))

	third, _ := waiting()
	moved := q.dir + "/moved/nginx.conf"
	require.NoError(t, os.Mkdir(path.Dir(moved), 0o755))
	text, err := os.ReadFile(q.site)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(moved, text, 0o644))
	r.Apply(t, strings.ReplaceAll(q.estate, "configuration: "+q.site, "configuration: "+moved), q.town.Root)
	ended3, err := r.Client.EndOrderWithResponse(t.Context(), third)
	require.NoError(t, err)
	require.NotNil(t, ended3.JSON200, string(ended3.Body))
	assert.False(t, there("kiosk", third), "destroyed where it was made, though the configuration lies elsewhere now")
	assert.True(t, gone(third))
	assert.True(t, there("kiosk", second))
	r.Apply(t, q.estate, q.town.Root)

	rehearsed := begin(t, r.Client, "deck", true)
	require.Nil(t, ended(t, r.Client, rehearsed).Failure)
	require.NoError(t, r.DropFormerKeys(t.Context()))
	assert.True(t, there("deck", rehearsed), "it may be installed in rehearsal yet")
	r.Query(t, "update orders set finished_at = now() - interval '2 hours' where id = "+strconv.FormatInt(rehearsed, 10)+" returning id", new(int64))
	r.Apply(t, without, q.town.Root)
	require.NoError(t, r.DropFormerKeys(t.Context()))
	assert.True(t, there("deck", rehearsed))
	assert.False(t, gone(rehearsed), "nothing is told that was not done")
	r.Apply(t, q.estate, q.town.Root)
	require.NoError(t, r.DropFormerKeys(t.Context()))
	assert.False(t, there("deck", rehearsed))
	assert.True(t, gone(rehearsed))
	assert.True(t, there("kiosk", second), "what is in force stays")
	var told int
	r.Query(t, "select count(*) from journal where action = 'key.destroy' and detail::text like '%quay%'", &told)
	assert.Equal(t, 3, told)
	r.Query(t, "select count(*) from journal where action = 'key.destroy' and not (detail::jsonb->>'found')::bool", &told)
	assert.Zero(t, told)
}
