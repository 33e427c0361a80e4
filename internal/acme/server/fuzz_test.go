package server_test

import (
	"bytes"
	"context"
	"crypto"
	"crypto/x509"
	"encoding/json"
	"log/slog"
	"maps"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/acme"
	"insegna.example/internal/acme/server"
	"insegna.example/internal/pkitest"
)

// memory keeps objects in memory, each change over its version.
type memory struct {
	mu      sync.Mutex
	objects map[string]server.Object
	version map[string]int
}

// Object implements server.Records.
func (m *memory) Object(_ context.Context, kind, id string) ([]byte, int, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	o, ok := m.objects[kind+id]
	if !ok {
		return nil, 0, server.ErrNotFound
	}
	return o.Document, m.version[kind+id], nil
}

// AccountOf implements server.Records.
func (m *memory) AccountOf(_ context.Context, key string) (string, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, o := range m.objects {
		if o.Kind == server.AccountKind && o.Key == key {
			return o.ID, nil
		}
	}
	return "", server.ErrNotFound
}

// Add implements server.Records.
func (m *memory) Add(_ context.Context, list ...server.Object) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, o := range list {
		m.objects[o.Kind+o.ID], m.version[o.Kind+o.ID] = o, 1
	}
	return nil
}

// Change implements server.Records.
func (m *memory) Change(_ context.Context, version int, o server.Object) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.version[o.Kind+o.ID] != version {
		return server.ErrChanged
	}
	m.objects[o.Kind+o.ID], m.version[o.Kind+o.ID] = o, version+1
	return nil
}

// OrdersOf implements server.Records.
func (m *memory) OrdersOf(context.Context, string, string, int) ([]string, error) { return nil, nil }

// Since implements server.Records.
func (m *memory) Since(context.Context, string, time.Time) (int, error) { return 0, nil }

// state tells everything that is kept.
func (m *memory) state() string {
	m.mu.Lock()
	defer m.mu.Unlock()
	var out []string
	for _, id := range slices.Sorted(maps.Keys(m.objects)) {
		out = append(out, id+string(m.objects[id].Document))
	}
	return strings.Join(out, "\n")
}

// desk is a CA over what is in memory, with one account and its key.
func desk() (*server.Desk, *server.CA, *memory, crypto.Signer) {
	m := &memory{objects: map[string]server.Object{}, version: map[string]int{}}
	c := &server.CA{Name: "crew", Base: "https://ca.example/acme/crew", Resolver: "127.0.0.1:1", HTTPPort: 1, TLSPort: 1, Records: m, KeyIDs: [][]byte{{1}},
		Allows: func(string, string) error { return nil }, Told: func(context.Context, string, string, map[string]any) {},
		Customer: func(context.Context, string) ([]byte, error) { return nil, server.ErrNotFound },
		Find:     func(context.Context, []byte) (*server.Known, error) { return nil, server.ErrNotFound },
		Revoke:   func(context.Context, []byte, int) error { return nil },
		Issue: func(context.Context, string, string, string, *x509.CertificateRequest, []string) ([]byte, string, error) {
			panic("issued without a proof")
		}}
	return server.NewDesk(slog.New(slog.DiscardHandler)), c, m, pkitest.NewKey()
}

// FuzzServe has the desk asked with anything: by a client that signs it well, and by one
// that does not. Whatever comes, it answers in the protocol's words, never for a fault of
// its own, and issues nothing.
func FuzzServe(f *testing.F) {
	d, c, m, key := desk()
	sent := func(path string, body []byte) *httptest.ResponseRecorder {
		r := httptest.NewRequest(http.MethodPost, c.Base+path, bytes.NewReader(body))
		r.Header.Set("Content-Type", "application/jose+json")
		w := httptest.NewRecorder()
		d.Serve(w, r, c, path)
		return w
	}
	nonce := func() string {
		w := httptest.NewRecorder()
		d.Serve(w, httptest.NewRequest(http.MethodHead, c.Base+"/new-nonce", nil), c, "/new-nonce")
		return w.Header().Get("Replay-Nonce")
	}
	signed := func(path, kid, payload string) []byte {
		opts := (&jose.SignerOptions{EmbedJWK: kid == ""}).WithHeader("url", c.Base+path).WithHeader("nonce", nonce())
		if kid != "" {
			opts = opts.WithHeader("kid", kid)
		}
		s, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: key}, opts)
		if err != nil {
			panic(err)
		}
		out, err := s.Sign([]byte(payload))
		if err != nil {
			panic(err)
		}
		return []byte(out.FullSerialize())
	}
	made := sent("/new-account", signed("/new-account", "", `{"contact":["mailto:a@crew.example"]}`))
	require.Equal(f, http.StatusCreated, made.Code, made.Body.String())
	kid := made.Header().Get("Location")
	ordered := sent("/new-order", signed("/new-order", kid, `{"identifiers":[{"type":"dns","value":"a.crew.example"}]}`))
	require.Equal(f, http.StatusCreated, ordered.Code, ordered.Body.String())
	order := strings.TrimPrefix(ordered.Header().Get("Location"), c.Base)
	f.Add("/new-order", `{"identifiers":[{"type":"ip","value":"::1"}]}`, true)
	f.Add("/key-change", `{"protected":"e30","payload":"","signature":""}`, true)
	f.Add("/revoke-cert", `{"certificate":"MIIB","reason":1}`, true)
	f.Add(order+"/finalize", `{"csr":"MIIB"}`, true)
	f.Add("/new-account", `{"protected":"eyJhbGciOiJub25lIn0","payload":"","signature":""}`, false)
	f.Add("/chall//", "", true)
	f.Fuzz(func(t *testing.T, path, payload string, well bool) {
		if !strings.HasPrefix(path, "/") || strings.ContainsAny(path, "?# \x00\n\r%") || strings.ContainsFunc(path, func(r rune) bool { return r < 0x20 || r > 0x7e }) {
			return // no path of a request
		}
		before, body := m.state(), []byte(payload)
		if well {
			body = signed(path, kid, payload)
		}
		w := sent(path, body)
		if w.Code >= http.StatusBadRequest {
			var p acme.Problem
			assert.Less(t, w.Code, http.StatusInternalServerError, "%s %q: %s", path, payload, w.Body)
			assert.NoError(t, json.Unmarshal(w.Body.Bytes(), &p), "%s", w.Body)
			assert.True(t, strings.HasPrefix(p.Type, "urn:ietf:params:acme:error:") && p.Detail != "", "%+v", p)
			assert.Equal(t, before, m.state(), "what is refused changes nothing")
		}
		if !well {
			assert.GreaterOrEqual(t, w.Code, http.StatusBadRequest, "unsigned: %s", w.Body)
		}
		assert.NotEmpty(t, w.Header().Get("Replay-Nonce"), "RFC 8555 section 6.5")
	})
}
