// Package servicetest starts what tests of the whole service need: one
// PostgreSQL for a test package, a database and a service for each test, the
// program as a process, and stand-in endpoints.
package servicetest

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"insegna.example/internal/standin/process"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/httpapi"
	"insegna.example/internal/look"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/service"
	"insegna.example/internal/standin/endpoint"
	"insegna.example/internal/store/cluster"
)

var (
	// postgres is shared by all tests of a package; each gets a database of its
	// own in it.
	postgres *cluster.Cluster
	// databases counts them, for their names.
	databases atomic.Int64
	// work is the package's folder, gone when the tests have ended.
	work string
)

// Main starts PostgreSQL for a test package, runs its tests, and ends it.
func Main(m *testing.M) {
	os.Exit(run(m))
}

// run starts the database server before the tests and stops it after them, also
// when they panic.
func run(m *testing.M) int {
	var err error
	if work, err = os.MkdirTemp("", "insegna-test-"); err != nil {
		panic(err)
	}
	defer func() { _ = os.RemoveAll(work) }()
	if err := os.Chmod(work, 0o755); err != nil { // another user's PostgreSQL lives in it
		panic(err)
	}
	if postgres, err = cluster.Start(context.Background(), filepath.Join(work, "postgres"),
		cluster.Options{Disposable: true}); err != nil {
		panic(err)
	}
	defer postgres.Stop()
	return m.Run()
}

// Database makes an empty database, removed after the test, and gives its address.
func Database(t testing.TB) string {
	name := fmt.Sprintf("test_%d", databases.Add(1))
	require.NoError(t, onServer("create database "+name))
	t.Cleanup(func() { // where the server itself is busy with it, it stays until the package's tests have ended
		if err := onServer("drop database " + name + " with (force)"); err != nil {
			t.Log(err)
		}
	})
	u, err := url.Parse(postgres.DSN())
	require.NoError(t, err)
	u.Path = "/" + name
	return u.String()
}

// onServer does something to the server that holds all databases.
func onServer(sql string) error {
	conn, err := pgx.Connect(context.Background(), postgres.DSN())
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.Background()) }()
	_, err = conn.Exec(context.Background(), sql)
	return err
}

// Running is a service with its HTTP interface on loopback.
type Running struct {
	*service.Service
	URL      string                      // of the service
	Client   *client.ClientWithResponses // signed in as its keeper
	Database string                      // of its own
	Stop     func()                      // ends the HTTP interface before the test does
}

// Start starts a service on an empty database, with its settings changed.
func Start(t testing.TB, change ...func(*service.Config)) *Running {
	dsn := Database(t)
	l := look.New()
	l.ConnectTimeout, l.HandshakeTimeout = 2*time.Second, 2*time.Second
	log := slog.New(slog.NewTextHandler(io.Discard, nil))
	cfg := service.Config{Data: t.TempDir(), Database: dsn, Looker: l, Log: log, TestLimit: 5 * time.Second,
		OrderPatience: 3 * time.Second, SpreadPatience: 5 * time.Second}
	for _, c := range change {
		c(&cfg)
	}
	s, err := service.Open(context.Background(), cfg)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	h, err := httpapi.Handler(s, nil, log)
	require.NoError(t, err)
	srv := httptest.NewServer(h)
	t.Cleanup(srv.Close)
	code, err := s.FirstInvitation(context.Background())
	require.NoError(t, err)
	require.NoError(t, Admit(context.Background(), srv.URL, code))
	cl, err := client.NewClientWithResponses(srv.URL + "/api/v1")
	require.NoError(t, err)
	return &Running{s, srv.URL, cl, dsn, func() { srv.CloseClientConnections(); srv.Close() }}
}

// Query asks the service's database for one value.
func (r *Running) Query(t testing.TB, sql string, into any, args ...any) {
	Query(t, r.Database, sql, into, args...)
}

