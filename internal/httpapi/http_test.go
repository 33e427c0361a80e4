package httpapi_test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/httpapi"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/servicetest"
)

func TestMain(m *testing.M) { servicetest.Main(m) }

const text = "estate: Ferries\naudiences:\n  - {name: browsers, roots: [root.pem]}\nservers:\n  - {name: quay, " +
	"addresses: [127.0.0.1], ports: [1-9]}\nhosts:\n  - {name: a.lantern.example, at: [quay]}\n  - {name: b.lantern.example, at: [quay]}\n"

func TestBadRequestsGetAProblemDocumentAndChangeNothing(t *testing.T) {
	r := servicetest.Start(t)
	r.Apply(t, text, pkitest.CA("root", nil))
	huge := `{"file":"e.yaml","text":"` + strings.Repeat("x", 65<<20) + `"}`
	for _, c := range []struct {
		method, path, body string
		status             int
		says               string
	}{
		{"GET", "/api/v1/nothing", "", 404, "no such call: /api/v1/nothing"},
		{"DELETE", "/api/v1/estate", "", 405, "does not take DELETE"},
		{"GET", "/api/v1/certificates?limit=0", "", 400, `"place":"query parameter limit"`},
		{"GET", "/api/v1/certificates?sort=colour", "", 400, `"expected":"one of`},
		{"GET", "/api/v1/certificates?cursor=rubbish", "", 400, "the cursor is not one of this list"},
		{"GET", "/api/v1/bindings?certificate=xyz", "", 400, "query parameter certificate"},
		{"GET", "/api/v1/certificates/00000000", "", 404, "Not found"},
		{"GET", "/api/v1/certificates/zz", "", 400, "path parameter sha256"},
		{"GET", "/api/v1/surveys/77", "", 404, "Not found"},
		{"GET", "/api/v1/surveys/x/events", "", 400, "a whole number from 1"},
		{"GET", "/api/v1/surveys/99999999999999999999", "", 400, "Bad request"},
		{"POST", "/api/v1/surveys", `{"host":"nobody.lantern.example"}`, 422,
			"the estate has no host nobody.lantern.example"},
		{"POST", "/api/v1/surveys", `{"hosts":"x"}`, 400, "Bad request"},
		{"POST", "/api/v1/surveys", `{"HOST":"x","host":5}`, 400, "Bad request"},
		{"POST", "/api/v1/surveys", `{`, 400, "Bad request"},
		{"POST", "/api/v1/estate/apply", `{"file":"e.yaml","text":"estate: [\n"}`, 422, `"place":"e.yaml:`},
		{"POST", "/api/v1/estate/apply", `{"file":"e.yaml"}`, 400, "Bad request"},
		{"POST", "/api/v1/estate/apply", huge, 413, "64 MB at most"},
		{"POST", "/api/v1/estate/apply", `{"file":"e.yaml","text":"estate: \u0000"}`, 422, "holds NUL"},
		{"POST", "/api/v1/surveys", `{"host":"` + strings.Repeat("x", 70<<10) + `"}`, 413, "64 KB at most"},
		{"POST", "/api/v1/session", huge, 413, "64 KB at most"},
		{"POST", "/api/v1/set-up", huge, 413, "64 KB at most"},
		{"GET", "/api/v1/findings?q=%00", "", 422, "query parameter \\\"q\\\" is no text"},
		{"GET", "/api/v1/bindings?q=%ff%fe", "", 422, "is no text"},
		{"GET", "/api/v1/journal?q=a%00b", "", 422, "is no text"},
		{"GET", "/api/v1/servers/a%00b", "", 422, "no text"},
		{"GET", "/api/v1/mandates/%c3%28", "", 422, "no text"},
		{"GET", "/api/v1/findings?q=%zz", "", 400, "the query cannot be read"},
		{"POST", "/api/v1/surveys", "{\"host\":\"\xff\"}", 422, "the body is no text"},
		{"POST", "/api/v1/surveys", `{"host":"a\u0000"}`, 422, "the body is no text"},
		{"POST", "/api/v1/session", `{"name":"a\u0000b","passphrase":"x"}`, 422, "the body is no text"},
		{"GET", "/metrics", "", 404, "no such page or call: /metrics"},
		{"GET", "/healthz", "", 404, "no such page or call: /healthz"},
		{"GET", "/api", "", 404, "no such"},
		{"GET", "/api/v2/today", "", 404, "no such call"},
		{"GET", "/.env", "", 404, "no such page or call"},
	} {
		t.Run(c.method+" "+c.path, func(t *testing.T) {
			status, kind, body := call(t, c.method, r.URL+c.path, c.body, nil)
			assert.Equal(t, c.status, status, body)
			assert.Equal(t, "application/problem+json", kind)
			assert.Contains(t, body, c.says)
			var p client.Problem
			require.NoError(t, json.Unmarshal([]byte(body), &p))
			assert.Equal(t, c.status, p.Status)
		})
	}
	e, err := r.Client.GetEstateWithResponse(t.Context())
	require.NoError(t, err)
	require.NotNil(t, e.JSON200, string(e.Body))
	assert.Equal(t, text, e.JSON200.Text, "nothing of it was applied")
	var surveys int
	r.Query(t, "select count(*) from surveys", &surveys)
	assert.Zero(t, surveys)
}

