package httpapi_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"strings"
	"sync"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/servicetest"
)

// What each operation of the contract needs; all others a viewer.
var (
	forAll      = "getHealth getReady signIn setUp getCalendar "
	forOperator = "startSurvey beginOrder checkMandate visitMandate previewInstallation previewMending beginInstallation previewWave beginWave returnWave keepWave " +
		"returnInstallation beginHttps continueHttps takeKey giveCertificate takeFromServer takeCertificate takeReply markSent endOrder signRequest revokeIssued planDrill revokeOrder getHostKey acceptFinding endAcceptance testNotice tryNotice addSilence endSilence "
	forAdmin = "applyEstate draftEstate addHost changeHost removeHost addPerson changePerson removePerson invitePerson agreeToTerms addMandate removeMandate " +
		"addCredential removeCredential getSafe renewSafeKey trustHostKey makeAuthority takeAuthority tellContact rollKey endAccount addCustomer removeCustomer beginDrill rollAuthority endRolling "
)

// TestWhoMayDoWhat calls every operation of the contract as nobody, with a
// foreign token, in each role and with a token of less scope, with good and
// with broken bodies: the right status each, and nothing changed by what is refused.
func TestWhoMayDoWhat(t *testing.T) {
	spec, err := openapi3.NewLoader().LoadFromFile("../../api/openapi.yaml")
	require.NoError(t, err)
	r := servicetest.Start(t)
	r.Apply(t, text, pkitest.CA("root", nil))
	admin := r.Enter(t, "ada", client.RoleAdmin)
	made := func(role string) string {
		_, body := send(t, admin, "POST", r.URL+"/api/v1/tokens", `{"name":"x","scope":"`+role+`","days":1}`, "")
		var v client.NewToken
		require.NoError(t, json.Unmarshal([]byte(body), &v))
		return v.Secret
	}
	callers := []struct {
		name   string
		client *http.Client
		token  string
		rank   int
	}{
		{"nobody", servicetest.Anonymous, "", 0},
		{"foreign token", servicetest.Anonymous, "insegna_" + strings.Repeat("A", 43), 0},
		{"no token", servicetest.Anonymous, "%%%", 0},
		{"viewer", r.Enter(t, "vito", client.RoleViewer), "", 1},
		{"admin's viewer token", servicetest.Anonymous, made("viewer"), 1},
		{"operator", r.Enter(t, "olga", client.RoleOperator), "", 2},
		{"admin's operator token", servicetest.Anonymous, made("operator"), 2},
		{"admin's token", servicetest.Anonymous, made("admin"), 3},
	}
	for _, name := range []string{"ada", "olga"} { // a permission beside the role
		status, _ := send(t, http.DefaultClient, "PATCH", r.URL+"/api/v1/people/"+name, `{"keys":true}`, "")
		require.Equal(t, 200, status)
	}
	state := func() (v string) {
		r.Query(t, "select concat_ws(' ', (select count(*) from journal), (select count(*) from people), (select count(*) "+
			"from tokens), (select count(*) from surveys), (select count(*) from orders), (select count(*) from "+
			"installations), (select count(*) from mandates), (select count(*) from credentials))", &v)
		return v
	}
	least := func(operation string) int {
		switch word := operation + " "; {
		case strings.Contains(forAll, word):
			return 0
		case strings.Contains(forOperator, word):
			return 2
		case strings.Contains(forAdmin, word):
			return 3
		}
		return 1
	}
	for _, c := range callers {
		for path, item := range spec.Paths.Map() {
			for method, operation := range item.Operations() {
				if operation.OperationID == "signOut" && c.rank > 0 {
					continue // would end the caller
				}
				if operation.OperationID == "followEvents" && c.rank > 0 {
					continue // has no end; TestWhatHappensIsToldToAll follows it
				}
				at := r.URL + "/api/v1" + strings.NewReplacer("{id}", "999999", "{sha256}", "ffffffff", "{name}", "quay",
					"{person}", "nobody-known", "{number}", "999999", "{host}", "a.test", "{token}", strings.Repeat("A", 43)+".ics").Replace(path)
				bodies := []string{""}
				if operation.RequestBody != nil {
					bodies = []string{bodyFor(operation.OperationID), `{"name":7,"text":[],"passphrase":{}}`, `[`,
						`"` + strings.Repeat("x", 100_000) + `"`}
				}
				before := state()
				for _, body := range bodies {
					status, answer := send(t, c.client, method, at, body, c.token)
					what := c.name + " " + operation.OperationID + " " + body[:min(len(body), 30)] + ": " + answer
					switch {
					case c.rank >= least(operation.OperationID):
						assert.Less(t, status, 500, what)
						assert.NotEqual(t, http.StatusForbidden, status, what)
						if least(operation.OperationID) > 0 {
							assert.NotEqual(t, http.StatusUnauthorized, status, what)
						}
					case c.rank == 0:
						assert.Equal(t, http.StatusUnauthorized, status, what)
					default:
						assert.Equal(t, http.StatusForbidden, status, what)
					}
				}
				if c.rank < least(operation.OperationID) {
					assert.Equal(t, before, state(), c.name+" "+operation.OperationID)
				}
			}
		}
	}
}

