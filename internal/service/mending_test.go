package service_test

import (
	"cmp"
	"crypto/tls"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/install"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/service"
	"insegna.example/internal/servicetest"
)

// yard is a real nginx that lacks an intermediate and has an open key, and a server
// nothing leads to.
type yard struct {
	*servicetest.Running
	dir, list, key string
	with           func(more string) client.EstateFile // its estate, with something more
	reload         string                              // command; "" for its own
}

func newYard(t *testing.T) *yard {
	root := pkitest.CA("Harbour Root", nil)
	sub := pkitest.CA("Harbour Issuing", root)
	leaf, ended := pkitest.Leaf(sub, deck), pkitest.Leaf(root, "far.lantern.example", pkitest.Valid(-48*time.Hour, -time.Hour))
	dir, err := os.MkdirTemp("", "yard-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	y := &yard{Running: servicetest.Start(t), dir: dir, list: dir + "/deck.pem", key: dir + "/deck.key"}
	key, err := certs.KeyPEM(leaf.Key)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(y.list, certs.PEM(leaf.Raw), 0o644))
	require.NoError(t, os.WriteFile(y.key, key, 0o644))
	secure := servicetest.FreeAddress(t)
	main := startNginx(t, dir, secure, fmt.Sprintf("server {\n  listen %s ssl;\n  server_name %s;\n  ssl_certificate deck.pem;\n"+
		"  ssl_certificate_key deck.key;\n}\n", secure, deck))
	shown := ended.TLS()
	far := servicetest.Serve(t, "127.0.0.1:0", func() *tls.Certificate { return &shown })
	command := "/usr/sbin/nginx -p " + dir + "/ -c " + main + " -e stderr"
	y.with = func(more string) client.EstateFile {
		reload := cmp.Or(y.reload, command+" -s reload")
		file := servicetest.File(fmt.Sprintf(`estate: Ferries
audiences:
  - {name: browsers, roots: [root.pem]}
intermediates: [sub.pem]
servers:
  - {name: yard, kind: nginx, addresses: [127.0.0.1], ports: [%d], reach: {by: local, configuration: %s, test: %q, reload: %q}}
  - {name: far, addresses: [127.0.0.1], ports: [%d]}
hosts:
  - {name: %s, at: [yard]}
  - {name: far.lantern.example, at: [far]}
%s`, netip.MustParseAddrPort(secure).Port(), main, command+" -t", reload, far.Port(), deck, more), root)
		(*file.Attachments)["sub.pem"] = string(certs.PEM(sub.Raw))
		return file
	}
	applied, err := y.Client.ApplyEstateWithResponse(t.Context(), y.with(""))
	require.NoError(t, err)
	require.NotNil(t, applied.JSON200, string(applied.Body))
	y.Survey(t)
	return y
}

// open are the findings that are open, by code.
func (y *yard) open(t *testing.T) map[string]client.Finding {
	page, err := y.Client.ListFindingsWithResponse(t.Context(), nil)
	require.NoError(t, err)
	out := map[string]client.Finding{}
	for _, f := range page.JSON200.Items {
		out[f.Code] = f
	}
	return out
}

// planned works out how findings are mended.
func (y *yard) planned(t *testing.T, which client.MendRequest) *client.MendPlan {
	got, err := y.Client.PreviewMendingWithResponse(t.Context(), which)
	require.NoError(t, err)
	require.NotNil(t, got.JSON201, string(got.Body))
	return got.JSON201
}

// carried begins a preview, waits for its end and for the survey that follows.
func (y *yard) carried(t *testing.T, number int64) *client.Installation {
	begun, err := y.Client.BeginInstallationWithResponse(t.Context(), number)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, begun.StatusCode(), string(begun.Body))
	v := settled(t, y.Client, number)
	if v.Rehearsal {
		return v
	}
	require.Eventually(t, func() bool {
		got, err := y.Client.GetInstallationWithResponse(t.Context(), number)
		require.NoError(t, err)
		v = got.JSON200
		return v.Survey != nil
	}, 20*time.Second, 20*time.Millisecond)
	servicetest.Follow(t, y.URL, *v.Survey)
	return v
}

