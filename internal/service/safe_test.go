package service_test

import (
	"context"
	"crypto/tls"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/catest"
	"insegna.example/internal/httpapi"
	"insegna.example/internal/safe"
	"insegna.example/internal/service"
	"insegna.example/internal/servicetest"
	"insegna.example/internal/standin/ca"
)

// TestTheSafesKeyIsMadeOnceAndMissedWhenLost starts the service as a process:
// fresh, again, without its key, with another's, and with its own in the
// environment.
func TestTheSafesKeyIsMadeOnceAndMissedWhenLost(t *testing.T) {
	dsn, data, listen := servicetest.Database(t), t.TempDir(), servicetest.FreeAddress(t)
	args := []string{"--database", dsn, "--data", data}
	stop := func(p *servicetest.Process) { p.Signal(os.Interrupt) }
	stop(servicetest.StartProcess(t, listen, args...))
	path := data + "/safe.key"
	st, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), st.Mode())
	key, err := os.ReadFile(path)
	require.NoError(t, err)
	p := servicetest.StartProcess(t, listen, args...)
	stop(p)
	require.NoError(t, os.Rename(path, data+"/vault.key"), "as an earlier version called it")
	stop(servicetest.StartProcess(t, listen, args...))
	assert.FileExists(t, path)
	assert.NotContains(t, p.Log(), strings.TrimSpace(string(key)))

	refused := func(why string) {
		out := servicetest.FailedStart(t, listen, args...)
		assert.Contains(t, out, why)
		assert.NotContains(t, out, strings.TrimSpace(string(key)))
	}
	require.NoError(t, os.Remove(path))
	refused("the safe's key in " + path +
		" is missing, and the database holds what was encrypted with it; put the file back")
	_, err = os.Stat(path)
	assert.ErrorIs(t, err, os.ErrNotExist, "no new key hides that the old one is lost")
	other := base64.StdEncoding.EncodeToString(make([]byte, 32))
	require.NoError(t, os.WriteFile(path, []byte(other), 0o600))
	refused("put it back from your backup: without it nothing it encrypted can be read")
	require.NoError(t, os.WriteFile(path, key, 0o644))
	require.NoError(t, os.Chmod(path, 0o644))
	refused("may be read by others (mode 0644); chmod 600")
	require.NoError(t, os.Remove(path))
	t.Setenv("INSEGNA_VAULT_KEY", other)
	refused("is not read any more; name the variable INSEGNA_SAFE_KEY")
	require.NoError(t, os.Unsetenv("INSEGNA_VAULT_KEY"))
	t.Setenv("INSEGNA_SAFE_KEY", other+" "+strings.TrimSpace(string(key)))
	stop(servicetest.StartProcess(t, listen, args...))
	var marks int
	servicetest.Query(t, dsn, "select count(*) from safe_marks", &marks)
	assert.Equal(t, 2, marks, "a new key in front encrypts from now on")
}

