package service_test

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	ics "github.com/arran4/golang-ical"
	"github.com/jackc/pgx/v5"
	"github.com/oapi-codegen/runtime/types"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/service"
	"insegna.example/internal/servicetest"
	"insegna.example/internal/standin/sink"
)

// told is an estate of two owners whose messages go to a stand-in: bookings by mail over
// STARTTLS with a sign-in, freight by mail and by webhook.
type told struct {
	*watched
	sink           *sink.Sink
	root           *pkitest.Entity
	booking, cargo tls.Certificate // shown at the moment
	met            int             // messages the test knows of
	text           string          // of the estate
}

// lasting is a certificate of a host that is valid for so many days from now.
func (v *told) lasting(host string, days int) tls.Certificate {
	return pkitest.Leaf(v.root, host, pkitest.Valid(-48*time.Hour, time.Duration(days)*24*time.Hour-time.Hour)).TLS()
}

func startTold(t *testing.T, notices string) *told {
	v := &told{watched: startWatched(t), root: pkitest.CA("root", nil)}
	mailer := pkitest.Leaf(v.root, "localhost").TLS()
	var err error
	v.sink, err = sink.Start(sink.Config{Mail: "127.0.0.1:0", Page: "127.0.0.1:0", Certificate: &mailer, User: "insegna", Password: "cGFzc3dvcmQtb2Y2Nw==",
		Secret: "c2VjcmV0LW9mLXRoZS1ob29rcw=="})
	require.NoError(t, err)
	t.Cleanup(v.sink.Stop)
	v.booking, v.cargo = v.lasting("booking.lantern.example", 300), v.lasting("cargo.lantern.example", 300)
	at := servicetest.Serve(t, "127.0.0.1:0", func() *tls.Certificate { return &v.booking }).Port()
	other := servicetest.Serve(t, "127.0.0.1:0", func() *tls.Certificate { return &v.cargo }).Port()
	_, mailPort, _ := strings.Cut(v.sink.Mail(), ":")
	v.text = fmt.Sprintf(`estate: Ferries
audiences:
  - {name: browsers, roots: [root.pem]}
schedule: {every: never, troubled: never}
owner: freight
owners:
  - {name: bookings, mail: [bookings@lantern.example]}
  - {name: freight, mail: [freight@lantern.example], webhook: {address: "http://%s/hooks/freight?key=never-shown", secret: hooks}}
groups:
  - {name: sales, owner: bookings}
notices:
  console: https://insegna.lantern.example
  mail: {server: "localhost:%s", from: insegna@lantern.example, user: insegna, credential: mail, roots: [root.pem]}
%s
servers:
  - {name: quay, addresses: [127.0.0.1], ports: [%d], without_sni: false}
  - {name: pier, addresses: [127.0.0.1], ports: [%d], without_sni: false}
hosts:
  - {name: booking.lantern.example, at: [quay], group: sales, tags: [payments]}
  - {name: cargo.lantern.example, at: [pier]}
`, v.sink.Page(), mailPort, notices, at, other)
	for name, value := range map[string]string{"mail": "cGFzc3dvcmQtb2Y2Nw==", "hooks": "c2VjcmV0LW9mLXRoZS1ob29rcw=="} {
		resp, err := v.Client.AddCredentialWithResponse(t.Context(), name, client.CredentialValue{Value: value})
		require.NoError(t, err)
		require.Less(t, resp.StatusCode(), 300, string(resp.Body))
	}
	v.Apply(t, v.text, v.root)
	return v
}

// tell lets time go by, tells, and gives what came in, as receiver and subject: so many.
func (v *told) tell(t *testing.T, pass time.Duration, want int) (out []string) {
	t.Helper()
	v.clock.Add(int64(pass))
	require.NoError(t, v.Service.Tell(t.Context()))
	assert.Eventually(t, func() bool {
		waiting, err := v.Client.ListNoticesWithResponse(t.Context(), &client.ListNoticesParams{State: ptr(client.ListNoticesParamsStateWaiting)})
		return err == nil && len(waiting.JSON200.Items) == 0 && len(v.sink.Messages())-v.met >= want
	}, 20*time.Second, 20*time.Millisecond)
	for _, m := range v.sink.Messages()[v.met:] {
		out = append(out, m.To+": "+m.Subject)
	}
	v.met += len(out)
	slices.Sort(out)
	return out
}

