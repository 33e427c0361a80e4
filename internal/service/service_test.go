package service_test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io/fs"
	"net/http"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/kind/registry"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/service"
	"insegna.example/internal/servicetest"
)

func TestMain(m *testing.M) { servicetest.Main(m) }

const host = "a.lantern.example"

// estateText declares servers one, two... with one port each and the host at all of them.
func estateText(ports ...uint16) string {
	var b strings.Builder
	b.WriteString("estate: Ferries\naudiences:\n  - name: browsers\n    roots: [root.pem]\nservers:\n")
	names := []string{}
	for i, p := range ports {
		names = append(names, fmt.Sprintf("s%d", i+1))
		fmt.Fprintf(&b, "  - name: s%d\n    addresses: [127.0.0.1]\n    ports: [%d]\n", i+1, p)
	}
	fmt.Fprintf(&b, "hosts:\n  - name: %s\n    at: [%s]\n", host, strings.Join(names, ", "))
	return b.String()
}

// TestTheLifeOfABinding follows sightings and findings through change: spans
// instead of rows, findings opened, kept and closed, siblings compared.
func TestTheLifeOfABinding(t *testing.T) {
	r := servicetest.Start(t)
	root := pkitest.CA("root", nil)
	first := pkitest.Leaf(root, host, pkitest.Valid(-50*24*time.Hour, 40*24*time.Hour))
	next := pkitest.Leaf(root, host)
	var one, two atomic.Pointer[tls.Certificate]
	set := func(p *atomic.Pointer[tls.Certificate], e *pkitest.Entity) { c := e.TLS(); p.Store(&c) }
	set(&one, first)
	set(&two, first)
	p1 := servicetest.Serve(t, "127.0.0.1:0", one.Load).Port()
	p2 := servicetest.Serve(t, "127.0.0.1:0", two.Load).Port()
	text := estateText(p1, p2)
	assert.True(t, r.Apply(t, text, root).Applied)
	assert.False(t, r.Apply(t, text, root).Applied, "the same file applied twice changes nothing")

	sightings := func() (n int) { r.Query(t, "select count(*) from sightings", &n); return n }
	v := r.Survey(t)
	assert.Equal(t, 4, v.Targets)
	assert.Equal(t, 4, v.Connected)
	assert.Empty(t, r.Findings(t))
	assert.Equal(t, 4, sightings())

	v = r.Survey(t)
	assert.Equal(t, 4, v.Done)
	assert.Zero(t, v.Changed)
	assert.Equal(t, 4, sightings(), "an unchanged survey adds no sighting rows")
	var spans int
	r.Query(t, "select count(*) from sightings where first_survey = 1 and last_survey = 2 and last_seen > first_seen",
		&spans)
	assert.Equal(t, 4, spans, "it extends them")

	set(&two, next) // one of two renewed: the other differs from its sibling
	v = r.Survey(t)
	assert.Equal(t, 2, v.Changed)
	assert.Equal(t, []string{"differs-from-siblings " + host + " at s1"}, r.Findings(t))
	assert.Equal(t, client.VerdictAtOdds, bindingAt(t, r, "s1").Verdict)
	assert.Equal(t, client.Face("unread"), bindingAt(t, r, "s1").Faces.Configured)
	v = r.Survey(t)
	assert.Zero(t, v.Opened+v.Closed, "a finding that goes on is kept, not opened again")

	set(&one, next)
	v = r.Survey(t)
	assert.Equal(t, 1, v.Closed)
	assert.Empty(t, r.Findings(t))
	assert.Equal(t, client.VerdictAgreed, bindingAt(t, r, "s1").Verdict, "mended and straight in the same survey")

	changes, err := r.Client.GetSurveyChangesWithResponse(t.Context(), 5,
		&client.GetSurveyChangesParams{Since: new(int64(2))})
	require.NoError(t, err)
	require.NotNil(t, changes.JSON200)
	assert.Len(t, changes.JSON200.Changes, 4, "between two surveys, whatever lay between")
	assert.Len(t, changes.JSON200.Opened, 1)
	assert.Len(t, changes.JSON200.Closed, 1)

	// A host taken out of the file goes, its history stays.
	assert.True(t, r.Apply(t, strings.Replace(text, "at: [s1, s2]", "at: [s2]", 1), root).Applied)
	list, err := r.Client.ListBindingsWithResponse(t.Context(), &client.ListBindingsParams{})
	require.NoError(t, err)
	assert.Equal(t, 1, list.JSON200.Total)
	assert.Equal(t, 8, sightings())
}