func send(t *testing.T, c *http.Client, method, url, body, token string) (int, string) {
	req, err := http.NewRequestWithContext(t.Context(), method, url, strings.NewReader(body))
	require.NoError(t, err)
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	resp, err := c.Do(req)
	require.NoError(t, err)
	defer func() { _ = resp.Body.Close() }()
	data, err := readUpTo(resp.Body)
	require.NoError(t, err)
	if resp.StatusCode >= 400 {
		var p client.Problem
		assert.Equal(t, "application/problem+json", resp.Header.Get("Content-Type"), string(data))
		assert.NoError(t, json.Unmarshal(data, &p), string(data))
	}
	return resp.StatusCode, string(data)
}

// TestPeopleComeAndGo goes through a person's life: link, passphrase, session,
// tokens, another role, removal; and what must not happen on the way.
func TestPeopleComeAndGo(t *testing.T) {
	r := servicetest.Start(t)
	at := r.URL + "/api/v1"
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	browser := &http.Client{Jar: jar, Transport: servicetest.Anonymous.Transport}
	code, err := r.FirstInvitation(t.Context())
	require.NoError(t, err)
	assert.Empty(t, code, "the service is set up, there is no second first link")

	status, body := send(t, http.DefaultClient, "POST", at+"/people", `{"name":"Tove Berg","role":"viewer"}`, "")
	assert.Equal(t, 422, status)
	assert.Contains(t, body, "no name for a person")
	invite := func(path, body string) string {
		status, answer := send(t, http.DefaultClient, "POST", at+path, body, "")
		require.Equal(t, 201, status, answer)
		var i client.Invitation
		require.NoError(t, json.Unmarshal([]byte(answer), &i))
		return i.Code
	}
	old := invite("/people", `{"name":"tove","role":"operator"}`)
	fresh := invite("/people/tove/invitation", "")
	setUp := func(code, passphrase string) (int, string) {
		return send(t, browser, "POST", at+"/set-up", `{"code":"`+code+`","passphrase":"`+passphrase+`"}`, "")
	}
	status, body = setUp(old, "lamp pier gull rope")
	assert.Equal(t, 422, status, "a newer link voids the older")
	assert.Contains(t, body, "replaced by a newer one")
	for _, weak := range []string{"short", "aaaaaaaaaaaaaaaa", strings.Repeat("long word ", 30)} {
		status, _ = setUp(fresh, weak)
		assert.Equal(t, 422, status, weak)
	}
	status, body = setUp(fresh, "lamp pier gull rope")
	require.Equal(t, 201, status, body)
	status, _ = setUp(fresh, "another four words here")
	assert.Equal(t, 422, status, "a link works once")
	status, body = send(t, browser, "GET", at+"/session", "", "")
	assert.Equal(t, 200, status)
	assert.Contains(t, body, `"person":"tove","role":"operator"`)

	status, body = send(t, browser, "POST", at+"/tokens", `{"name":"night","scope":"admin","days":1}`, "")
	assert.Equal(t, 422, status, "a token cannot do more than its maker")
	assert.Contains(t, body, "its maker acts as operator")
	status, body = send(t, browser, "POST", at+"/tokens", `{"name":"night","scope":"operator","days":1}`, "")
	require.Equal(t, 201, status, body)
	var night client.NewToken
	require.NoError(t, json.Unmarshal([]byte(body), &night))
	_, list := send(t, browser, "GET", at+"/tokens", "", "")
	assert.NotContains(t, list, night.Secret)
	assert.NotContains(t, list, `"keeper"`, "others' tokens are not shown")
	status, _ = send(t, http.DefaultClient, "PATCH", at+"/people/tove", `{"role":"viewer"}`, "")
	assert.Equal(t, 200, status)
	status, _ = send(t, servicetest.Anonymous, "POST", at+"/surveys", "{}", night.Secret)
	assert.Equal(t, 403, status, "a token loses what its person loses")

	status, _ = send(t, browser, "PUT", at+"/session/passphrase",
		`{"before":"wrong one entirely","next":"gull rope lamp pier"}`, "")
	assert.Equal(t, 422, status)
	status, _ = send(t, browser, "PUT", at+"/session/passphrase",
		`{"before":"lamp pier gull rope","next":"gull rope lamp pier"}`, "")
	assert.Equal(t, 204, status)
	status, _ = send(t, servicetest.Anonymous, "GET", at+"/session", "", night.Secret)
	assert.Equal(t, 401, status, "a new passphrase ends the tokens")
	status, _ = send(t, browser, "GET", at+"/session", "", "")
	assert.Equal(t, 200, status, "and keeps the session that changed it")

	make := func(c *http.Client, days, token string) (status int, made client.NewToken, body string) {
		status, body = send(t, c, "POST", at+"/tokens", `{"name":"night","scope":"viewer","days":`+days+`}`, token)
		_ = json.Unmarshal([]byte(body), &made)
		return status, made, body
	}
	_, short, _ := make(browser, "2", "")
	status, _, body = make(servicetest.Anonymous, "3", short.Secret)
	assert.Equal(t, 422, status, "a short token makes no long one")
	assert.Contains(t, body, "a token made with a token ends no later than that one")
	status, shorter, _ := make(servicetest.Anonymous, "1", short.Secret)
	assert.Equal(t, 201, status)
	status, _ = send(t, servicetest.Anonymous, "PUT", at+"/session/passphrase",
		`{"before":"gull rope lamp pier","next":"lamp pier gull rope"}`, short.Secret)
	assert.Equal(t, 204, status)
	for token, want := range map[string]int{short.Secret: 200, shorter.Secret: 401} {
		status, _ = send(t, servicetest.Anonymous, "GET", at+"/session", "", token)
		assert.Equal(t, want, status, "the one that changed it stays, the other ends")
	}
	status, _ = send(t, browser, "GET", at+"/session", "", "")
	assert.Equal(t, 401, status)
	signIn := func() (int, string) {
		return send(t, browser, "POST", at+"/session", `{"name":"tove","passphrase":"lamp pier gull rope"}`, "")
	}
	status, _ = signIn()
	assert.Equal(t, 201, status)
	_, night, _ = make(browser, "1", "")
	invite("/people/tove/invitation", "")
	for _, c := range []*http.Client{browser, servicetest.Anonymous} {
		token := ""
		if c != browser {
			token = night.Secret
		}
		status, _ = send(t, c, "GET", at+"/session", "", token)
		assert.Equal(t, 401, status, "whoever is let in anew begins anew")
	}
	status, _ = signIn()
	assert.Equal(t, 201, status)
	_, night, _ = make(browser, "1", "")
	status, _ = send(t, browser, "DELETE", at+"/session", "", "")
	assert.Equal(t, 204, status)
	status, _ = send(t, browser, "GET", at+"/session", "", "")
	assert.Equal(t, 401, status)
	status, _ = send(t, servicetest.Anonymous, "GET", at+"/session", "", night.Secret)
	assert.Equal(t, 200, status)

	for _, change := range [][3]string{{"DELETE", "/people/keeper", ""},
		{"PATCH", "/people/keeper", `{"role":"viewer"}`}} {
		status, body = send(t, http.DefaultClient, change[0], at+change[1], change[2], "")
		assert.Equal(t, 409, status)
		assert.Contains(t, body, "at least one admin has to stay")
	}
	status, _ = send(t, http.DefaultClient, "DELETE", at+"/people/tove", "", "")
	assert.Equal(t, 204, status)
	status, _ = send(t, servicetest.Anonymous, "GET", at+"/session", "", night.Secret)
	assert.Equal(t, 401, status)
	status, _ = send(t, http.DefaultClient, "POST", at+"/people", `{"name":"tove","role":"viewer"}`, "")
	assert.Equal(t, 409, status, "the journal knows this name")
	_, log := send(t, http.DefaultClient, "GET", at+"/journal", "", "")
	for _, act := range []string{"person.set-up", "person.add", "person.invite", "person.change", "person.passphrase",
		"person.remove", "token.make"} {
		assert.Contains(t, log, act)
	}
	v, err := r.VerifyJournal(t.Context(), "")
	require.NoError(t, err)
	assert.Nil(t, v.Broken)
	var kept int
	r.Query(t, "select count(*) from people where passphrase like '%words%' or passphrase like '%gull%'", &kept)
	assert.Zero(t, kept)
}