// TestOwnersAreTold follows two owners through days: each is told of what is theirs, once, at
// most every quarter of an hour, of its end too, not in a silence, and of how things stand each
// morning.
func TestOwnersAreTold(t *testing.T) {
	t.Parallel()
	v := startTold(t, "  digest: 07:00\n  rules:\n    - {events: [found, ends, failed, mended]}\n")
	noon := time.Now()
	v.clock.Store(int64(time.Date(noon.Year(), noon.Month(), noon.Day()+1, 12, 0, 0, 0, noon.Location()).Sub(noon)))
	expired := func(host string) tls.Certificate { return v.lasting(host, 0) }
	v.cargo = expired("cargo.lantern.example")
	v.Survey(t)
	assert.Equal(t, []string{"/hooks/freight: [Ferries] 1 broken: cargo.lantern.example", "freight@lantern.example: [Ferries] 1 broken: cargo.lantern.example"},
		v.tell(t, 0, 2), "who is told for the first time is told what is open")
	for _, m := range v.sink.Messages() {
		assert.Contains(t, m.Text, "cargo.lantern.example")
		if m.By == "webhook" {
			assert.True(t, m.Verified)
			var told struct {
				Kind, Owner, Subject string
				Lines                []struct{ Event, Severity, Code, What, Words, Remedy, Path string }
			}
			require.NoError(t, json.Unmarshal([]byte(m.Text), &told))
			require.Len(t, told.Lines, 1)
			assert.Equal(t, "events freight found broken expired", strings.Join([]string{told.Kind, told.Owner, told.Lines[0].Event, told.Lines[0].Severity, told.Lines[0].Code}, " "))
			continue
		}
		assert.True(t, m.Secure, "over TLS, signed in")
		assert.Equal(t, []string{"auto-generated"}, m.Header["Auto-Submitted"])
		assert.Contains(t, m.Text, "→ renew it and install the new one\n    https://insegna.lantern.example/findings/")
		assert.Contains(t, m.HTML, "Renew it and install the new one.")
	}

	v.booking = expired("booking.lantern.example")
	v.Survey(t)
	assert.Equal(t, []string{"bookings@lantern.example: [Ferries] 1 broken: booking.lantern.example"}, v.tell(t, 0, 1), "at once, for nothing was told before")
	v.booking = v.lasting("booking.lantern.example", 300)
	v.Survey(t)
	assert.Empty(t, v.tell(t, 14*time.Minute, 0))
	assert.Equal(t, []string{"bookings@lantern.example: [Ferries] 1 mended: booking.lantern.example"}, v.tell(t, 2*time.Minute, 1))
	assert.Empty(t, v.tell(t, time.Hour, 0), "everything is told once")
	v.booking = expired("booking.lantern.example")
	v.Survey(t)
	v.booking = v.lasting("booking.lantern.example", 300)
	v.Survey(t)
	assert.Empty(t, v.tell(t, time.Hour, 0), "what came and went meanwhile concerns nobody")

	quiet, err := v.Client.AddSilenceWithResponse(t.Context(), client.SilenceRequest{Owner: ptr("bookings"), Until: v.now().Add(3 * time.Hour), Reason: "moving"})
	require.NoError(t, err)
	require.NotNil(t, quiet.JSON201, string(quiet.Body))
	v.booking = expired("booking.lantern.example")
	v.Survey(t)
	assert.Empty(t, v.tell(t, 2*time.Hour, 0))
	ended, err := v.Client.EndSilenceWithResponse(t.Context(), quiet.JSON201.Id)
	require.NoError(t, err)
	require.Equal(t, http.StatusNoContent, ended.StatusCode())
	assert.Equal(t, []string{"bookings@lantern.example: [Ferries] 1 broken: booking.lantern.example"}, v.tell(t, 0, 1), "told when the silence has ended")

	// What is accepted is let be until its day, and comes back then.
	list, err := v.Client.ListFindingsWithResponse(t.Context(), &client.ListFindingsParams{Owner: &[]string{"freight"}})
	require.NoError(t, err)
	require.Len(t, list.JSON200.Items, 1)
	id := list.JSON200.Items[0].Id
	for until, why := range map[time.Time]string{v.now().Add(-time.Hour): "has passed", v.now().Add(400 * 24 * time.Hour): "at most 366 days"} {
		bad, err := v.Client.AcceptFindingWithResponse(t.Context(), id, client.AcceptanceRequest{Until: until, Reason: "because"})
		require.NoError(t, err)
		assert.Contains(t, string(bad.Body), why)
	}
	taken, err := v.Client.AcceptFindingWithResponse(t.Context(), id, client.AcceptanceRequest{Until: v.now().Add(72 * time.Hour), Reason: "replaced on Friday"})
	require.NoError(t, err)
	require.NotNil(t, taken.JSON200, string(taken.Body))
	assert.Equal(t, "keeper", taken.JSON200.Acceptance.By)
	v.Survey(t)
	assert.Equal(t, []string{"expired booking.lantern.example at quay"}, v.Findings(t), "another look brings the same, and it stays accepted")

	now := v.now()
	morning := time.Date(now.Year(), now.Month(), now.Day()+1, 7, 0, 1, 0, now.Location()).Sub(now)
	v.Query(t, "with moved as (update events set at = $1 returning 1) select count(*) from moved", new(int), now) // by the test's time
	day := now.Add(morning).UTC().Format("Monday 2 January")
	assert.Equal(t, []string{"/hooks/freight: [Ferries] " + day + ": nothing is broken or due", "bookings@lantern.example: [Ferries] " + day + ": 1 broken",
		"freight@lantern.example: [Ferries] " + day + ": nothing is broken or due"}, v.tell(t, morning, 3))
	assert.Contains(t, v.mailTo("freight"), "No finding is open; 1 more are accepted.")
	assert.Contains(t, v.mailTo("bookings"), "In the last day:\n\nMended\n  booking.lantern.example at quay")
	assert.Empty(t, v.tell(t, 10*time.Hour, 0), "once a day")
	require.NoError(t, v.Service.BeginScheduled(t.Context()))
	v.clock.Add(int64(72 * time.Hour))
	require.NoError(t, v.Service.BeginScheduled(t.Context()))
	v.tell(t, 0, 3) // digests of three days, once
	assert.Contains(t, v.Findings(t), "expired cargo.lantern.example at pier", "the day has come")
	assert.Contains(t, strings.Join(v.all(), "\n"), "freight@lantern.example: [Ferries] 1 broken: cargo.lantern.example")

	v.clock.Add(-int64(30 * 24 * time.Hour)) // it was wrong, and is put right
	v.booking = v.lasting("booking.lantern.example", 300)
	v.Survey(t)
	assert.Contains(t, v.tell(t, 0, 4), "bookings@lantern.example: [Ferries] 1 mended: booking.lantern.example")
	assert.Empty(t, v.tell(t, time.Minute, 0), "and nothing is told again for it")
}