// TestFindingsMendThemselves mends two findings by one installation, takes that back,
// and says of the third why not.
func TestFindingsMendThemselves(t *testing.T) {
	t.Parallel()
	y := newYard(t)
	before, err := os.ReadFile(y.list)
	require.NoError(t, err)
	open := y.open(t)
	require.Len(t, open, 3, "%v", open)
	chain, key, ended := open["chain-incomplete"], open["key-open"], open["expired"]
	assert.Equal(t, client.Mending{Can: true, Says: "the corrected list is written into the file"}, chain.Mending)
	assert.Equal(t, client.Mending{Can: true, Says: "the file is closed to others, and given to whom the other keys belong"}, key.Mending)
	assert.False(t, ended.Mending.Can)

	viewer := y.Enter(t, "vera", client.RoleViewer)
	refused, err := viewer.Post(y.URL+"/api/v1/findings/mend", "application/json", strings.NewReader("{}"))
	require.NoError(t, err)
	_ = refused.Body.Close()
	assert.Equal(t, http.StatusForbidden, refused.StatusCode)

	yes := true
	rehearsed := y.carried(t, y.planned(t, client.MendRequest{Rehearse: &yes}).Installations[0].Number)
	assert.Equal(t, client.InstallationStateRehearsed, rehearsed.State, rehearsed.Reason)
	same, err := os.ReadFile(y.list)
	require.NoError(t, err)
	assert.Equal(t, before, same)

	plan := y.planned(t, client.MendRequest{})
	require.Len(t, plan.Installations, 1)
	require.Len(t, plan.Left, 1)
	assert.Empty(t, plan.Renewals)
	assert.Equal(t, client.FindingRef{Finding: ended.Id, Code: "expired", Host: "far.lantern.example", Server: "far"},
		plan.Left[0].About)
	assert.Contains(t, plan.Left[0].Reason, "far is declared as ")
	v := plan.Installations[0]
	assert.Empty(t, v.Mandate)
	assert.Nil(t, v.Order)
	assert.ElementsMatch(t, []client.Mend{
		{Finding: chain.Id, Code: "chain-incomplete", Host: deck, Does: "write the list in " + y.list},
		{Finding: key.Id, Code: "key-open", Does: "close " + y.key + " to others: mode 0640"}}, v.Mends)
	require.Len(t, v.Files, 1)
	assert.Contains(t, v.Files[0].Diff, "+(certificate: Harbour Issuing, from Harbour Root")
	assert.NotContains(t, v.Files[0].Diff, "BEGIN")

	require.NoError(t, os.WriteFile(y.list, append(before, "# by hand\n"...), 0o644))
	stale := y.carried(t, v.Number)
	assert.Equal(t, client.InstallationStateReturned, stale.State)
	assert.Contains(t, stale.Reason, y.list+" is not as the preview showed it")
	byHand, err := os.ReadFile(y.list)
	require.NoError(t, err)
	assert.Equal(t, string(before)+"# by hand\n", string(byHand), "what a person wrote stays")

	v = y.planned(t, client.MendRequest{Findings: &[]int64{chain.Id, key.Id}}).Installations[0]
	done := y.carried(t, v.Number)
	assert.Equal(t, client.InstallationStateDone, done.State, done.Reason)
	assert.Contains(t, done.Steps[len(done.Steps)-1].Words, "what lies on the disk is seen: "+deck)
	again, err := y.Client.BeginInstallationWithResponse(t.Context(), v.Number)
	require.NoError(t, err)
	assert.Equal(t, http.StatusConflict, again.StatusCode(), "two at once")
	left := y.open(t)
	assert.Len(t, left, 1, "%v", left)
	text, err := os.ReadFile(y.list)
	require.NoError(t, err)
	assert.True(t, strings.HasSuffix(string(text), "# by hand\n"), "what else is in the file stays")
	var detail string
	y.Query(t, "select detail::text from journal where action = 'installation.begin' order by id desc limit 1", &detail)
	assert.Contains(t, detail, fmt.Sprintf("#%d chain-incomplete: write the list in %s", chain.Id, y.list))
	closed := y.planned(t, client.MendRequest{Findings: &[]int64{chain.Id}})
	assert.Equal(t, "it is closed already", closed.Left[0].Reason)

	back, err := y.Client.ReturnInstallationWithResponse(t.Context(), v.Number)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, back.StatusCode(), string(back.Body))
	assert.Equal(t, client.InstallationStateReturned, settled(t, y.Client, v.Number).State)
	text, err = os.ReadFile(y.list)
	require.NoError(t, err)
	assert.Equal(t, byHand, text)
	info, err := os.Stat(y.key)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o644), info.Mode().Perm())
	require.Eventually(t, func() bool { return len(y.open(t)) == 3 }, 20*time.Second, 50*time.Millisecond)

	for code, which := range map[int]client.MendRequest{http.StatusNotFound: {Findings: &[]int64{4711}},
		http.StatusConflict: {Host: ptrTo("nobody")}, http.StatusBadRequest: {Findings: &[]int64{0}}} {
		got, err := y.Client.PreviewMendingWithResponse(t.Context(), which)
		require.NoError(t, err)
		assert.Equal(t, code, got.StatusCode(), string(got.Body))
	}
}