// TestGuessingIsSlowedDown holds a name after five failures, with the right
// passphrase as well, and says for how long.
func TestGuessingIsSlowedDown(t *testing.T) {
	r := servicetest.Start(t)
	try := func(passphrase string) (int, string, string) {
		req, err := http.NewRequestWithContext(t.Context(), "POST", r.URL+"/api/v1/session",
			strings.NewReader(`{"name":"keeper","passphrase":"`+passphrase+`"}`))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/json")
		resp, err := servicetest.Anonymous.Do(req)
		require.NoError(t, err)
		defer func() { _ = resp.Body.Close() }()
		body, err := readUpTo(resp.Body)
		require.NoError(t, err)
		if resp.StatusCode == 201 {
			c := resp.Header.Get("Set-Cookie")
			for _, must := range []string{"HttpOnly", "SameSite=Strict", "Path=/"} {
				assert.Contains(t, c, must)
			}
		}
		return resp.StatusCode, resp.Header.Get("Retry-After"), string(body)
	}
	status, _, _ := try(servicetest.KeeperPassphrase)
	assert.Equal(t, 201, status)
	for range 10 {
		if status, _, _ = try("wrong wrong wrong"); status == 429 {
			break
		}
		assert.Equal(t, 401, status)
	}
	status, wait, body := try(servicetest.KeeperPassphrase)
	assert.Equal(t, 429, status, body)
	assert.NotEmpty(t, wait)
}