// now is the test's time.
func (w *watched) now() time.Time { return time.Now().Add(time.Duration(w.clock.Load())) }

// mailTo is the text of the last letter to somebody.
func (v *told) mailTo(name string) string {
	for _, m := range slices.Backward(v.sink.Messages()) {
		if strings.HasPrefix(m.To, name+"@") {
			return m.Text
		}
	}
	return ""
}

// all is everything that came in, as receiver and subject.
func (v *told) all() (out []string) {
	for _, m := range v.sink.Messages() {
		out = append(out, m.To+": "+m.Subject)
	}
	return out
}

// TestAnAcceptedFindingComesBackAsAnother has one accepted whose evidence becomes another.
func TestAnAcceptedFindingComesBackAsAnother(t *testing.T) {
	v := startTold(t, "  gather: 1m\n")
	v.booking = v.lasting("another.lantern.example", 300)
	v.Survey(t)
	v.tell(t, 0, 1)
	list, err := v.Client.ListFindingsWithResponse(t.Context(), &client.ListFindingsParams{Tag: &[]string{"payments"}})
	require.NoError(t, err)
	require.Len(t, list.JSON200.Items, 1)
	f := list.JSON200.Items[0]
	assert.Equal(t, &client.Belongs{Group: ptr("sales"), Owner: ptr("bookings"), Tags: &[]string{"payments"}}, f.Belongs)
	taken, err := v.Client.AcceptFindingWithResponse(t.Context(), f.Id, client.AcceptanceRequest{Until: v.now().Add(72 * time.Hour), Reason: "a trial"})
	require.NoError(t, err)
	require.NotNil(t, taken.JSON200, string(taken.Body))
	var count int
	v.Query(t, "select count(*) from findings where accepted_until is not null", &count)
	require.Equal(t, 1, count)
	counts, err := v.Client.ListFindingsWithResponse(t.Context(), &client.ListFindingsParams{State: ptr(client.ListFindingsParamsStateAccepted)})
	require.NoError(t, err)
	assert.Len(t, counts.JSON200.Items, 1)
	assert.Equal(t, 1, counts.JSON200.Counts.Accepted)
	assert.Zero(t, counts.JSON200.Counts.Broken)
	v.Query(t, "update findings set evidence = '[{\"label\": \"names\", \"value\": \"something else\"}]' where id = $1 returning id", new(int64), f.Id)
	v.Survey(t)
	assert.Len(t, v.Findings(t), 1, "what was accepted was something else")
	assert.Equal(t, []string{"bookings@lantern.example: [Ferries] 1 broken: booking.lantern.example"}, v.tell(t, 2*time.Minute, 1))
	assert.Contains(t, v.mailTo("bookings"), "was accepted, and is no longer: ")
	again, err := v.Client.EndAcceptanceWithResponse(t.Context(), f.Id)
	require.NoError(t, err)
	assert.Contains(t, string(again.Body), "is not accepted")
}

// TestEndsAreToldAtFallingDistance lets a certificate come closer to its end.
func TestEndsAreToldAtFallingDistance(t *testing.T) {
	v := startTold(t, "  rules:\n    - {events: [ends], days: [20, 5], tags: [payments], to: [freight]}\n")
	v.Survey(t)
	const line = "freight@lantern.example: [Ferries] 1 about to end: booking.lantern.example"
	assert.Empty(t, v.tell(t, 0, 0))
	assert.Contains(t, v.tell(t, 281*24*time.Hour, 2), line)
	assert.Contains(t, v.mailTo("freight"), "the certificate of booking.lantern.example ends on ")
	assert.Empty(t, v.tell(t, 5*24*time.Hour, 0), "told once for each distance")
	assert.Contains(t, v.tell(t, 10*24*time.Hour, 2), line)
	assert.Empty(t, v.tell(t, 10*24*time.Hour, 0), "what has ended is a finding")
}