func call(t *testing.T, method, url, body string, header map[string]string) (status int, kind, text string) {
	req, err := http.NewRequestWithContext(t.Context(), method, url, strings.NewReader(body))
	require.NoError(t, err)
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	for k, v := range header {
		if req.Header.Set(k, v); k == "Host" {
			req.Host = v
		}
	}
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer func() { _ = resp.Body.Close() }()
	data, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp.StatusCode, resp.Header.Get("Content-Type"), string(data)
}

// TestOtherPagesCannotReachTheService holds off a page elsewhere that points
// its own name at loopback, or sends a form here.
func TestOtherPagesCannotReachTheService(t *testing.T) {
	r := servicetest.Start(t)
	status, _, body := call(t, "GET", r.URL+"/api/v1/today", "", map[string]string{"Host": "evil.test"})
	assert.Equal(t, http.StatusMisdirectedRequest, status, body)
	status, kind, body := call(t, "POST", r.URL+"/api/v1/surveys", "{}",
		map[string]string{"Origin": "http://evil.test", "Sec-Fetch-Site": "cross-site"})
	assert.Equal(t, http.StatusForbidden, status)
	assert.Equal(t, "application/problem+json", kind)
	assert.Contains(t, body, "a page of another site asked for this")
	status, _, _ = call(t, "GET", r.URL+"/api/v1/today", "", nil)
	assert.Equal(t, http.StatusOK, status)
}

func TestNothingAppliedIsSaidSo(t *testing.T) {
	r := servicetest.Start(t)
	status, _, body := call(t, "POST", r.URL+"/api/v1/surveys", "{}", nil)
	assert.Equal(t, 409, status)
	assert.Contains(t, body, "no estate has been applied yet")
	status, kind, body := call(t, "GET", r.URL+"/api/v1/metrics", "", nil)
	assert.Equal(t, 200, status)
	assert.Equal(t, "application/openmetrics-text; version=1.0.0; charset=utf-8", kind)
	assert.Contains(t, body, "insegna_bindings{verdict=\"agreed\"} 0.0\n", "before there is an estate")
	today, err := r.Client.GetTodayWithResponse(t.Context(), nil)
	require.NoError(t, err)
	assert.Empty(t, today.JSON200.Estate)
	status, _, body = call(t, "GET", r.URL+"/api/v1/estate/schema", "", nil)
	assert.Equal(t, 200, status)
	assert.True(t, json.Valid([]byte(body)))
}