// TestMendsByItselfWhereAsked lets nothing mend itself until the estate says so, then what
// it says, and stops when one comes back.
func TestMendsByItselfWhereAsked(t *testing.T) {
	y := newYard(t)
	require.NoError(t, y.BeginDue(t.Context()))
	list, err := y.Client.ListInstallationsWithResponse(t.Context(), nil)
	require.NoError(t, err)
	assert.Empty(t, list.JSON200.Items, "nothing unless it is declared")
	for rule, want := range map[string]string{
		`{codes: [no-such], hours: "00:00-00:00"}`: `no finding has the code \"no-such\"`,
		`{codes: [expired], hours: "00:00-00:00"}`: "expired does not mend itself on its server alone",
	} {
		refused, err := y.Client.ApplyEstateWithResponse(t.Context(), y.with("mending:\n  - "+rule+"\n"))
		require.NoError(t, err)
		assert.Equal(t, http.StatusUnprocessableEntity, refused.StatusCode())
		assert.Contains(t, string(refused.Body), want)
	}
	apply := func(rule string) {
		applied, err := y.Client.ApplyEstateWithResponse(t.Context(), y.with("mending:\n  - "+rule+"\n"))
		require.NoError(t, err)
		require.NotNil(t, applied.JSON200, string(applied.Body))
	}
	due := func() *client.Installation {
		require.NoError(t, y.BeginDue(t.Context()))
		list, err := y.Client.ListInstallationsWithResponse(t.Context(), nil)
		require.NoError(t, err)
		if len(list.JSON200.Items) == 0 {
			return nil
		}
		return settled(t, y.Client, list.JSON200.Items[0].Number)
	}
	now := time.Now()
	apply(fmt.Sprintf(`{codes: [key-open], hours: "%s-%s"}`, now.Add(-2*time.Hour).Format("15:04"), now.Add(-time.Hour).Format("15:04")))
	assert.Nil(t, due(), "not in other hours")
	apply(`{codes: [key-open], hours: "00:00-00:00", servers: [yard]}`)
	v := due()
	require.NotNil(t, v)
	assert.Equal(t, client.InstallationStateDone, v.State, v.Reason)
	assert.Len(t, v.Mends, 1, "and nothing else")
	assert.Equal(t, "insegna", v.By)
	today, err := y.Client.GetTodayWithResponse(t.Context(), nil)
	require.NoError(t, err)
	require.Len(t, today.JSON200.Installed, 1)
	assert.Equal(t, v.Number, today.JSON200.Installed[0].Number)
	var who string
	y.Query(t, "select actor from journal where action = 'installation.begin' order by id desc limit 1", &who)
	assert.Equal(t, "insegna", who)

	y.reload = "false"
	apply(`{codes: [chain-incomplete, key-open], hours: "00:00-00:00"}`)
	back := due()
	assert.Equal(t, client.InstallationStateReturned, back.State)
	require.Eventually(t, func() bool { return len(y.open(t)) == 2 }, 20*time.Second, 50*time.Millisecond)
	require.NoError(t, os.Chmod(y.key, 0o644))
	y.Survey(t)
	require.Contains(t, y.open(t), "key-open")
	assert.Equal(t, back.Number, due().Number, "the first that comes back stops it")
	y.reload = ""
	apply(`{codes: [chain-incomplete, key-open], hours: "00:00-00:00"}`)
	again := due()
	assert.Greater(t, again.Number, back.Number, "until the estate is applied anew")
	assert.Equal(t, client.InstallationStateDone, again.State, again.Reason)
	assert.Len(t, again.Mends, 2)
}