// TestWhatDoesNotArriveIsAFinding has servers refuse, put off and lose messages: nothing is
// lost, what is refused is told where people look, and mends itself when something arrives.
func TestWhatDoesNotArriveIsAFinding(t *testing.T) {
	v := startTold(t, "")
	test := func(owner string) []client.Notice {
		resp, err := v.Client.TestNoticeWithResponse(t.Context(), client.NoticeTestRequest{Owner: owner})
		require.NoError(t, err)
		require.NotNil(t, resp.JSON202, string(resp.Body))
		return resp.JSON202.Items
	}
	state := func(id int64) client.Notice {
		resp, err := v.Client.GetNoticeWithResponse(t.Context(), id)
		require.NoError(t, err)
		return *resp.JSON200
	}
	until := func(id int64, want client.NoticeState, tries int) (n client.Notice) {
		t.Helper()
		assert.Eventually(t, func() bool { n = state(id); return n.State == want && n.Tries >= tries }, 20*time.Second, 20*time.Millisecond, "%v", state(id))
		return n
	}
	again := func(id int64) {
		resp, err := v.Client.TryNoticeWithResponse(t.Context(), id)
		require.NoError(t, err)
		require.NotNil(t, resp.JSON202, string(resp.Body))
	}
	v.sink.Set(func(c *sink.Config) { c.Greylist = 1 })
	id := test("bookings")[0].Id
	n := until(id, client.NoticeStateUndelivered, 1)
	assert.Contains(t, *n.Trouble, "greylisted, come again later")
	assert.WithinDuration(t, v.now().Add(time.Minute), *n.NextAt, 10*time.Second)
	assert.Empty(t, v.Findings(t), "once is no trouble yet")
	again(id)
	until(id, client.NoticeStateDelivered, 1)

	v.sink.Set(func(c *sink.Config) { c.Lose = 1 })
	id = test("bookings")[0].Id
	until(id, client.NoticeStateUndelivered, 1)
	again(id)
	until(id, client.NoticeStateDelivered, 1)
	var ids []string
	for _, m := range v.sink.Messages() {
		ids = append(ids, m.ID)
	}
	require.Len(t, ids, 3)
	assert.Equal(t, ids[1], ids[2], "taken twice, it can be told that it is the same")
	assert.NotEqual(t, ids[0], ids[1])

	v.sink.Set(func(c *sink.Config) { c.Refuse = "bookings" })
	id = test("bookings")[0].Id
	n = until(id, client.NoticeStateGivenUp, 1)
	assert.Contains(t, *n.Trouble, "nobody here is called bookings@lantern.example")
	require.Eventually(t, func() bool { return slices.Equal(v.Findings(t), []string{"notice-undelivered  at "}) }, 10*time.Second, 20*time.Millisecond)
	list, err := v.Client.ListFindingsWithResponse(t.Context(), &client.ListFindingsParams{})
	require.NoError(t, err)
	assert.NotContains(t, fmt.Sprint(list.JSON200.Items[0]), "never-shown")
	assert.Contains(t, list.JSON200.Items[0].Cause, "messages to bookings do not arrive at bookings@lantern.example: ")
	today, err := v.Client.GetTodayWithResponse(t.Context(), nil)
	require.NoError(t, err)
	assert.Equal(t, 1, today.JSON200.Findings.Weak)
	v.sink.Set(func(c *sink.Config) { c.Refuse = "" })
	again(id)
	until(id, client.NoticeStateDelivered, 1)
	require.Eventually(t, func() bool { return len(v.Findings(t)) == 0 }, 10*time.Second, 20*time.Millisecond, "it arrives again")

	v.sink.Set(func(c *sink.Config) { c.Password, c.Secret = "another", "another" })
	for _, n := range test("freight") {
		got := until(n.Id, client.NoticeStateUndelivered, 1)
		assert.NotContains(t, got.Receiver+*got.Trouble, "never-shown")
		assert.NotContains(t, *got.Trouble, "cGFzc3dvcmQ")
	}
	v.Apply(t, strings.ReplaceAll(v.text, "mail: [bookings@lantern.example]", "mail: [desk@lantern.example]"), v.root)
	v.sink.Set(func(c *sink.Config) { c.Password = "cGFzc3dvcmQtb2Y2Nw=="; c.Greylist = 9 })
	id = test("bookings")[0].Id
	until(id, client.NoticeStateUndelivered, 1)
	v.Apply(t, v.text, v.root)
	again(id)
	n = until(id, client.NoticeStateGivenUp, 1)
	assert.Contains(t, *n.Trouble, "does not declare desk@lantern.example of bookings any more")
}

// TestAStormIsOneMessage has thousands of findings at once.
func TestAStormIsOneMessage(t *testing.T) {
	v := startTold(t, "")
	v.Survey(t)
	v.tell(t, 0, 0)
	v.Query(t, `with new as (insert into findings (server_id, code, severity, cause, remedy, evidence, opened_at, opened_survey, subject)
			select (select id from servers where name = 'pier'), 'key-open', n % 2, 'it ended ' || n, 'renew it', '[]', now(), (select max(id) from surveys), n from generate_series(1, 3000) n returning id),
		told as (insert into events (at, kind, finding_id) select now(), 'finding-opened', id from new returning 1) select count(*) from told`, new(int64))
	assert.Equal(t, []string{"/hooks/freight: [Ferries] 1500 broken, 1500 due: pier and 2999 more",
		"freight@lantern.example: [Ferries] 1500 broken, 1500 due: pier and 2999 more"}, v.tell(t, time.Hour, 2))
	text := v.mailTo("freight")
	assert.Equal(t, 50, strings.Count(text, "→ renew it"))
	assert.NotContains(t, text, "Hurts at a known date", "the worst come first")
	assert.Contains(t, text, "And 2950 more: insegna finding list --owner freight")
	assert.Empty(t, v.tell(t, time.Hour, 0))
}