// Query asks a database for one value.
func Query(t testing.TB, dsn, sql string, into any, args ...any) {
	conn, err := pgx.Connect(t.Context(), dsn)
	require.NoError(t, err)
	defer func() { _ = conn.Close(context.Background()) }()
	require.NoError(t, conn.QueryRow(t.Context(), sql, args...).Scan(into))
}

// Apply puts an estate text in force. A service that says it is busy, as one on a
// loaded machine may, is asked again.
func (r *Running) Apply(t testing.TB, text string, roots ...*pkitest.Entity) *client.EstateChanges {
	for end := time.Now().Add(time.Minute); ; time.Sleep(200 * time.Millisecond) {
		resp, err := r.Client.ApplyEstateWithResponse(t.Context(), File(text, roots...))
		require.NoError(t, err)
		if resp.StatusCode() == http.StatusServiceUnavailable && time.Now().Before(end) {
			continue
		}
		require.NotNil(t, resp.JSON200, string(resp.Body))
		return resp.JSON200
	}
}

// ApplyFile puts an estate file from disk in force, with what it mentions.
func (r *Running) ApplyFile(t testing.TB, path string) {
	f, err := service.LoadEstateFile(path, os.ReadFile)
	require.NoError(t, err)
	files := map[string]string{}
	for name, data := range f.Attachments {
		files[name] = string(data)
	}
	resp, err := r.Client.ApplyEstateWithResponse(t.Context(),
		client.EstateFile{File: "estate.yaml", Text: string(f.Text), Attachments: &files})
	require.NoError(t, err)
	require.NotNil(t, resp.JSON200, string(resp.Body))
}

// File is an estate file whose root.pem holds the roots.
func File(text string, roots ...*pkitest.Entity) client.EstateFile {
	var pem strings.Builder
	for _, r := range roots {
		pem.Write(certs.PEM(r.Raw))
	}
	return client.EstateFile{File: "estate.yaml", Text: text, Attachments: &map[string]string{"root.pem": pem.String()}}
}

// Survey runs a survey to its end.
func (r *Running) Survey(t testing.TB) client.Survey {
	resp, err := r.Client.StartSurveyWithResponse(t.Context(), client.SurveyRequest{})
	require.NoError(t, err)
	require.NotNil(t, resp.JSON201, string(resp.Body))
	return Follow(t, r.URL, resp.JSON201.Id)
}

// Follow waits for the end of a survey.
func Follow(t testing.TB, url string, id int64) (last client.Survey) {
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	require.NoError(t,
		client.FollowSurvey(ctx, http.DefaultClient, url+"/api/v1", id, func(v client.Survey) error { last = v; return nil }))
	return last
}

// Findings lists the open findings as "code host at server".
func (r *Running) Findings(t testing.TB) (out []string) {
	resp, err := r.Client.ListFindingsWithResponse(t.Context(), &client.ListFindingsParams{})
	require.NoError(t, err)
	require.NotNil(t, resp.JSON200, string(resp.Body))
	for _, f := range resp.JSON200.Items {
		out = append(out, fmt.Sprintf("%s %s at %s", f.Code, f.Host, f.Server))
	}
	return out
}

// Serve starts a stand-in that shakes hands with what get gives at the time.
func Serve(t testing.TB, address string, get func() *tls.Certificate) netip.AddrPort {
	e, err := endpoint.Start(address,
		endpoint.TLS(&tls.Config{GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return get(), nil }}))
	require.NoError(t, err)
	t.Cleanup(e.Close)
	return netip.MustParseAddrPort(e.Address())
}

// Program builds the program once for a test package and gives its path.
func Program(t testing.TB) string {
	path := filepath.Join(work, "insegna")
	if _, err := os.Stat(path); err == nil {
		return path
	}
	out, err := exec.Command("go", "build", "-o", path, "insegna.example/cmd/insegna").CombinedOutput()
	require.NoError(t, err, string(out))
	return path
}