// TestASiblingsKeyIsTakenOnlyWithPermission has the older of two servers take certificate and
// key of the newer, when who asks and who begins may, and what is to be taken is still there.
func TestASiblingsKeyIsTakenOnlyWithPermission(t *testing.T) {
	root := pkitest.CA("Harbour Root", nil)
	older := pkitest.Leaf(root, deck, pkitest.Valid(-60*24*time.Hour, 30*24*time.Hour))
	newer := pkitest.Leaf(root, deck, pkitest.Valid(-time.Hour, 89*24*time.Hour))
	r := servicetest.Start(t)
	servers, dirs := "", map[string]string{}
	var at [2]string
	lay := func(dir string, e *pkitest.Entity) {
		key, err := certs.KeyPEM(e.Key)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(dir+"/deck.pem", certs.PEM(e.Raw), 0o644))
		require.NoError(t, os.WriteFile(dir+"/deck.key", key, 0o600))
	}
	for n, e := range []*pkitest.Entity{newer, older} {
		dir, err := os.MkdirTemp("", "twin-")
		require.NoError(t, err)
		t.Cleanup(func() { _ = os.RemoveAll(dir) })
		require.NoError(t, os.Chmod(dir, 0o755))
		lay(dir, e)
		name := []string{"first", "second"}[n]
		at[n], dirs[name] = servicetest.FreeAddress(t), dir
		main := startNginx(t, dir, at[n], fmt.Sprintf("server { listen %s ssl; server_name %s; ssl_certificate deck.pem; "+
			"ssl_certificate_key deck.key; }\n", at[n], deck))
		command := "/usr/sbin/nginx -p " + dir + "/ -c " + main + " -e stderr"
		servers += fmt.Sprintf("  - {name: %s, kind: nginx, addresses: [127.0.0.1], ports: [%d], reach: {by: local, "+
			"configuration: %s, test: %q, reload: %q}}\n", name, netip.MustParseAddrPort(at[n]).Port(), main, command+" -t", command+" -s reload")
	}
	r.Apply(t, "estate: Ferries\naudiences:\n  - {name: browsers, roots: [root.pem]}\nservers:\n"+servers+
		"hosts:\n  - {name: "+deck+", at: [first, second]}\n", root)
	r.Survey(t)
	y := &yard{Running: r}
	older2 := y.open(t)["differs-from-siblings"]
	require.True(t, older2.Mending.Can, "%+v", y.open(t))
	which := client.MendRequest{Findings: &[]int64{older2.Id}}
	left := y.planned(t, which).Left
	require.Len(t, left, 1)
	assert.Contains(t, left[0].Reason, "taken from first, and that needs the permission to take private keys")
	_, err := r.Client.ChangePersonWithResponse(t.Context(), servicetest.Keeper, client.PersonChange{Keys: ptrTo(true)})
	require.NoError(t, err)
	var made int64 // a key that was made on its server and is to stay there
	r.Query(t, fmt.Sprintf(`with m as (insert into mandates (name, ca, spec, removed_at) values ('stays', 'crew', '{}', now()) returning id)
		insert into orders (mandate_id, ca, rehearsal, spec, state, by, created_at, finished_at, leaf)
		select id, 'crew', false, '{"name":"stays","key_on":"first"}', 'issued', 'marit', now(), now(), decode('%x', 'hex') from m returning id`, newer.Certificate.Fingerprint[:]), &made)
	left = y.planned(t, which).Left
	require.Len(t, left, 1)
	assert.NotContains(t, left[0].Reason, "taken from first", "with no permission")
	r.Query(t, fmt.Sprintf("delete from orders where id = %d returning id", made), &made)
	v := y.planned(t, which).Installations[0]
	assert.Contains(t, v.Mends[0].Does, "and its key from first")

	otto := r.Enter(t, "otto", client.RoleOperator)
	refused, err := otto.Post(fmt.Sprintf("%s/api/v1/installations/%d/begin", r.URL, v.Number), "application/json", nil)
	require.NoError(t, err)
	_ = refused.Body.Close()
	assert.Equal(t, http.StatusForbidden, refused.StatusCode, "who begins needs it too")

	before, err := os.ReadFile(dirs["second"] + "/nginx.conf")
	require.NoError(t, err)
	lay(dirs["first"], pkitest.Leaf(root, deck))
	gone := y.carried(t, v.Number)
	assert.Equal(t, client.InstallationStateReturned, gone.State)
	assert.Contains(t, gone.Reason, "what was to be taken from first is not as the preview showed it: another certificate lies in")
	after, err := os.ReadFile(dirs["second"] + "/nginx.conf")
	require.NoError(t, err)
	assert.Equal(t, string(before), string(after))
	assert.NoDirExists(t, dirs["second"]+"/insegna")

	lay(dirs["first"], newer)
	anew := y.planned(t, which)
	require.Len(t, anew.Installations, 1, "%+v", anew.Left)
	done := y.carried(t, anew.Installations[0].Number)
	require.Equal(t, client.InstallationStateDone, done.State, done.Reason)
	q := &quay{secure: at[1]}
	assert.Equal(t, newer.Certificate.Fingerprint.String(), q.served())
	assert.NotContains(t, y.open(t), "differs-from-siblings")
	var detail string
	y.Query(t, "select detail::text from journal where action = 'installation.begin' order by id desc limit 1", &detail)
	for _, part := range []string{`"from":"first"`, `"server":"second"`, dirs["first"] + "/deck.key"} {
		assert.Contains(t, detail, part)
	}
	told, err := r.Client.GetInstallationWithResponse(t.Context(), done.Number)
	require.NoError(t, err)
	assert.NotContains(t, string(told.Body), "PRIVATE")

	taken := func(c *http.Client, host string) (int, string) {
		resp, err := c.Post(r.URL+"/api/v1/servers/first/certificate", "application/json", strings.NewReader(fmt.Sprintf(`{"host":%q}`, host)))
		require.NoError(t, err)
		defer func() { _ = resp.Body.Close() }()
		text, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp.StatusCode, string(text)
	}
	status, _ := taken(otto, deck)
	assert.Equal(t, http.StatusForbidden, status)
	_, said := taken(http.DefaultClient, "nobody.lantern.example")
	assert.Contains(t, said, "first names no certificate with its key that is for nobody.lantern.example")
	status, said = taken(http.DefaultClient, deck)
	require.Equal(t, http.StatusCreated, status, said)
	assert.Contains(t, said, newer.Certificate.Fingerprint.String(), "it is the newest of a mandate from then on")
	var noted int
	r.Query(t, "select count(*) from journal where action = 'key.take' and subject = 'first'", &noted)
	assert.Equal(t, 1, noted, "and nothing is noted of what is refused")
}