// TestCursorsWalkAListOnce reads certificates and bindings
// page by page in each order.
func TestCursorsWalkAListOnce(t *testing.T) {
	r := servicetest.Start(t)
	r.Apply(t, text, pkitest.CA("root", nil))
	fill(t, r.Database, 57)
	for _, sort := range []client.ListCertificatesParamsSort{"ends", "-ends", "name", "-name", "issuer", "-issuer",
		"seen", "-seen"} {
		met := map[string]bool{}
		limit := 10
		var cursor *string
		for pages := 0; ; pages++ {
			resp, err := r.Client.ListCertificatesWithResponse(t.Context(),
				&client.ListCertificatesParams{Sort: &sort, Limit: &limit, Cursor: cursor})
			require.NoError(t, err)
			require.NotNil(t, resp.JSON200, string(resp.Body))
			for _, c := range resp.JSON200.Items {
				require.False(t, met[c.Sha256], "%s: a certificate came twice", sort)
				met[c.Sha256] = true
			}
			if cursor = resp.JSON200.NextCursor; cursor == nil {
				break
			}
		}
		assert.Len(t, met, 57, sort)
	}
	within := 9
	resp, err := r.Client.ListCertificatesWithResponse(t.Context(), &client.ListCertificatesParams{DaysLeftMax: &within})
	require.NoError(t, err)
	require.NotEmpty(t, resp.JSON200.Items)
	for _, c := range resp.JSON200.Items {
		assert.LessOrEqual(t, c.DaysLeft, within)
	}
	five := 5
	first, err := r.Client.ListBindingsWithResponse(t.Context(), &client.ListBindingsParams{Limit: &five})
	require.NoError(t, err)
	second, err := r.Client.ListBindingsWithResponse(t.Context(),
		&client.ListBindingsParams{Limit: &five, Cursor: first.JSON200.NextCursor})
	require.NoError(t, err)
	assert.Equal(t, 18, first.JSON200.Total)
	assert.NotEqual(t, first.JSON200.Items[0].Id, second.JSON200.Items[0].Id)
	q := "50%_off"
	none, err := r.Client.ListBindingsWithResponse(t.Context(), &client.ListBindingsParams{Q: &q})
	require.NoError(t, err)
	assert.Empty(t, none.JSON200.Items, "a search is literal")
}