// TestACalendarIsForWhoHasItsAddress reads it, and ends it.
func TestACalendarIsForWhoHasItsAddress(t *testing.T) {
	v := startTold(t, "")
	v.cargo = v.lasting("cargo.lantern.example", 0)
	v.Survey(t)
	list, err := v.Client.ListFindingsWithResponse(t.Context(), &client.ListFindingsParams{})
	require.NoError(t, err)
	until := time.Now().Add(48 * time.Hour).UTC().Truncate(time.Second)
	_, err = v.Client.AcceptFindingWithResponse(t.Context(), list.JSON200.Items[0].Id, client.AcceptanceRequest{Until: until, Reason: "so; that\nit is, folded"})
	require.NoError(t, err)
	read := func(path string) (int, *ics.Calendar) {
		r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, v.URL+path, nil)
		require.NoError(t, err)
		resp, err := (&http.Transport{}).RoundTrip(r) // nobody is signed in
		require.NoError(t, err)
		defer func() { _ = resp.Body.Close() }()
		text, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		if resp.StatusCode != http.StatusOK {
			return resp.StatusCode, nil
		}
		for line := range strings.SplitSeq(string(text), "\r\n") {
			assert.LessOrEqual(t, len(line), 75)
		}
		cal, err := ics.ParseCalendar(bytes.NewReader(text))
		require.NoError(t, err)
		return resp.StatusCode, cal
	}
	all, err := v.Client.MakeFeedWithResponse(t.Context(), client.FeedRequest{Name: "the wall"})
	require.NoError(t, err)
	own, err := v.Client.MakeFeedWithResponse(t.Context(), client.FeedRequest{Name: "sales", Owner: ptr("bookings")})
	require.NoError(t, err)
	status, cal := read(*all.JSON201.Path)
	require.Equal(t, http.StatusOK, status)
	found := map[string]string{}
	for _, e := range cal.Events() {
		found[e.GetProperty(ics.ComponentPropertySummary).Value] = e.GetProperty(ics.ComponentPropertyDtStart).Value
	}
	assert.Equal(t, map[string]string{"cargo.lantern.example: expired is accepted until now": until.Format("20060102T150405Z"),
		"cargo.lantern.example: the certificate ends":   ends(&v.cargo).Format("20060102T150405Z"),
		"booking.lantern.example: the certificate ends": ends(&v.booking).Format("20060102T150405Z")}, found)
	status, cal = read(*own.JSON201.Path)
	require.Equal(t, http.StatusOK, status)
	assert.Len(t, cal.Events(), 1, "only what is theirs")
	bad := []byte(*own.JSON201.Path)
	const inSecret = 10 // from the end
	if at := len(bad) - inSecret; bad[at] == 'A' {
		bad[at] = 'B'
	} else {
		bad[at] = 'A'
	}
	status, _ = read(string(bad))
	assert.Equal(t, http.StatusNotFound, status)
	revoked, err := v.Client.RevokeFeedWithResponse(t.Context(), own.JSON201.Id)
	require.NoError(t, err)
	require.Equal(t, http.StatusNoContent, revoked.StatusCode())
	status, _ = read(*own.JSON201.Path)
	assert.Equal(t, http.StatusNotFound, status)
	v.Query(t, "update people set removed_at = now() where name = 'keeper' returning id", new(int64))
	status, _ = read(*all.JSON201.Path)
	assert.Equal(t, http.StatusNotFound, status, "it ends with the access of who made it")
}

func ends(c *tls.Certificate) time.Time {
	leaf, err := certs.Parse(c.Certificate[0])
	if err != nil {
		panic(err)
	}
	return leaf.NotAfter.UTC()
}