// Process is the service running as a process of its own.
type Process struct {
	URL     string           // of the service
	Client  *http.Client     // signed in as its keeper
	Cmd     *exec.Cmd        // as it was started
	process *process.Process // running
	log     strings.Builder  // stderr
	out     lockedBuilder    // stdout
}

// StartProcess runs "insegna serve" and waits until it is ready.
func StartProcess(t testing.TB, listen string, args ...string) *Process {
	p := start(t, &Process{URL: "http://" + listen, Client: Anonymous}, listen, args...)
	var err error
	for range 4 { // what it prints may come a little after it answers
		_, link, _ := strings.Cut(p.out.String(), "/set-up#")
		code, _, _ := strings.Cut(link, "\n")
		if err = Admit(context.Background(), p.URL, code); err == nil {
			break
		}
		time.Sleep(500 * time.Millisecond)
	}
	require.NoError(t, err)
	return p
}

// StartProcessTLS runs "insegna serve" on https; its certificate is one of the
// root's.
func StartProcessTLS(t testing.TB, listen string, root *pkitest.Entity, args ...string) *Process {
	_, port, err := net.SplitHostPort(listen)
	require.NoError(t, err)
	pool := x509.NewCertPool()
	pool.AddCert(root.X509())
	// Found at loopback, whatever the name in its certificate.
	check := &tls.Config{InsecureSkipVerify: true, VerifyConnection: func(s tls.ConnectionState) error {
		_, err := s.PeerCertificates[0].Verify(x509.VerifyOptions{Roots: pool})
		return err
	}}
	return start(t,
		&Process{URL: "https://127.0.0.1:" + port, Client: &http.Client{Transport: &http.Transport{TLSClientConfig: check}}},
		listen, args...)
}

// start starts a service and waits until it is ready.
func start(t testing.TB, p *Process, listen string, args ...string) *Process {
	p.Cmd = exec.Command(Program(t), append([]string{"serve", "--listen", listen}, args...)...)
	p.Cmd.Stderr, p.Cmd.Stdout = &p.log, &p.out
	var err error
	p.process, err = process.Start(p.Cmd, syscall.SIGKILL)
	require.NoError(t, err)
	t.Cleanup(func() {
		if p.Kill(); t.Failed() {
			t.Log("the service's log:\n" + p.Log())
		}
	})
	require.Eventually(t, func() bool {
		resp, err := p.Client.Get(p.URL + "/api/v1/ready")
		if err != nil {
			return false
		}
		_ = resp.Body.Close()
		return resp.StatusCode == http.StatusOK
	}, time.Minute, 20*time.Millisecond, "the service is not ready")
	return p
}

// Kill ends the process with SIGKILL.
func (p *Process) Kill() { p.Signal(syscall.SIGKILL) }

// Signal sends a signal and waits for the end.
func (p *Process) Signal(s os.Signal) {
	p.process.Stop(s)
}

// Out is what the process printed.
func (p *Process) Out() string { return p.out.String() }

// Log is what the process wrote; to be read after its end.
func (p *Process) Log() string { return p.log.String() }

// FreeAddress is a loopback address and port nobody listens at.
func FreeAddress(t testing.TB) string {
	for range 100 {
		port := 26_000 + rand.IntN(6_700) // below those the system gives to connections
		at := "127.0.0.1:" + strconv.Itoa(port)
		if _, before := addressesGiven.LoadOrStore(at, true); before {
			continue
		}
		if l, err := net.Listen("tcp", at); err == nil {
			require.NoError(t, l.Close())
			return at
		}
	}
	t.Fatal("no free address")
	return ""
}

// addressesGiven are those FreeAddress has given.
var addressesGiven sync.Map

// FailedStart runs "insegna serve" where it must not start, and gives what it
// said.
func FailedStart(t testing.TB, listen string, args ...string) string {
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	out, err := exec.CommandContext(ctx, Program(t),
		append([]string{"serve", "--listen", listen}, args...)...).CombinedOutput()
	require.Error(t, err, "it started")
	require.NoError(t, ctx.Err(), "it started")
	return string(out)
}