// from gives a client that comes from an address of its own.
func from(address string) *http.Client {
	d := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(address)}}
	return &http.Client{Transport: &http.Transport{DialContext: d.DialContext, DisableKeepAlives: true}}
}

// TestTheGuesserWaitsAndNotThePerson guesses from one address until it waits, for
// this name and at last for all, while the person signs in from another.
func TestTheGuesserWaitsAndNotThePerson(t *testing.T) {
	r := servicetest.Start(t)
	at := r.URL + "/api/v1/session"
	guess := func(c *http.Client, name, passphrase string) int {
		status, _ := send(t, c, "POST", at, `{"name":"`+name+`","passphrase":"`+passphrase+`"}`, "")
		return status
	}
	guesser, person := from("127.0.0.2"), from("127.0.0.3")
	statuses := map[int]int{}
	for range 10 {
		statuses[guess(guesser, "keeper", "wrong wrong wrong")]++
	}
	assert.Equal(t, 5, statuses[401])
	assert.Equal(t, 5, statuses[429])
	assert.Equal(t, 429, guess(guesser, "keeper", servicetest.KeeperPassphrase))
	assert.Equal(t, 201, guess(person, "keeper", servicetest.KeeperPassphrase))
	last := 0
	for n := range 40 { // another name each time
		last = guess(guesser, fmt.Sprintf("name%d", n), "wrong wrong wrong")
	}
	assert.Equal(t, 429, last, "the address waits as a whole")
	assert.Equal(t, 201, guess(person, "keeper", servicetest.KeeperPassphrase))
	_, journal := send(t, http.DefaultClient, "GET", r.URL+"/api/v1/journal?q=person.sign-in", "", "")
	assert.Contains(t, journal, "127.0.0.3")
	assert.NotContains(t, journal, "127.0.0.2")
}

// TestAFloodOfSignInsIsShed lets very many sign in at once, from many addresses and
// in vain: those who are not let in are told when to come again, and nobody
// waits in line for long.
func TestAFloodOfSignInsIsShed(t *testing.T) {
	r := servicetest.Start(t)
	var mu sync.Mutex
	statuses := map[int]int{}
	var all sync.WaitGroup
	for n := range 300 {
		all.Go(func() {
			c := from(fmt.Sprintf("127.0.1.%d", 1+n%100))
			resp, err := c.Post(r.URL+"/api/v1/session", "application/json",
				strings.NewReader(fmt.Sprintf(`{"name":"nobody%d","passphrase":"wrong wrong wrong"}`, n)))
			if !assert.NoError(t, err) {
				return
			}
			defer func() { _ = resp.Body.Close() }()
			if resp.StatusCode == 503 {
				assert.NotEmpty(t, resp.Header.Get("Retry-After"))
			}
			mu.Lock()
			defer mu.Unlock()
			statuses[resp.StatusCode]++
		})
	}
	all.Wait()
	assert.Equal(t, 300, statuses[401]+statuses[503], "%v", statuses)
	assert.NotZero(t, statuses[503], "%v", statuses)
	assert.NotZero(t, statuses[401], "%v", statuses)
	status, _ := send(t, from("127.0.0.9"), "POST", r.URL+"/api/v1/session",
		`{"name":"keeper","passphrase":"`+servicetest.KeeperPassphrase+`"}`, "")
	assert.Equal(t, 201, status)
}

