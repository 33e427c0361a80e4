package cli

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"insegna.example/client"
)

// signedIn is what is kept of a sign-in: a token of the service.
type signedIn struct {
	Person  string    `json:"person"`  // who signed in
	Token   string    `json:"token"`   // the secret; the file is for its owner alone
	Expires time.Time `json:"expires"` // after which signing in again is needed
}

// TokenVariable names the environment variable that may hold a token in place
// of a sign-in.
const TokenVariable = "INSEGNA_TOKEN"

// keptAt is the file with the sign-ins, by address of the service.
func keptAt() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("there is no place to keep a sign-in: %w; set HOME, or give a token in %s", err, TokenVariable)
	}
	return filepath.Join(dir, "insegna", "sign-ins.json"), nil
}

// keptSignIns reads the tokens kept for each service. A file others may read is
// refused, as SSH does with keys.
func keptSignIns() (path string, all map[string]signedIn, err error) {
	all = map[string]signedIn{}
	if path, err = keptAt(); err != nil {
		return "", all, err
	}
	data, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return path, all, nil
	} else if err != nil {
		return path, all, fmt.Errorf("cannot read the kept sign-ins: %w", err)
	}
	if info, err := os.Stat(path); err == nil && info.Mode().Perm()&0o077 != 0 {
		return path, all, fmt.Errorf("others may read %s (mode %04o); run: chmod 600 %s", path, info.Mode().Perm(), path)
	}
	if err := json.Unmarshal(data, &all); err != nil {
		return path, all, fmt.Errorf("%s is damaged: %w; remove it and run: insegna sign-in", path, err)
	}
	return path, all, nil
}

// keep writes the sign-in for the service in use; nil forgets it.
func (a *app) keep(v *signedIn) error {
	path, all, err := keptSignIns()
	if err != nil {
		return err
	}
	delete(all, a.service())
	if v != nil {
		all[a.service()] = *v
	}
	data, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	next, err := os.CreateTemp(filepath.Dir(path), ".sign-ins-") // mode 0600
	if err != nil {
		return err
	}
	defer func() { _ = os.Remove(next.Name()) }()
	_, err = next.Write(append(data, '\n'))
	if err := errors.Join(err, next.Close()); err != nil {
		return err
	}
	return os.Rename(next.Name(), path)
}

// service is the service's address as people give it.
func (a *app) service() string { return strings.TrimSuffix(a.address, "/") }

// token gives what to show the service: from the environment, or as kept by
// the last sign-in; "" for none.
func (a *app) token() (string, error) {
	if t := os.Getenv(TokenVariable); t != "" {
		return t, nil
	}
	_, all, err := keptSignIns()
	return all[a.service()].Token, err
}

// bearer shows a token with each request, to the service alone.
type bearer struct {
	next  http.RoundTripper // sends the request
	token string            // "" for nobody
}

// RoundTrip adds the token to a copy of the request, as the interface asks.
func (b bearer) RoundTrip(r *http.Request) (*http.Response, error) {
	r = r.Clone(r.Context())
	if b.token != "" {
		r.Header.Set("Authorization", "Bearer "+b.token)
	}
	return b.next.RoundTrip(r)
}

// plain gives an HTTP client that shows nothing.
func (a *app) plain() (*http.Client, error) {
	u, err := url.Parse(a.address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, usage{fmt.Errorf("the service's address is %q; expected something like http://%s", a.address,
			DefaultAddress)}
	}
	addr, err := netip.ParseAddr(u.Hostname())
	if local := u.Hostname() == "localhost" || err == nil && addr.IsLoopback(); u.Scheme == "http" && !local {
		return nil, usage{
			fmt.Errorf("%s is not on this machine, and plain http would show your token on the way; expected an https address",
				a.address)}
	}
	t := http.DefaultTransport.(*http.Transport).Clone()
	if a.anchors != "" {
		pem, err := os.ReadFile(a.anchors)
		if err != nil {
			return nil, fmt.Errorf("cannot read --service-ca: %w", err)
		}
		pool := x509.NewCertPool()
		if !pool.AppendCertsFromPEM(pem) {
			return nil, usage{fmt.Errorf("--service-ca %s holds no certificate; expected PEM", a.anchors)}
		}
		t.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	}
	return &http.Client{Transport: t, CheckRedirect: func(*http.Request, []*http.Request) error {
		return http.ErrUseLastResponse
	}}, nil
}

// caller gives an HTTP client that shows who is signed in.
func (a *app) caller() (*http.Client, error) {
	c, err := a.plain()
	if err != nil {
		return nil, err
	}
	token, err := a.token()
	c.Transport = bearer{c.Transport, token}
	return c, err
}

// calls are the calls of the service.
type calls = *client.ClientWithResponses

// get makes a call and gives the document it answers with; nil for none.
func get[T any](a *app, ctx context.Context,
	call func(context.Context, *client.ClientWithResponses) (*http.Response, error)) (*T, error) {
	cl, err := a.client()
	if err != nil {
		return nil, err
	}
	resp, err := call(ctx, cl)
	return document[T](a, resp, err)
}

// raw makes a call and gives what it answers with as it comes.
func (a *app) raw(ctx context.Context, call func(context.Context, calls) (*http.Response, error)) ([]byte, error) {
	cl, err := a.client()
	if err != nil {
		return nil, err
	}
	resp, err := call(ctx, cl)
	if err != nil || resp.StatusCode >= http.StatusMultipleChoices {
		_, err := document[struct{}](a, resp, err)
		return nil, err
	}
	defer func() { _ = resp.Body.Close() }()
	text, err := io.ReadAll(io.LimitReader(resp.Body, longestAnswer))
	if err != nil {
		return nil, a.unreachable(err)
	}
	return text, nil
}

// longestAnswer bounds what is read of an answer, in bytes.
const longestAnswer = 256 << 20

// document turns an answer into its document, or into the problem the service
// tells, with its next step.
func document[T any](a *app, resp *http.Response, err error) (*T, error) {
	if err != nil {
		return nil, a.unreachable(err)
	}
	defer func() { _ = resp.Body.Close() }()
	data, err := io.ReadAll(io.LimitReader(resp.Body, longestAnswer))
	if err != nil {
		return nil, a.unreachable(err)
	}
	doc, problem := new(T), new(client.Problem)
	switch {
	case resp.StatusCode == http.StatusNoContent:
		return nil, nil
	case resp.StatusCode < 300 && json.Unmarshal(data, doc) == nil:
		return doc, nil
	case resp.StatusCode >= 400 && json.Unmarshal(data, problem) == nil && problem.Title != "":
		if err := problemError(problem); resp.StatusCode != http.StatusUnauthorized || os.Getenv(TokenVariable) == "" {
			return nil, err
		}
		return nil, fmt.Errorf("the token in %s is not in force at %s: it was revoked, has ended, or is another service's\n"+
			"make a new one with insegna token make, or unset %[1]s to use your sign-in", TokenVariable, a.address)
	}
	return nil, fmt.Errorf("the service at %s answered %s, which insegna does not understand; is it an insegna service?",
		a.address, resp.Status)
}
