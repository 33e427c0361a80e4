package notice_test

import (
	"context"
	"crypto/x509"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/check"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/notice"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/standin/endpoint"
	"insegna.example/internal/standin/sink"
)

// TestNoMailServerKeepsALetterForEver hands letters to servers that misbehave: each ends within
// its time, and says what happened in a few words. What would show the passphrase is not done.
func TestNoMailServerKeepsALetterForEver(t *testing.T) {
	root, foreign := pkitest.CA("root", nil), pkitest.CA("another", nil)
	roots := x509.NewCertPool()
	roots.AddCert(root.X509())
	pair := pkitest.Leaf(root, "localhost").TLS()
	strange := pkitest.Leaf(foreign, "localhost").TLS()
	speaks := func(text string, then func(net.Conn)) func(*testing.T) string {
		return func(t *testing.T) string {
			e, err := endpoint.Start("127.0.0.1:0", func(_ context.Context, c net.Conn) {
				_, _ = fmt.Fprint(c, text)
				then(c)
			})
			require.NoError(t, err)
			t.Cleanup(e.Close)
			return e.Address()
		}
	}
	server := func(c sink.Config) func(*testing.T) string {
		return func(t *testing.T) string {
			c.Mail, c.Page = "127.0.0.1:0", "127.0.0.1:0"
			s, err := sink.Start(c)
			require.NoError(t, err)
			t.Cleanup(s.Stop)
			return s.Mail()
		}
	}
	waits := func(c net.Conn) { _, _ = c.Read(make([]byte, 1)); time.Sleep(5 * time.Second) }
	for name, c := range map[string]struct {
		at       func(*testing.T) string
		security string
		says     string // "" for delivered
		refused  bool
	}{
		"silent":           {speaks("", waits), "none", "did not take it within 1s", false},
		"drips":            {speaks("220-", func(c net.Conn) { drip(c, "220-more\r\n") }), "none", "did not take it within 1s", false},
		"one line only":    {speaks("220 ", func(c net.Conn) { drip(c, strings.Repeat("x", 4096)) }), "none", "", false},
		"speaks http":      {speaks("HTTP/1.1 400 Bad Request\r\n\r\n", waits), "none", "", false},
		"no starttls":      {server(sink.Config{}), "starttls", "STARTTLS", false},
		"foreign, later":   {server(sink.Config{Certificate: &strange}), "starttls", "certificate signed by unknown authority", false},
		"foreign, at once": {server(sink.Config{Certificate: &strange, TLS: true}), "tls", "certificate signed by unknown authority", false},
		"wrong word":       {server(sink.Config{Certificate: &pair, User: "insegna", Password: "right"}), "starttls", "535", false},
		"refuses":          {server(sink.Config{Certificate: &pair, User: "insegna", Password: "wrong", Refuse: "desk"}), "starttls", "nobody here is called desk@", true},
		"taken, later":     {server(sink.Config{Certificate: &pair, User: "insegna", Password: "wrong"}), "starttls", "delivered", false},
		"taken, at once":   {server(sink.Config{Certificate: &pair, TLS: true, User: "insegna", Password: "wrong"}), "tls", "delivered", false},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			_, port, err := net.SplitHostPort(c.at(t))
			require.NoError(t, err)
			m := &notice.Mail{Server: "localhost:" + port, Security: c.security, From: "insegna@lantern.example", Roots: roots, Within: time.Second}
			if c.security != "none" {
				m.User, m.Password = "insegna", "wrong"
			}
			if c.says == "delivered" || c.refused { // handshakes and passphrases may take their time
				m.Within = 20 * time.Second
			}
			began := time.Now()
			err = m.Send(t.Context(), &notice.Letter{ID: "1", To: "desk@lantern.example", Subject: "a\r\nBcc: all@lantern.example", Text: "text", At: began})
			assert.Less(t, time.Since(began), m.Within+3*time.Second)
			if c.says == "delivered" {
				require.NoError(t, err)
				return
			}
			var bad *notice.Undelivered
			require.ErrorAs(t, err, &bad)
			assert.Contains(t, bad.Words, c.says)
			assert.Less(t, len(bad.Words), 1300)
			assert.Equal(t, c.refused, bad.Refused, bad.Words)
			assert.NotContains(t, bad.Words, "passphrase")
		})
	}
}

// drip says something again and again until nobody listens.
func drip(c net.Conn, text string) {
	for range 1000 {
		if _, err := fmt.Fprint(c, text); err != nil {
			return
		}
		time.Sleep(time.Millisecond)
	}
}