// TestServersAndSitesWalkOnce pages through both, and answers bad questions.
func TestServersAndSitesWalkOnce(t *testing.T) {
	r := servicetest.Start(t)
	dir := t.TempDir()
	sites := ""
	for i := range 25 {
		sites += fmt.Sprintf("server { listen 127.0.0.1:%d ssl; server_name n%d.example; }\n", 9000+i%2, i)
	}
	require.NoError(t, os.WriteFile(dir+"/nginx.conf", []byte("http {\n"+sites+"}\n"), 0o600))
	servers := ""
	for i := range 12 {
		servers += fmt.Sprintf("  - {name: s%02d, kind: nginx, addresses: [127.0.0.%d], ports: [9000], reach: {by: local, "+
			"configuration: %s/nginx.conf, test: 'true'}}\n", i, i+1, dir)
	}
	r.Apply(t, "estate: Ferries\naudiences:\n  - {name: browsers, roots: [root.pem]}\nservers:\n"+servers+
		"hosts:\n  - {name: n1.example, at: [s00]}\n", pkitest.CA("root", nil))
	r.Survey(t)
	for _, sort := range []client.ListServersParamsSort{"name", "-name"} {
		var met []string
		for params := (&client.ListServersParams{Sort: &sort, Limit: ptr(5)}); ; {
			resp, err := r.Client.ListServersWithResponse(t.Context(), params)
			require.NoError(t, err)
			for _, s := range resp.JSON200.Items {
				met = append(met, s.Name)
			}
			if params.Cursor = resp.JSON200.NextCursor; params.Cursor == nil {
				break
			}
		}
		require.Len(t, met, 12)
		if sort == "-name" {
			slices.Reverse(met)
		}
		assert.True(t, slices.IsSorted(met))
	}
	met := map[string]bool{}
	for params := (&client.ListSitesParams{Limit: ptr(7)}); ; {
		resp, err := r.Client.ListSitesWithResponse(t.Context(), "s03", params)
		require.NoError(t, err)
		for _, s := range resp.JSON200.Items {
			require.False(t, met[s.Spot], "a site came twice")
			met[s.Spot] = true
		}
		if params.Cursor = resp.JSON200.NextCursor; params.Cursor == nil {
			break
		}
	}
	assert.Len(t, met, 25)
	found, err := r.Client.ListSitesWithResponse(t.Context(), "s03", &client.ListSitesParams{Q: ptr("N24.")})
	require.NoError(t, err)
	assert.Len(t, found.JSON200.Items, 1)
	for path, want := range map[string]int{
		"/servers/nobody": 404, "/servers/nobody/sites": 404, "/servers/s03/file": 400,
		"/servers/s03/file?path=/etc/passwd": 404, "/servers/s03/file?path=../nginx.conf": 404,
		"/servers/s03/answers?at=x": 400, "/servers/s03/answers?host=a%20b": 400, "/servers/s03/sites?cursor=x": 400,
		"/servers?sort=kind": 400, "/servers?read=maybe": 400, "/servers?limit=0": 400,
	} {
		resp, err := http.Get(r.URL + "/api/v1" + path)
		require.NoError(t, err)
		_ = resp.Body.Close()
		assert.Equal(t, want, resp.StatusCode, path)
		assert.Equal(t, "application/problem+json", resp.Header.Get("Content-Type"))
	}
}

func ptr[T any](v T) *T { return &v }

func fill(t *testing.T, dsn string, n int) {
	conn, err := pgx.Connect(t.Context(), dsn)
	require.NoError(t, err)
	defer func() { _ = conn.Close(t.Context()) }()
	_, err = conn.Exec(t.Context(), `insert into certificates (sha256, der, common_name, issuer, names, not_before, not_after, key, serial, is_ca, first_seen)
		select sha256(i::text::bytea), '', 'h' || i % 7, 'ca' || i % 3, '[]', now(), now() + i % 13 * interval '1 day', 'ECDSA P-256', '1', false, now() - i % 5 * interval '1 day'
		from generate_series(1, $1::int) i`, n)
	require.NoError(t, err)
}

// TestTheConsoleIsServedStrictly looks at the headers around the page.
func TestTheConsoleIsServedStrictly(t *testing.T) {
	r := servicetest.Start(t)
	nonces := map[string]bool{}
	for range 2 {
		resp, err := http.Get(r.URL + "/bindings?q=x")
		require.NoError(t, err)
		body, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		_ = resp.Body.Close()
		policy := resp.Header.Get("Content-Security-Policy")
		assert.Contains(t, policy, "default-src 'none'")
		assert.NotContains(t, policy, "unsafe")
		assert.Equal(t, "no-store", resp.Header.Get("Cache-Control"))
		_, after, _ := strings.Cut(policy, "'nonce-")
		nonce, _, _ := strings.Cut(after, "'")
		assert.Contains(t, string(body), nonce)
		nonces[nonce] = true
	}
	assert.Len(t, nonces, 2, "a new one for every answer")
	status, kind, _ := call(t, "GET", r.URL+"/assets/none.js", "", nil)
	assert.Equal(t, 404, status)
	assert.Equal(t, "application/problem+json", kind)
}