// TestAReportOfADayThatHasPassed tells what was so then, whatever is so now.
func TestAReportOfADayThatHasPassed(t *testing.T) {
	v := startTold(t, "")
	former := v.cargo
	v.cargo = v.lasting("<b>.lantern.example", 30)
	v.Survey(t)
	for _, change := range []string{"update findings set opened_at = opened_at - interval '3 days' returning 1", "update surveys set finished_at = finished_at - interval '3 days' returning 1",
		"update sightings set first_seen = first_seen - interval '3 days', last_seen = last_seen - interval '3 days' returning 1"} {
		v.Query(t, change, new(int))
	}
	shown := v.cargo
	v.cargo = former
	v.Survey(t)
	report := func(day time.Time) *client.Report {
		resp, err := v.Client.GetReportWithResponse(t.Context(), &client.GetReportParams{Day: &types.Date{Time: day}})
		require.NoError(t, err)
		require.NotNil(t, resp.JSON200, string(resp.Body))
		return resp.JSON200
	}
	then, now := report(time.Now().AddDate(0, 0, -1)), report(time.Now())
	require.Len(t, then.Findings, 1)
	assert.Equal(t, "name-not-covered cargo.lantern.example at pier", then.Findings[0].Code+" "+then.Findings[0].What[:len("cargo.lantern.example at pier")])
	assert.NotNil(t, then.Findings[0].ClosedAt)
	assert.InDelta(t, 2, then.Findings[0].Days, 1)
	assert.Equal(t, 1, then.Open.Broken)
	assert.Len(t, then.Due, 1)
	assert.Equal(t, ends(&shown), then.Due[0].NotAfter)
	assert.Equal(t, []int{2, 2, 0}, []int{then.AllBindings, then.InUse, then.Ended})
	assert.Empty(t, now.Findings)
	assert.Empty(t, now.Due)
	require.Len(t, now.Each, 90)
	assert.Equal(t, []int{0, 1, 1, 0}, []int{now.Each[85].Broken, now.Each[87].Broken, now.Each[88].Broken, now.Each[89].Broken})
	before := report(time.Now().AddDate(0, 0, -30))
	assert.Zero(t, before.AllBindings)
	html := client.GetReportParamsFormat("html")
	old, err := v.Client.GetReportWithResponse(t.Context(), &client.GetReportParams{Day: &types.Date{Time: time.Now().AddDate(0, 0, -30)}, Format: &html})
	require.NoError(t, err)
	assert.Contains(t, string(old.Body), "Nothing had been looked at by then", "nothing known is not shown as fine")
	for format, want := range map[client.GetReportParamsFormat]string{"html": "&lt;b&gt;.lantern.example", "csv": "cargo.lantern.example,pier,"} {
		resp, err := v.Client.GetReport(t.Context(), &client.GetReportParams{Day: &types.Date{Time: time.Now().AddDate(0, 0, -1)}, Format: &format})
		require.NoError(t, err)
		text, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		require.NoError(t, resp.Body.Close())
		assert.Contains(t, string(text), want)
		if format == "html" {
			assert.NotContains(t, string(text), "<b>.lantern")
		}
	}
	bad, err := v.Client.GetReportWithResponse(t.Context(), &client.GetReportParams{Day: &types.Date{Time: time.Now().AddDate(0, 0, 2)}})
	require.NoError(t, err)
	assert.Contains(t, string(bad.Body), "is yet to come")
}

// TestAReplacementThatDoesNotCome is due at hosts nobody here renews: by how those before were
// replaced, until another comes.
func TestAReplacementThatDoesNotCome(t *testing.T) {
	v := startTold(t, "")
	for _, days := range []int{290, 295, 300} { // each shown for a while
		v.booking = v.lasting("booking.lantern.example", days)
		v.Survey(t)
	}
	assert.Empty(t, v.Findings(t))
	// Long ago the two before were replaced when two thirds of their lives were left; the last
	// has little more than a half left.
	late := pkitest.Leaf(v.root, "booking.lantern.example", pkitest.Valid(-130*24*time.Hour, 160*24*time.Hour)).TLS()
	for back, change := range map[int]string{200: "asc", 100: "desc"} {
		v.Query(t, `with s as (select g.id, c.not_before, c.not_after from sightings g join certificates c on c.sha256 = g.leaf join targets t on t.id = g.target_id
				join hosts h on h.id = t.host_id where h.name = 'booking.lantern.example' and not g.current order by g.id `+change+` limit 1)
			update sightings g set first_seen = first_seen - make_interval(days => $1) from s where g.id = s.id returning 1`, new(int), back)
	}
	v.Query(t, "update sightings g set first_seen = now() - interval '90 days' where g.current and leaf = (select leaf from targets t join hosts h on h.id = t.host_id where h.name = 'booking.lantern.example') returning 1", new(int))
	v.booking = late
	v.Survey(t)
	assert.Equal(t, []string{"replacement-late booking.lantern.example at quay"}, v.Findings(t))
	list, err := v.Client.ListFindingsWithResponse(t.Context(), &client.ListFindingsParams{})
	require.NoError(t, err)
	assert.Contains(t, list.JSON200.Items[0].Cause, "the certificate of booking.lantern.example is usually replaced ")
	assert.Contains(t, fmt.Sprint(list.JSON200.Items[0].Evidence), "{key another each time}")
	shown, err := v.Client.GetCertificateWithResponse(t.Context(), *list.JSON200.Items[0].Certificate)
	require.NoError(t, err)
	require.NotNil(t, shown.JSON200.Rhythm)
	assert.Equal(t, "3 root", fmt.Sprint(shown.JSON200.Rhythm.Times, " ", shown.JSON200.Rhythm.Issuer))
	v.booking = v.lasting("booking.lantern.example", 300)
	v.Survey(t)
	assert.Empty(t, v.Findings(t), "it has come")
}

