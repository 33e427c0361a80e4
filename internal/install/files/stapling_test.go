package files_test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"net/http"
	"net/http/httptest"
	"os"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/check"
	"insegna.example/internal/install"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/reach"
)

// TestStaplingIsSwitchedOn has servers send along what the CA's responder says; where that
// does not answer them, all is as it was.
func TestStaplingIsSwitchedOn(t *testing.T) {
	for name, c := range map[string]struct {
		pierOf  func(*testing.T) *pier
		refused string // why not
	}{"nginx": {newPier, ""}, "httpd": {newHouse, ""}, "haproxy": {newQuay, "does not ask the CA itself"}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := c.pierOf(t)
			var deaf atomic.Bool
			var leaf *pkitest.Entity
			responder := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
				if deaf.Load() {
					w.WriteHeader(http.StatusServiceUnavailable)
					return
				}
				w.Header().Set("Content-Type", "application/ocsp-response")
				_, _ = w.Write(answerOf(t, p.root, leaf.X509()).Response)
			}))
			t.Cleanup(responder.Close)
			leaf = pkitest.Leaf(p.root, host, func(x *x509.Certificate) { x.OCSPServer = []string{responder.URL} })
			file, key := p.dir+"/certs/site.pem", p.dir+"/certs/site.key"
			text := string(certs.PEM(leaf.Raw)) + string(certs.PEM(p.root.Raw))
			if p.quay {
				p.put(t, file, text+keyText(t, leaf))
				p.put(t, p.main, p.quayText(1, "crt "+file))
			} else {
				p.put(t, file, text)
				p.put(t, key, keyText(t, leaf))
				p.put(t, p.site, p.siteText(file, key))
			}
			p.start(t)
			shown := func() string {
				conn, err := tls.Dial("tcp", p.secure.String(), &tls.Config{ServerName: host, InsecureSkipVerify: true})
				if err != nil {
					return ""
				}
				defer func() { _ = conn.Close() }()
				state := conn.ConnectionState()
				out := certs.FingerprintOf(state.PeerCertificates[0].Raw).String()
				if certs.StapleFault(state.OCSPResponse) == "" {
					out += " stapled"
				}
				return out
			}
			mend := func() (*install.Mended, *install.Installation) {
				planned, err := p.destination(reach.Local()).Mend(t.Context(), &install.Mending{Server: "pier", Version: "v",
					Faults: []install.Fault{{Finding: 1, Code: check.StapleMissing, Host: host, At: p.secure}}})
				require.NoError(t, err)
				return planned, &install.Installation{ID: 1, State: install.Staging, Plan: planned.Plan, Bindings: planned.Bindings}
			}
			run := func(i *install.Installation) {
				x := &records{}
				m := &install.Installer{Destination: p.destination(reach.Local()), Records: x, Patience: 4 * time.Second,
					Look: func(context.Context, *install.Binding) (string, string) { s := shown(); return s, s }}
				require.NoError(t, m.Run(t.Context(), i))
			}
			planned, i := mend()
			if c.refused != "" {
				require.Len(t, planned.Left, 1)
				assert.Contains(t, planned.Left[0].Reason, c.refused)
				return
			}
			require.Equal(t, []int64{1}, numbersOf(planned.Mends), "%+v", planned.Left)
			require.Eventually(t, func() bool { return shown() == leaf.Certificate.Fingerprint.String() }, 10*time.Second, 50*time.Millisecond)
			before := p.state(t)
			deaf.Store(true)
			run(i)
			require.Equal(t, install.Returned, i.State, i.Reason)
			assert.Equal(t, before, p.state(t))
			deaf.Store(false)
			_, i = mend()
			run(i)
			require.Equal(t, install.Done, i.State, i.Reason)
			assert.Contains(t, shown(), " stapled")
			site, err := os.ReadFile(p.site)
			require.NoError(t, err)
			assert.Regexp(t, "(ssl_stapling on;|SSLUseStapling On)", string(site))
			i.State, i.Switched = install.Returning, true
			run(i)
			require.Equal(t, install.Returned, i.State, i.Reason)
			assert.Equal(t, before, p.state(t))
		})
	}
	p := newPier(t)
	p.ail(t, olderNamed, 1)
	planned, err := p.destination(reach.Local()).Mend(t.Context(), &install.Mending{Server: "pier", Version: "v",
		Faults: []install.Fault{{Finding: 1, Code: check.StapleMissing, Host: host, At: p.secure}}})
	require.NoError(t, err)
	require.Len(t, planned.Left, 1)
	assert.Contains(t, planned.Left[0].Reason, "names no responder")
}