// TestTheEvidenceFollowsTheAudiences holds that a finding that goes on tells of the
// audiences of now: another declaration alone rewords it.
func TestTheEvidenceFollowsTheAudiences(t *testing.T) {
	r := servicetest.Start(t)
	root, other := pkitest.CA("root", nil), pkitest.CA("other", nil)
	pair := pkitest.Leaf(root, host).TLS()
	port := servicetest.Serve(t, "127.0.0.1:0", func() *tls.Certificate { return &pair }).Port()
	text := fmt.Sprintf("estate: Ferries\naudiences:\n  - {name: old, roots: [root2.pem]}\n  - {name: new, roots: "+
		"[root.pem]}\n"+
		"servers:\n  - {name: s1, addresses: [127.0.0.1], ports: [%d]}\nhosts:\n  - {name: %s, at: [s1], audiences: "+
		"[AUDIENCES]}\n", port, host)
	evidence := func(audiences, names string) string {
		changed := strings.Replace(strings.Replace(text, "AUDIENCES", audiences, 1), "[root.pem]", names, 1)
		applied, err := r.Client.ApplyEstateWithResponse(t.Context(), client.EstateFile{File: "estate.yaml", Text: changed,
			Attachments: &map[string]string{"root.pem": string(certs.PEM(root.Raw)), "root2.pem": string(certs.PEM(other.Raw))}})
		require.NoError(t, err)
		require.NotNil(t, applied.JSON200, string(applied.Body))
		r.Survey(t)
		list, err := r.Client.ListFindingsWithResponse(t.Context(), &client.ListFindingsParams{})
		require.NoError(t, err)
		require.Len(t, list.JSON200.Items, 1)
		f, err := r.Client.GetFindingWithResponse(t.Context(), list.JSON200.Items[0].Id)
		require.NoError(t, err)
		return fmt.Sprint(f.JSON200.Id, " ", f.JSON200.Code, " ", f.JSON200.Evidence[0])
	}
	first := evidence("old", "[root.pem]")
	assert.Contains(t, first, "chain-untrusted {audience old}")
	both := evidence("old, new", "[root2.pem]")
	assert.Contains(t, both, "issuer-unknown {audience old, new}", "its root is no audience's any more")
	assert.Contains(t, evidence("new", "[root2.pem]"), "issuer-unknown {audience new}")
}

func bindingAt(t *testing.T, r *servicetest.Running, server string) client.Binding {
	resp, err := r.Client.ListBindingsWithResponse(t.Context(), &client.ListBindingsParams{Server: &server})
	require.NoError(t, err)
	require.NotNil(t, resp.JSON200)
	require.Len(t, resp.JSON200.Items, 1)
	return resp.JSON200.Items[0]
}

// TestHostileCertificatesAreKept serves names no database or page would like.
func TestHostileCertificatesAreKept(t *testing.T) {
	r := servicetest.Start(t)
	root := pkitest.CA("root", nil)
	evil := pkitest.Leaf(root, "evil\x00.<script>\x1b[31m",
		func(c *x509.Certificate) { c.DNSNames = []string{host, "=cmd|' /C calc'!A0"} })
	pair := evil.TLS()
	port := servicetest.Serve(t, "127.0.0.1:0", func() *tls.Certificate { return &pair }).Port()
	r.Apply(t, estateText(port), root)
	assert.Equal(t, 2, r.Survey(t).Connected)
	list, err := r.Client.ListCertificatesWithResponse(t.Context(), &client.ListCertificatesParams{})
	require.NoError(t, err)
	require.Len(t, list.JSON200.Items, 1)
	assert.NotContains(t, list.JSON200.Items[0].CommonName, "\x00")
}