// TestOneCauseOnSeveralServers has the same ended certificate on three servers, a few hosts
// each, of two owners: each owner has one finding, which mends on the server that is asked for.
func TestOneCauseOnSeveralServers(t *testing.T) {
	r := servicetest.Start(t)
	root := pkitest.CA("root", nil)
	ended := pkitest.Leaf(root, "*.lantern.example", pkitest.Valid(-90*24*time.Hour, -time.Hour)).TLS()
	text := "estate: Ferries\naudiences:\n  - {name: browsers, roots: [root.pem]}\nowners:\n  - {name: bookings, mail: [a@lantern.example]}\n  - {name: cargo, mail: [b@lantern.example]}\nservers:\n"
	hosts := ""
	for n, name := range []string{"quay", "pier", "tug"} {
		port := servicetest.Serve(t, "127.0.0.1:0", func() *tls.Certificate { return &ended }).Port()
		text += fmt.Sprintf("  - {name: %s, addresses: [127.0.0.1], ports: [%d], without_sni: false}\n", name, port)
		for i := range 4 {
			hosts += fmt.Sprintf("  - {name: h%d%d.lantern.example, at: [%s], owner: %s}\n", n, i, name, []string{"bookings", "cargo"}[i%2])
		}
	}
	r.Apply(t, text+"hosts:\n"+hosts, root)
	for range 2 { // kept, and not opened again
		r.Survey(t)
		var heads, under int
		r.Query(t, "select count(*) from findings where code = 'expired' and under is null", &heads)
		r.Query(t, "select count(*) from findings where under is not null", &under)
		assert.Equal(t, []int{2, 12}, []int{heads, under})
	}
	list := func(p client.ListFindingsParams) []client.Finding {
		resp, err := r.Client.ListFindingsWithResponse(t.Context(), &p)
		require.NoError(t, err)
		return resp.JSON200.Items
	}
	all := list(client.ListFindingsParams{})
	require.Len(t, all, 2)
	for _, f := range all {
		assert.Contains(t, f.Cause, "the same at 6 bindings of quay, pier, tug")
		assert.Equal(t, []any{6, "", ""}, []any{*f.StandsFor, f.Host, f.Server})
	}
	assert.Len(t, list(client.ListFindingsParams{Server: ptr("pier")}), 2, "it is found where it is")
	planned := func(q client.MendRequest) int {
		plan, err := r.Client.PreviewMendingWithResponse(t.Context(), q)
		require.NoError(t, err)
		require.NotNil(t, plan.JSON201, string(plan.Body))
		return len(plan.JSON201.Left)
	}
	assert.Equal(t, 6, planned(client.MendRequest{Findings: &[]int64{all[0].Id}}))
	assert.Equal(t, 4, planned(client.MendRequest{Server: ptr("pier")}), "no other server's")
	for _, owner := range []string{"bookings", "cargo"} {
		assert.Len(t, list(client.ListFindingsParams{Owner: &[]string{owner}}), 1, owner)
	}
}

// TestOneCauseIsToldOnce has a certificate that ended at many hosts and one at a single host:
// the many are one finding that comes first, and mend with it; with fewer each is told.
func TestOneCauseIsToldOnce(t *testing.T) {
	r := servicetest.Start(t)
	root := pkitest.CA("root", nil)
	ended := pkitest.Leaf(root, "*.lantern.example", pkitest.Valid(-90*24*time.Hour, -time.Hour)).TLS()
	alone := pkitest.Leaf(root, "alone.lantern.example", pkitest.Valid(-90*24*time.Hour, -48*time.Hour)).TLS()
	at := servicetest.Serve(t, "127.0.0.1:0", func() *tls.Certificate { return &ended }).Port()
	other := servicetest.Serve(t, "127.0.0.1:0", func() *tls.Certificate { return &alone }).Port()
	apply := func(hosts int) {
		text := fmt.Sprintf("estate: Ferries\naudiences:\n  - {name: browsers, roots: [root.pem]}\nservers:\n  - {name: quay, addresses: [127.0.0.1], ports: [%d], without_sni: false}\n"+
			"  - {name: pier, addresses: [127.0.0.1], ports: [%d], without_sni: false}\nhosts:\n  - {name: alone.lantern.example, at: [pier]}\n", at, other)
		for n := range hosts {
			text += fmt.Sprintf("  - {name: h%02d.lantern.example, at: [quay], tags: [t%d]}\n", n, n%2)
		}
		r.Apply(t, text, root)
		r.Survey(t)
	}
	list := func(params client.ListFindingsParams) []client.Finding {
		resp, err := r.Client.ListFindingsWithResponse(t.Context(), &params)
		require.NoError(t, err)
		return resp.JSON200.Items
	}
	apply(3)
	assert.Len(t, list(client.ListFindingsParams{}), 4)
	apply(12)
	all := list(client.ListFindingsParams{})
	require.Len(t, all, 2)
	assert.Equal(t, 12, *all[0].StandsFor, "the most names come first, though the other ended before")
	assert.Contains(t, all[0].Cause, "the certificate ended ")
	assert.Contains(t, all[0].Cause, "the same at 12 bindings of quay")
	assert.Equal(t, "alone.lantern.example", all[1].Host)
	assert.Len(t, list(client.ListFindingsParams{Tag: &[]string{"t1"}}), 1, "it is told to who asks for some of its hosts")
	q := "h07"
	assert.Len(t, list(client.ListFindingsParams{Q: &q}), 1)
	one := 1
	var seen []int64
	for cursor := (*string)(nil); ; {
		resp, err := r.Client.ListFindingsWithResponse(t.Context(), &client.ListFindingsParams{Limit: &one, Cursor: cursor})
		require.NoError(t, err)
		seen = append(seen, resp.JSON200.Items[0].Id)
		if cursor = resp.JSON200.NextCursor; cursor == nil {
			break
		}
	}
	assert.Equal(t, []int64{all[0].Id, all[1].Id}, seen, "page by page, each once")
	cert, err := r.Client.GetCertificateWithResponse(t.Context(), *all[0].Certificate)
	require.NoError(t, err)
	assert.Len(t, cert.JSON200.Findings, 12, "each where it is shown")
	counts, err := r.Client.GetTodayWithResponse(t.Context(), nil)
	require.NoError(t, err)
	assert.Equal(t, 2, counts.JSON200.Findings.Broken)
	assert.Equal(t, 13, counts.JSON200.Bindings.Broken, "and every binding is what it is")
	plan, err := r.Client.PreviewMendingWithResponse(t.Context(), client.MendRequest{Findings: &[]int64{all[0].Id}})
	require.NoError(t, err)
	require.NotNil(t, plan.JSON201, string(plan.Body))
	assert.Equal(t, 12, len(plan.JSON201.Left), "what it stands for is mended, or told why not")
	apply(3)
	assert.Len(t, list(client.ListFindingsParams{}), 4)
}

