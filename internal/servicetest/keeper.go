package servicetest

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"insegna.example/client"
)

// The admin of every service under test.
const (
	Keeper           = "keeper"
	KeeperPassphrase = "four words for tests"
)

// tokens are the keeper's, by host and port of the service.
var tokens sync.Map

// Token gives the keeper's token for a service.
func Token(service string) string {
	u, err := url.Parse(service)
	if err != nil {
		return ""
	}
	t, _ := tokens.Load(u.Host)
	text, _ := t.(string)
	return text
}

// Anonymous is a client that shows nothing.
var Anonymous = &http.Client{Transport: http.DefaultTransport.(*http.Transport).Clone()}

// asKeeper lets every request of a test package to a service under test show
// the keeper's token, unless it shows something else.
type asKeeper struct{ next http.RoundTripper }

// RoundTrip signs requests of tests in as the keeper of that service, unless
// they say themselves who asks.
func (k asKeeper) RoundTrip(r *http.Request) (*http.Response, error) {
	if t, ok := tokens.Load(r.URL.Host); ok && r.Header.Get("Authorization") == "" && r.Header.Get("Cookie") == "" {
		r = r.Clone(r.Context())
		r.Header.Set("Authorization", "Bearer "+t.(string))
	}
	return k.next.RoundTrip(r)
}

// AsKeeper signs requests over a transport in as the keeper of the service they go to.
func AsKeeper(next http.RoundTripper) http.RoundTripper { return asKeeper{next} }

// init makes every client of a test binary a keeper's.
func init() { http.DefaultTransport = asKeeper{http.DefaultTransport} }

// Admit sets the keeper up with a one-time link's code, or signs in where that
// was done before, and keeps a token.
func Admit(ctx context.Context, service, code string) error {
	jar, err := cookiejar.New(nil)
	if err != nil {
		return err
	}
	cl, err := client.NewClientWithResponses(service+"/api/v1",
		client.WithHTTPClient(&http.Client{Jar: jar, Transport: Anonymous.Transport}))
	if err != nil {
		return err
	}
	var status int
	if code != "" {
		name := Keeper
		r, err := cl.SetUpWithResponse(ctx, client.SetUpRequest{Code: code, Name: &name, Passphrase: KeeperPassphrase})
		if err != nil {
			return err
		}
		status = r.StatusCode()
	} else {
		r, err := cl.SignInWithResponse(ctx, client.SignInRequest{Name: Keeper, Passphrase: KeeperPassphrase})
		if err != nil {
			return err
		}
		status = r.StatusCode()
	}
	made, err := cl.MakeTokenWithResponse(ctx, client.TokenRequest{Name: "tests", Scope: client.RoleAdmin, Days: 1})
	if err != nil || made.JSON201 == nil {
		return fmt.Errorf("the keeper cannot come in: %d, %s, %w", status, made.Body, err)
	}
	tokens.Store(strings.TrimPrefix(service, "http://"), made.JSON201.Secret)
	return nil
}

// Session signs the keeper in as a browser would, and gives the session's
// secret.
func Session(t testing.TB, service string) string {
	body, err := json.Marshal(client.SignInRequest{Name: Keeper, Passphrase: KeeperPassphrase})
	require.NoError(t, err)
	resp, err := Anonymous.Post(service+"/api/v1/session", "application/json", strings.NewReader(string(body)))
	require.NoError(t, err)
	defer func() { _ = resp.Body.Close() }()
	require.Equal(t, http.StatusCreated, resp.StatusCode)
	return resp.Cookies()[0].Value
}

// Enter adds somebody with a role and gives calls made as them, with a session
// as a browser has it.
func (r *Running) Enter(t testing.TB, name string, role client.Role) *http.Client {
	added, err := r.Client.AddPersonWithResponse(t.Context(), client.PersonRequest{Name: name, Role: role})
	require.NoError(t, err)
	require.NotNil(t, added.JSON201, string(added.Body))
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	browser := &http.Client{Jar: jar, Transport: Anonymous.Transport}
	body, err := json.Marshal(client.SetUpRequest{Code: added.JSON201.Code, Passphrase: name + " knows four words"})
	require.NoError(t, err)
	resp, err := browser.Post(r.URL+"/api/v1/set-up", "application/json", strings.NewReader(string(body)))
	require.NoError(t, err)
	defer func() { _ = resp.Body.Close() }()
	require.Equal(t, http.StatusCreated, resp.StatusCode)
	return browser
}

// lockedBuilder is read while a process writes to it.
type lockedBuilder struct {
	mu   sync.Mutex      // guards text
	text strings.Builder // so far
}

// Write lets a process's output be read while it still writes.
func (b *lockedBuilder) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.text.Write(p)
}

// String is the output so far.
func (b *lockedBuilder) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.text.String()
}