// TestAHookIsToldByNameAlone posts to programs that misbehave.
func TestAHookIsToldByNameAlone(t *testing.T) {
	elsewhere := 0
	mux := http.NewServeMux()
	mux.HandleFunc("/elsewhere", func(http.ResponseWriter, *http.Request) { elsewhere++ })
	mux.HandleFunc("/moved", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "/elsewhere", http.StatusTemporaryRedirect)
	})
	mux.HandleFunc("/waits", func(_ http.ResponseWriter, r *http.Request) {
		_, _ = io.ReadAll(r.Body)
		<-r.Context().Done()
	})
	mux.HandleFunc("/talks", func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusInternalServerError)
		for range 100_000 {
			if _, err := w.Write([]byte(strings.Repeat("no\x1b[31m", 100))); err != nil {
				return
			}
		}
	})
	mux.HandleFunc("/taken", func(w http.ResponseWriter, r *http.Request) {
		body := make([]byte, r.ContentLength)
		_, _ = r.Body.Read(body)
		// what the guide says a program does
		if r.Header.Get("Insegna-Signature") != notice.Sign([]byte("secret"), r.Header.Get("Insegna-Timestamp"), body) {
			w.WriteHeader(http.StatusForbidden)
		}
	})
	srv := httptest.NewServer(mux)
	defer srv.Close()
	for path, says := range map[string]string{"/moved?key=hidden": "which is not followed", "/waits?key=hidden": "did not answer within 1s",
		"/talks?key=hidden": "answers 500 Internal Server Error no", "/taken?key=hidden": ""} {
		h := &notice.Hook{Address: srv.URL + path, Secret: []byte("secret"), Within: time.Second}
		began := time.Now()
		err := h.Send(t.Context(), 7, []byte(`{"kind":"test"}`), began)
		assert.Less(t, time.Since(began), 5*time.Second)
		if says == "" {
			assert.NoError(t, err)
			continue
		}
		require.Error(t, err)
		assert.Contains(t, err.Error(), says)
		assert.NotContains(t, err.Error(), "hidden")
		assert.NotContains(t, err.Error(), "\x1b")
		assert.Less(t, len(err.Error()), 600)
	}
	assert.Zero(t, elsewhere, "what nobody named is told nothing")
	assert.Equal(t, "sha256=eae141fa1e719901af01c85e8362905d5b00b0a03da7b2873eb097ed3e05af9c", notice.Sign([]byte("Jefe"), "1796007649", []byte(`{"kind":"test"}`)), "worked out with another program")
	secure := httptest.NewTLSServer(mux)
	defer secure.Close()
	err := (&notice.Hook{Address: secure.URL + "/taken", Secret: []byte("secret")}).Send(t.Context(), 1, []byte("{}"), time.Now())
	assert.ErrorContains(t, err, "certificate")
	pool := x509.NewCertPool()
	pool.AddCert(secure.Certificate())
	assert.NoError(t, (&notice.Hook{Address: secure.URL + "/taken", Secret: []byte("secret"), Roots: pool}).Send(t.Context(), 1, []byte("{}"), time.Now()))
	assert.ErrorContains(t, (&notice.Hook{Address: secure.URL + "/none", Secret: []byte("x"), Roots: pool}).Send(t.Context(), 1, nil, time.Now()), "404")
}

// TestAMessageIsHarmless has text from outside in it.
func TestAMessageIsHarmless(t *testing.T) {
	m := &notice.Message{Kind: notice.Events, Estate: "Ferries\r\nBcc: all@lantern.example", Owner: "desk", At: time.Unix(0, 0).UTC(), Console: "https://insegna.lantern.example"}
	m.Add(notice.Line{Event: estate.NoticeMended, Severity: check.Broken, What: "b.lantern.example", Words: "it is no longer so"})
	m.Add(notice.Line{Event: estate.NoticeFound, Severity: check.Due, Number: 2, Code: "ends-soon", What: "<script>", Words: "a\x1b[31m<b>", Remedy: "x"})
	m.Add(notice.Line{Event: estate.NoticeFound, Severity: check.Broken, Number: 9, Code: "expired", What: strings.Repeat("ü", 300), Words: "gone"})
	m.Settle()
	subject := m.Subject()
	assert.True(t, strings.HasPrefix(subject, "[Ferries  Bcc: all@lantern.example] 1 broken, 1 due, 1 mended: üüü"), subject)
	assert.Len(t, []rune(subject), 120)
	page, err := m.HTML()
	require.NoError(t, err)
	assert.NotContains(t, page, "<script>")
	assert.NotContains(t, page+m.Text(), "\x1b[31m<b>")
	assert.Less(t, strings.Index(m.Text(), "Broken now"), strings.Index(m.Text(), "Hurts at a known date"))
	assert.Less(t, strings.Index(m.Text(), "Hurts at a known date"), strings.Index(m.Text(), "Mended"))
}