// TestAnEventStreamEndsWithItsSurvey also holds that progress never falls.
func TestAnEventStreamEndsWithItsSurvey(t *testing.T) {
	r := servicetest.Start(t)
	r.Apply(t, text, pkitest.CA("root", nil))
	started, err := r.Client.StartSurveyWithResponse(t.Context(), client.SurveyRequest{})
	require.NoError(t, err)
	before := -1
	err = client.FollowSurvey(t.Context(), http.DefaultClient, r.URL+"/api/v1", started.JSON201.Id,
		func(v client.Survey) error {
			if v.Done < before {
				return fmt.Errorf("progress fell from %d to %d", before, v.Done)
			}
			before = v.Done
			return nil
		})
	require.NoError(t, err)
	assert.Equal(t, 27, before)
	require.Len(t, r.Findings(t), 1, "nothing listens at 9 ports for 2 hosts")
	findings, err := r.Client.ListFindingsWithResponse(t.Context(), nil)
	require.NoError(t, err)
	assert.Equal(t, 18, *findings.JSON200.Items[0].StandsFor)
	again, err := r.Client.GetSurveyWithResponse(t.Context(), started.JSON201.Id)
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now(), *again.JSON200.FinishedAt, time.Minute)
}

// TestWhatHappensIsToldToAll has several listeners follow a survey that opens
// and closes findings: each hears of every one, and of the end, once.
func TestWhatHappensIsToldToAll(t *testing.T) {
	r := servicetest.Start(t)
	r.Apply(t, text, pkitest.CA("root", nil))
	const listeners = 3
	heard := make(chan map[string]int, listeners)
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	for range listeners {
		req, err := http.NewRequestWithContext(ctx, "GET", r.URL+"/api/v1/events", nil)
		require.NoError(t, err)
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		require.Equal(t, 200, resp.StatusCode)
		go func() {
			defer func() { _ = resp.Body.Close() }()
			counts, lines := map[string]int{}, bufio.NewScanner(resp.Body)
			for lines.Scan() && counts["survey-ended"] == 0 {
				var e client.Event
				if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok && json.Unmarshal([]byte(data), &e) == nil {
					counts[string(e.Kind)]++
				}
			}
			heard <- counts
		}()
	}
	r.Survey(t)
	for range listeners {
		assert.Equal(t, map[string]int{"finding-opened": 19, "survey-ended": 1}, <-heard)
	}
}

// timedConn keeps the last deadline for writing.
type timedConn struct {
	net.Conn
	until *atomic.Pointer[time.Time]
}

func (c timedConn) SetWriteDeadline(t time.Time) error {
	c.until.Store(&t)
	return c.Conn.SetWriteDeadline(t)
}

// timedListener accepts connections that keep it.
type timedListener struct {
	net.Listener
	until atomic.Pointer[time.Time]
}

func (l *timedListener) Accept() (net.Conn, error) {
	conn, err := l.Listener.Accept()
	return timedConn{conn, &l.until}, err
}

// TestAStreamLeavesItsConnectionAsItWas reads a stream to its end: the limit of
// its writes does not end what is asked later on the same connection.
func TestAStreamLeavesItsConnectionAsItWas(t *testing.T) {
	r := servicetest.Start(t)
	r.Apply(t, text, pkitest.CA("root", nil))
	id := r.Survey(t).Id
	plain, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	l := &timedListener{Listener: plain}
	h, err := httpapi.Handler(r.Service, nil, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	ctx, stop := context.WithCancel(t.Context())
	served := make(chan error, 1)
	go func() { served <- httpapi.Serve(ctx, l, h) }()
	at := "http://" + plain.Addr().String()
	require.NoError(t, servicetest.Admit(t.Context(), at, ""))
	resp, err := http.Get(fmt.Sprintf("%s/api/v1/surveys/%d/events", at, id))
	require.NoError(t, err)
	body, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	_ = resp.Body.Close()
	assert.Contains(t, string(body), "finished")
	require.NotNil(t, l.until.Load(), "writes of a stream are limited")
	assert.Zero(t, *l.until.Load())
	stop()
	assert.NoError(t, <-served)
}