// TestAStreamEndsWithItsToken follows what happens with a token that is revoked
// then.
func TestAStreamEndsWithItsToken(t *testing.T) {
	r := servicetest.Start(t)
	vito := r.Enter(t, "vito", client.RoleViewer)
	_, body := send(t, vito, "POST", r.URL+"/api/v1/tokens", `{"name":"x","scope":"viewer","days":1}`, "")
	var made client.NewToken
	require.NoError(t, json.Unmarshal([]byte(body), &made))
	req, err := http.NewRequestWithContext(t.Context(), "GET", r.URL+"/api/v1/events", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+made.Secret)
	resp, err := servicetest.Anonymous.Do(req)
	require.NoError(t, err)
	defer func() { _ = resp.Body.Close() }()
	require.Equal(t, 200, resp.StatusCode)
	status, _ := send(t, http.DefaultClient, "DELETE", fmt.Sprintf("%s/api/v1/tokens/%d", r.URL, made.Token.Id), "", "")
	require.Equal(t, 204, status)
	_, err = io.Copy(io.Discard, resp.Body) // ends, or the test does not
	assert.NoError(t, err)
}

// TestAnswersAreMarkedAndCompressed asks for a list again that did not change, and
// for one that did.
func TestAnswersAreMarkedAndCompressed(t *testing.T) {
	r := servicetest.Start(t)
	r.Apply(t, text, pkitest.CA("root", nil))
	get := func(path, tag string) (*http.Response, int) {
		req, err := http.NewRequestWithContext(t.Context(), "GET", r.URL+path, nil)
		require.NoError(t, err)
		req.Header.Set("Accept-Encoding", "gzip")
		if tag != "" {
			req.Header.Set("If-None-Match", tag)
		}
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer func() { _ = resp.Body.Close() }()
		n, err := io.Copy(io.Discard, resp.Body)
		require.NoError(t, err)
		return resp, int(n)
	}
	const path = "/api/v1/bindings"
	first, size := get(path, "")
	assert.Equal(t, "gzip", first.Header.Get("Content-Encoding"))
	tag := first.Header.Get("ETag")
	require.NotEmpty(t, tag)
	assert.Equal(t, "private, no-cache", first.Header.Get("Cache-Control"), "each time it is asked whether it is so still")
	again, none := get(path, tag)
	assert.Equal(t, []int{304, 0}, []int{again.StatusCode, none})
	assert.NotZero(t, size)
	r.Survey(t)
	changed, _ := get(path, tag)
	assert.Equal(t, 200, changed.StatusCode)
	assert.NotEqual(t, tag, changed.Header.Get("ETag"))
	refused, _ := get("/api/v1/bindings?limit=0", tag)
	assert.Equal(t, 400, refused.StatusCode)
	assert.Empty(t, refused.Header.Get("ETag"))
}

// TestAListRowIsSmall holds a certificate of very many names in a list to the first of
// them and their number; the certificate itself has all.
func TestAListRowIsSmall(t *testing.T) {
	r := servicetest.Start(t)
	var n int
	r.Query(t, `with made as (insert into certificates (sha256, der, common_name, issuer, names, not_before, not_after, key, serial, is_ca, first_seen)
		select sha256('x'::bytea), '', 'many', 'Harbour CA', jsonb_agg('h' || i || '.lantern.example'), now(), now() + interval '9 days', 'ECDSA P-256', '1', false, now()
		from generate_series(1, 60000) i returning 1) select count(*) from made`, &n)
	list, err := r.Client.ListCertificatesWithResponse(t.Context(), nil)
	require.NoError(t, err)
	require.Len(t, list.JSON200.Items, 1)
	assert.Len(t, list.JSON200.Items[0].Names, 20)
	assert.Equal(t, 60000, list.JSON200.Items[0].NameCount)
	assert.Less(t, len(list.Body), 4096)
}