// TestSecretsAreEncryptedAnew orders certificates, enters a credential, and retires
// the safe's key, broken off half-way: everything can be read at each moment,
// also by another process, and at the end without the old key. An account's key
// is of no use in the place of another's.
func TestSecretsAreEncryptedAnew(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	key := filepath.Join(data, "safe.key")
	_, port, handler := listening(t)
	place := catest.Start(t, func(c *ca.Config) { c.HTTPPort = port })
	log := &logged{}
	r := servicetest.Start(t,
		func(c *service.Config) { c.Data, c.Log = data, slog.New(slog.NewTextHandler(log, nil)) })
	var h http.Handler = httpapi.Proofs(r.Service)
	handler.Store(&h)
	text, root := orderEstate(place, port, "a.lantern.example")
	r.Apply(t, text, root)
	agree(t, r.Client, "harbour")
	number := begin(t, r.Client, "booking", false)
	require.Nil(t, ended(t, r.Client, number).Failure)
	says := func(pattern string, of int64) { // just after the order is seen to have ended
		assert.EventuallyWithT(t, func(c *assert.CollectT) {
			assert.Regexp(c, fmt.Sprintf(pattern, of), log.said())
		}, 10*time.Second, 10*time.Millisecond)
	}
	says(`certificate was issued" order=%d mandate=booking ca=harbour by=keeper rehearsal=false next=\S+ until=`, number)
	place.Faults.Set(ca.Fault{OtherKey: true})
	require.NotNil(t, ended(t, r.Client, begin(t, r.Client, "booking", false)).Failure)
	place.Faults.Set(ca.Fault{})
	says(`order failed" order=%d mandate=booking .*reason=.*advice=`, number+1)
	for _, name := range []string{"one", "two"} {
		_, err := r.Client.AddCredentialWithResponse(t.Context(), name, client.CredentialValue{Value: "hush-" + name})
		require.NoError(t, err)
	}
	state := func(begin bool) *client.SafeState {
		v, err := r.Client.RenewSafeKeyWithResponse(t.Context(), client.SafeRenewal{Begin: &begin})
		require.NoError(t, err)
		require.NotNil(t, v.JSON200, string(v.Body))
		return v.JSON200
	}
	before, err := r.Client.GetSafeWithResponse(t.Context())
	require.NoError(t, err)
	assert.Equal(t, client.SafeState{Key: before.JSON200.Key, Source: key, Secrets: 5}, *before.JSON200)

	// An order under way writes its own key: it is left for later.
	r.Query(t, "update orders set finished_at = null where id = "+fmt.Sprint(number)+" returning id", new(int64))
	after := state(true)
	assert.NotEqual(t, before.JSON200.Key, after.Key)
	assert.Equal(t, []int{5, 1}, []int{after.Secrets, after.Left})
	kept, err := os.ReadFile(key)
	require.NoError(t, err)
	lines := strings.Fields(string(kept))
	require.Len(t, lines, 2, "the old key stays in the file, behind the new one")
	st, err := os.Stat(key)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), st.Mode())
	r.Query(t, "update orders set finished_at = now() where id = "+fmt.Sprint(number)+" returning id", new(int64))
	assert.Zero(t, state(false).Left)

	// Without the old line a service starts, and reads everything.
	require.NoError(t, os.WriteFile(key, []byte(lines[0]+"\n"), 0o600))
	const plan = `{"where": "/x", "files": [{"path": "/n", "before": "password hush"}]}`
	r.Query(t, "insert into installations (mandate_id, order_id, server, leaf, bindings, notes, state, by, created_at, "+
		"plan) "+
		"select mandate_id, id, 'quay', '', '[]', '[]', 'previewed', 'keeper', now(), $1 from orders limit 1 returning id",
		new(int64), plan)
	r.Query(t, "insert into https_runs (server, host, state, names, advice, draft, by, created_at, preparation) values "+
		"('quay', "+
		"'a.example', 'failed', '[]', '[]', '', 'keeper', now(), jsonb_build_object('Plan', encode(convert_to($1, 'UTF8'), "+
		"'base64'))) "+
		"returning id", new(int64), plan)
	other, err := service.Open(context.Background(), service.Config{Data: t.TempDir(), Database: r.Database, SafeKey: key})
	require.NoError(t, err)
	t.Cleanup(other.Close)
	people, err := other.People(t.Context())
	require.NoError(t, err)
	keeper := &people[0]
	asKeeper := func() context.Context {
		return service.WithCaller(t.Context(), &service.Caller{Person: keeper, Role: service.Admin})
	}
	_, err = other.TakeKey(asKeeper(), number, "a balancer")
	assert.ErrorContains(t, err, "keeper may not take private keys out of the safe", "an admin's role is not enough")
	_, err = r.Client.ChangePersonWithResponse(t.Context(), "keeper", client.PersonChange{Keys: ptr(true)})
	require.NoError(t, err)
	taken, err := r.Client.TakeKeyWithResponse(t.Context(), number, client.KeyRequest{Reason: "a balancer"})
	require.NoError(t, err)
	require.NotNil(t, taken.JSON200, string(taken.Body))
	issued, err := r.Client.GetOrderCertificateWithResponse(t.Context(), number)
	require.NoError(t, err)
	_, err = tls.X509KeyPair([]byte(issued.JSON200.Chain), []byte(taken.JSON200.Key))
	assert.NoError(t, err, "it is the key of that certificate")
	var noted string
	r.Query(t, "select actor || ' ' || subject || ' ' || detail from journal where action = 'key.take'", &noted)
	assert.Contains(t, noted, fmt.Sprintf("keeper order %d ", number))
	assert.Contains(t, noted, "a balancer")
	// Plans hold whole configuration files: those of before are encrypted at the
	// start, and read and encrypted anew as everything is.
	plans := func() {
		run, err := other.HTTPS(t.Context(), 1)
		require.NoError(t, err)
		prepared, err := other.PlanOf(run)
		require.NoError(t, err)
		installed, err := other.Installation(t.Context(), 1)
		require.NoError(t, err)
		for _, p := range []string{prepared.Files[0].Before, installed.Plan.Files[0].Before} {
			assert.Equal(t, "password hush", p)
		}
		var plain int
		r.Query(t, "select count(*) from (select plan::text from installations union all select convert_from(decode("+
			"preparation->>'Plan', 'base64'), 'UTF8') from https_runs) x(p) where p like '%hush%' or p not like '%sealed%'",
			&plain)
		assert.Zero(t, plain)
	}
	plans()
	all, err := other.RenewSafeKey(asKeeper(), true)
	require.NoError(t, err)
	assert.Equal(t, []int{7, 0}, []int{all.Secrets, all.Left})
	kept, err = os.ReadFile(key)
	require.NoError(t, err)
	newest, _, _ := strings.Cut(string(kept), "\n")
	require.NoError(t, os.WriteFile(key, []byte(newest+"\n"), 0o600))
	other.Close()
	other, err = service.Open(context.Background(), service.Config{Data: t.TempDir(), Database: r.Database, SafeKey: key})
	require.NoError(t, err)
	t.Cleanup(other.Close)
	plans()
	keeper.Keys = true
	again, err := other.TakeKey(asKeeper(), number, "a balancer")
	require.NoError(t, err)
	assert.Equal(t, taken.JSON200.Key, string(again))

	// Exchanged in the database, neither account's key is taken for the other's.
	r.Query(t, "with x as (select a.id, b.encrypted from accounts a join accounts b on a.id <> b.id), u as (update "+
		"accounts "+
		"set encrypted = x.encrypted from x where x.id = accounts.id returning 1) select count(*) from u", new(int64))
	r.Query(t, "insert into accounts (ca, directory, url, encrypted, bound, terms, agreed_by, agreed_at) select ca, "+
		"'https://b', "+
		"url, encrypted, true, terms, agreed_by, agreed_at from accounts limit 1 returning id", new(int64))
	r.Query(t, "update accounts set encrypted = (select encrypted from credentials limit 1) where directory <> "+
		"'https://b' "+
		"returning id", new(int64))
	_, err = other.RenewSafeKey(asKeeper(), true)
	assert.ErrorIs(t, err, safe.ErrDecrypt)
}