// TestAKeyIsNotShownInADiff holds that of a file with certificate and key only the
// certificates are told.
func TestAKeyIsNotShownInADiff(t *testing.T) {
	root := pkitest.CA("Harbour Root", nil)
	one, other := pkitest.Leaf(root, deck), pkitest.Leaf(root, deck)
	key, err := certs.KeyPEM(one.Key)
	require.NoError(t, err)
	otherKey, err := certs.KeyPEM(other.Key)
	require.NoError(t, err)
	said := service.Diff(&install.File{Path: "/n/both.pem", Before: string(certs.PEM(one.Raw)) + string(key),
		After: string(certs.PEM(one.Raw)) + string(certs.PEM(root.Raw)) + string(otherKey)})
	assert.Contains(t, said, "+(certificate: Harbour Root")
	for line := range strings.Lines(string(key) + string(otherKey)) {
		if !strings.HasPrefix(line, "-----") {
			assert.NotContains(t, said, strings.TrimSpace(line))
		}
	}
}

func ptrTo[T any](v T) *T { return &v }

// TestWhatLiesInTheSafeMends installs what a mandate has in force where an ended
// certificate is shown; the plan lists all it mends, and they close.
func TestWhatLiesInTheSafeMends(t *testing.T) {
	t.Parallel()
	q := newQuay(t)
	past := pkitest.Leaf(pkitest.CA("Former Root", nil), deck, pkitest.Valid(-48*time.Hour, -time.Hour))
	key, err := certs.KeyPEM(past.Key)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(q.dir+"/old.pem", append(certs.PEM(past.Raw), key...), 0o600))
	text, err := os.ReadFile(q.site)
	require.NoError(t, err)
	end := strings.LastIndex(string(text), "}")
	require.NoError(t, os.WriteFile(q.site, []byte(string(text[:end])+fmt.Sprintf("server { listen %s ssl; server_name %s; root %s/www; "+
		"ssl_certificate %[3]s/old.pem; ssl_certificate_key %[3]s/old.pem; }\n}\n", q.secure, deck, q.dir)), 0o644))
	out, err := exec.Command("/usr/sbin/nginx", "-p", q.dir+"/", "-c", q.site, "-e", "stderr", "-s", "reload").CombinedOutput()
	require.NoError(t, err, string(out))
	require.Eventually(t, func() bool { return q.served() != "" }, 10*time.Second, 50*time.Millisecond)
	r := servicetest.Start(t)
	q.open(t, r.URL, r.Client)
	y := &yard{Running: r}
	require.Contains(t, y.open(t), "issuer-unknown", "that closes with it")
	o := ended(t, r.Client, begin(t, r.Client, "deck", false))
	require.Nil(t, o.Failure, "%+v", o.Failure)
	plan := y.planned(t, client.MendRequest{Host: ptrTo(deck)})
	require.Len(t, plan.Installations, 1, "%+v", plan)
	assert.Empty(t, plan.Renewals)
	v := plan.Installations[0]
	var mended []string
	for _, f := range v.Mends {
		mended = append(mended, f.Code)
		assert.Contains(t, f.Does, "of deck, which lies in the safe")
	}
	assert.Equal(t, []string{"expired"}, mended)
	shown, err := r.Client.GetInstallationWithResponse(t.Context(), v.Number)
	require.NoError(t, err)
	assert.Equal(t, v.Mends, shown.JSON200.Mends, "and is kept so")
	done := y.carried(t, v.Number)
	require.Equal(t, client.InstallationStateDone, done.State, done.Reason)
	assert.Equal(t, *o.Certificate, q.served())
	for _, code := range []string{"expired", "issuer-unknown"} {
		assert.NotContains(t, y.open(t), code)
	}
}