// TestKilledInTheMiddleOfASurvey kills the service with SIGKILL while it
// surveys 2,000 endpoints, starts it again, and finds each target once.
func TestKilledInTheMiddleOfASurvey(t *testing.T) {
	t.Parallel()
	root := pkitest.CA("root", nil)
	pair := pkitest.Leaf(root, host).TLS()
	var addresses []string
	for i := range 20 {
		for range 100 {
			at := servicetest.Serve(t, fmt.Sprintf("127.21.0.%d:0", i+1), func() *tls.Certificate { return &pair })
			addresses = append(addresses, at.String())
		}
	}
	dsn, data, listen := servicetest.Database(t), t.TempDir(), servicetest.FreeAddress(t)
	// A slow machine is not to be taken for endpoints that do not answer.
	args := []string{"--database", dsn, "--data", data, "--connect-timeout", "30s", "--handshake-timeout", "30s"}
	p := servicetest.StartProcess(t, listen, args...)
	cl, err := client.NewClientWithResponses(p.URL + "/api/v1")
	require.NoError(t, err)
	resp, err := cl.ApplyEstateWithResponse(t.Context(), servicetest.File(manyServers(addresses), root))
	require.NoError(t, err)
	require.NotNil(t, resp.JSON200, string(resp.Body))
	started, err := cl.StartSurveyWithResponse(t.Context(), client.SurveyRequest{})
	require.NoError(t, err)
	require.Equal(t, 4000, started.JSON201.Targets)

	done := 0
	_ = client.FollowSurvey(t.Context(), http.DefaultClient, p.URL+"/api/v1", started.JSON201.Id,
		func(v client.Survey) error {
			if done = v.Done; done > 400 {
				return context.Canceled
			}
			return nil
		})
	p.Kill()
	require.Less(t, done, 3800, "it was killed too late to show anything")

	p = servicetest.StartProcess(t, listen, args...)
	last := servicetest.Follow(t, p.URL, started.JSON201.Id)
	assert.Equal(t, client.SurveyStateFinished, last.State)
	assert.Equal(t, 4000, last.Done)
	assert.Equal(t, 4000, last.Connected)
	var rows, targets int
	servicetest.Query(t, dsn, "select count(*) from sightings where last_survey = 1", &rows)
	servicetest.Query(t, dsn, "select count(distinct target_id) from sightings where last_survey = 1", &targets)
	assert.Equal(t, 4000, rows, "each target once")
	assert.Equal(t, 4000, targets, "none lost")
	p.Signal(syscall.SIGTERM)
	assert.Contains(t, p.Log(), "stopping")
	assert.Regexp(t, `a survey has ended" survey=1 scope="whole estate" looked=4000 connected=4000`, p.Log())
	assert.Zero(t, p.Cmd.ProcessState.ExitCode())
}

func manyServers(addresses []string) string {
	var b strings.Builder
	b.WriteString("estate: Ferries\naudiences:\n  - name: browsers\n    roots: [root.pem]\nservers:\n")
	for i, a := range addresses {
		ip, port, _ := strings.Cut(a, ":")
		fmt.Fprintf(&b, "  - {name: s%d, addresses: [%s], ports: [%s]}\n", i, ip, port)
	}
	fmt.Fprintf(&b, "hosts:\n  - name: %s\n    at:\n", host)
	for i := range addresses {
		fmt.Fprintf(&b, "      - s%d\n", i)
	}
	return b.String()
}

func TestParseVisit(t *testing.T) {
	for text, want := range map[string]string{
		"a.lantern.example": "a.lantern.example 443", "A.Lantern.Example.:8443": "a.lantern.example 8443",
		"192.0.2.1:9": "192.0.2.1 9",
		"2001:db8::1": "2001:db8::1 443", "[2001:db8::1]:8443": "2001:db8::1 8443",
		"fähre.lantern.example": "xn--fhre-loa.lantern.example 443",
	} {
		host, port, err := service.ParseVisit(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, fmt.Sprint(host, " ", port))
	}
	for _, text := range []string{"", ":443", "a.example:", "a.example:0", "a.example:65536", "a.example:8x", "a..b"} {
		_, _, err := service.ParseVisit(text)
		assert.Error(t, err, text)
	}
}

// TestAnEstateFileBringsWhatItMentions reads paths relative to the file and
// leaves what cannot be read to the parser, which knows the line.
func TestAnEstateFileBringsWhatItMentions(t *testing.T) {
	files := map[string]string{"/etc/ferries/estate.yaml": estateText(443) +
		"intermediates: [sub/ca.pem, /opt/other.pem]\n", "/etc/ferries/root.pem": "r", "/opt/other.pem": "o"}
	f, err := service.LoadEstateFile("/etc/ferries/estate.yaml", func(path string) ([]byte, error) {
		if text, ok := files[path]; ok {
			return []byte(text), nil
		}
		return nil, fs.ErrNotExist
	})
	require.NoError(t, err)
	assert.Equal(t, map[string][]byte{"root.pem": []byte("r"), "/opt/other.pem": []byte("o")}, f.Attachments)
	_, err = f.Parse(registry.Kinds.Declared())
	assert.ErrorContains(t, err, "cannot read sub/ca.pem: no such file, or not readable")
	_, err = service.LoadEstateFile("/lost.yaml", func(string) ([]byte, error) { return nil, fs.ErrNotExist })
	assert.ErrorContains(t, err, "cannot read the estate file")
}