// TestAnEventThatEndsLateIsTold has two transactions that tell something end the other way
// round than they began, with a message between.
func TestAnEventThatEndsLateIsTold(t *testing.T) {
	v := startTold(t, "  gather: 1m\n  rules:\n    - {events: [stale, asked], to: [bookings]}\n    - {events: [found], severities: [weak], to: [freight], groups: [sales]}\n")
	v.Survey(t)
	v.tell(t, 0, 0)
	conn, err := pgx.Connect(t.Context(), v.Database)
	require.NoError(t, err)
	defer func() { _ = conn.Close(context.Background()) }()
	late, err := conn.Begin(t.Context())
	require.NoError(t, err)
	_, err = late.Exec(t.Context(), "insert into events (at, kind, note) values (now(), 'stale', 'the slow one')")
	require.NoError(t, err)
	v.Query(t, "with e as (insert into events (at, kind, note) values (now(), 'asked', 'the quick one') returning 1) select count(*) from e", new(int))
	v.tell(t, 2*time.Minute, 0)
	require.NoError(t, late.Commit(t.Context()))
	require.Eventually(t, func() bool {
		v.tell(t, 2*time.Minute, 0)
		return strings.Contains(strings.Join(v.texts("bookings"), "\n"), "the slow one")
	}, 20*time.Second, 50*time.Millisecond)
	all := strings.Join(v.texts("bookings"), "\n")
	assert.Equal(t, 1, strings.Count(all, "the slow one"))
	assert.Equal(t, 1, strings.Count(all, "the quick one"))
	assert.Contains(t, all, "Not looked at of late\n  the estate: the slow one")
	assert.Empty(t, v.texts("freight"), "rules say who is told of what, and nothing else is")
}

// texts are the letters to somebody.
func (v *told) texts(name string) (out []string) {
	for _, m := range v.sink.Messages() {
		if strings.HasPrefix(m.To, name+"@") {
			out = append(out, m.Text)
		}
	}
	return out
}

// TestAMessageOutlivesTheService has the service end while a mail server lets it wait: the next
// start delivers what was not, once.
func TestAMessageOutlivesTheService(t *testing.T) {
	t.Parallel()
	v := startTold(t, "")
	v.cargo = v.lasting("cargo.lantern.example", 0)
	v.sink.Set(func(c *sink.Config) { c.Greylist = 1000; c.Secret = "another" })
	v.Survey(t)
	require.NoError(t, v.Service.Tell(t.Context()))
	var tried int
	require.Eventually(t, func() bool {
		v.Query(t, "select count(*) from notices where tries > 0", &tried)
		return tried == 2
	}, 20*time.Second, 50*time.Millisecond)
	v.Stop()
	v.Service.Close()
	v.sink.Set(func(c *sink.Config) { c.Greylist = 0; c.Secret = "c2VjcmV0LW9mLXRoZS1ob29rcw==" })
	servicetest.Query(t, v.Database, "with due as (update river_job set scheduled_at = now() where kind = 'notice_deliver' returning 1) select count(*) from due", new(int))
	again, err := service.Open(context.Background(), service.Config{Data: v.data, Database: v.Database, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	t.Cleanup(again.Close)
	require.Eventually(t, func() bool { return len(v.sink.Messages()) == 2 }, 30*time.Second, 50*time.Millisecond)
	require.NoError(t, again.Tell(t.Context()))
	time.Sleep(time.Second)
	assert.Len(t, v.sink.Messages(), 2, "once")
}