// TestAccountsOfBeforeAreBound starts on a database whose accounts' keys were not
// bound to their directory.
func TestAccountsOfBeforeAreBound(t *testing.T) {
	data := t.TempDir()
	r := servicetest.Start(t, func(c *service.Config) { c.Data = data })
	kept, err := safe.FromFile(filepath.Join(data, "safe.key"), false)
	require.NoError(t, err)
	encrypted, err := kept.Encrypt(safe.Secret("a key"), "account key")
	require.NoError(t, err)
	r.Query(t, "insert into accounts (ca, directory, url, encrypted, terms, agreed_by, agreed_at) values ('harbour', "+
		`'https://a', '', '\x`+hex.EncodeToString(encrypted)+"', '', 'marit', now()) returning id", new(int64))
	for range 2 {
		other, err := service.Open(context.Background(),
			service.Config{Data: t.TempDir(), Database: r.Database, SafeKey: filepath.Join(data, "safe.key")})
		require.NoError(t, err)
		other.Close()
		r.Query(t, "select encrypted from accounts where bound", &encrypted)
		got, err := kept.Decrypt(encrypted, "account key at https://a")
		require.NoError(t, err)
		assert.Equal(t, "a key", string(got))
	}
}

// TestRecovering lets an admin in again on the service's own machine, while the
// service runs and while it does not.
func TestRecovering(t *testing.T) {
	t.Parallel()
	dir, err := os.MkdirTemp("", "insegna-data-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	data := filepath.Join(dir, "data")
	p := servicetest.StartProcess(t, servicetest.FreeAddress(t), "--data", data)
	_, err = service.Recover(t.Context(), service.Config{Data: data}, "nobody")
	assert.ErrorContains(t, err, `nobody is called "nobody"; the admins are: keeper`)
	_, err = service.Recover(t.Context(), service.Config{Data: dir}, "keeper")
	assert.ErrorContains(t, err, "holds no database of a service")
	enter := func(i service.Invitation) int {
		body := `{"code":"` + i.Code + `","passphrase":"` + servicetest.KeeperPassphrase + `"}`
		resp, err := servicetest.Anonymous.Post(p.URL+"/api/v1/set-up", "application/json", strings.NewReader(body))
		require.NoError(t, err)
		_ = resp.Body.Close()
		return resp.StatusCode
	}
	i, err := service.Recover(t.Context(), service.Config{Data: data}, "keeper")
	require.NoError(t, err)
	assert.Equal(t, 201, enter(i))
	p.Signal(os.Interrupt)
	i, err = service.Recover(t.Context(), service.Config{Data: data}, "keeper")
	require.NoError(t, err)
	p = servicetest.StartProcess(t, servicetest.FreeAddress(t), "--data", data)
	assert.Equal(t, 201, enter(i))
}
