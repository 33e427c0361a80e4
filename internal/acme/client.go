package acme

import (
	"bytes"
	"cmp"
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// Bounds of what is taken from a CA.
const (
	documentLimit = 1 << 20 // bytes of a JSON document or a chain
	requestTime   = 30 * time.Second
	keptNonces    = 64
	longestPause  = 24 * time.Hour // a Retry-After beyond it is cut to it
	leastPause    = time.Second    // polls are never faster
)

// Client talks to one CA's directory. Safe for concurrent use.
type Client struct {
	at    string       // the directory's URL
	http  *http.Client // follows no redirect
	agent string       // User-Agent, which RFC 8555 section 6.1 asks for

	Pause time.Duration // first one before a request is tried again in place; a fifth of a second when 0

	mu        sync.Mutex      // guards what follows
	directory *Directory      // nil until first asked for
	asked     time.Time       // when that was
	hosts     map[string]bool // the CA's own: scheme and host of every URL in the directory
	nonces    []string        // unused ones, newest last
	spare     string          // for a reply that gets lost, so that it costs one request
}

// New makes a client for a directory's URL. agent is sent as User-Agent and
// must not be empty (RFC 8555 section 6.1).
func New(directory, agent string, transport http.RoundTripper) (*Client, error) {
	u, err := url.Parse(directory)
	if err != nil || u.Scheme != "https" || u.Host == "" {
		return nil, fmt.Errorf("the CA's directory %q is no https address", directory)
	}
	if agent == "" {
		return nil, errors.New("acme: no User-Agent")
	}
	c := &http.Client{Transport: transport, Timeout: requestTime,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	return &Client{at: directory, http: c, agent: agent, hosts: map[string]bool{originOf(u): true}}, nil
}

// originOf is scheme and host of a URL, by which it is told whether it is the
// CA's own.
func originOf(u *url.URL) string { return u.Scheme + "://" + strings.ToLower(u.Host) }

// own refuses URLs that are relative or lead away from the CA.
func (c *Client) own(at, what string) error {
	u, err := url.Parse(at)
	c.mu.Lock()
	defer c.mu.Unlock()
	if err != nil || u.Scheme != "https" || u.User != nil || !c.hosts[originOf(u)] {
		return &ReplyError{URL: c.at,
			Reason: fmt.Sprintf("it gives %q as %s, which is no https address of the CA", clip(at), what)}
	}
	return nil
}

// clip bounds what a CA says of itself to 200 bytes of valid text, for errors
// and records.
func clip(s string) string {
	if len(s) > 200 {
		return strings.ToValidUTF8(s[:200], "") + "…"
	}
	return strings.ToValidUTF8(s, "�")
}

// directoryLife is for how long a directory is not asked for again; a CA moves
// its addresses and changes its terms seldom, and means it then.
const directoryLife = time.Hour

// Directory gives what the CA offers, asked for now and then.
func (c *Client) Directory(ctx context.Context) (*Directory, error) {
	c.mu.Lock()
	known, asked := c.directory, c.asked
	c.mu.Unlock()
	if known != nil && time.Since(asked) < directoryLife {
		return known, nil
	}
	d, err := c.Fresh(ctx)
	if _, passing := Passing(err); passing && known != nil {
		return known, nil // the CA is unwell; what it said last goes on
	}
	return d, err
}

// Fresh gives what the CA offers as it says now, its terms among it.
func (c *Client) Fresh(ctx context.Context) (*Directory, error) {
	var d Directory
	if err := c.get(ctx, c.at, func(r *reply) error { return r.decode(c.at, &d) }); err != nil {
		return nil, err
	}
	hosts := map[string]bool{}
	for what, at := range map[string]string{"newNonce": d.NewNonce, "newAccount": d.NewAccount, "newOrder": d.NewOrder,
		"revokeCert": d.RevokeCert, "keyChange": d.KeyChange, "renewalInfo": d.RenewalInfo} {
		u, err := url.Parse(at)
		if at == "" && (what == "renewalInfo" || what == "keyChange" || what == "revokeCert") {
			continue
		}
		if err != nil || u.Scheme != "https" || u.Host == "" {
			return nil, &ReplyError{URL: c.at, Reason: fmt.Sprintf("its %s is %q, which is no https address", what, clip(at))}
		}
		hosts[originOf(u)] = true
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for h := range hosts {
		c.hosts[h] = true
	}
	c.directory, c.asked = &d, time.Now()
	return &d, nil
}

// Bounds of trying again in place.
const (
	inPlace      = 6                // times a request is sent
	inPlaceTime  = 45 * time.Second // since the first time
	inPlacePause = 200 * time.Millisecond
	inPlaceMost  = 10 * time.Second // that a CA may ask to be waited for
	nonceTries   = 6                // refusals in a row
)

// patiently repeats a request whose fault may pass, with growing pauses or the
// one the CA asks for; only for requests that change nothing, or that the CA
// recognises. Whoever does not answer within a request's time, or is not there at
// all, is left to the order's own patience.
func (c *Client) patiently(ctx context.Context, do func() error) error {
	for began, try := time.Now(), 1; ; try++ {
		err := do()
		again, passing := Passing(err)
		if !passing || ctx.Err() != nil || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) ||
			try == inPlace || try > 1 && errors.Is(err, syscall.ECONNREFUSED) || time.Since(began) > inPlaceTime {
			return err
		}
		pause := time.Duration(0)
		if try > 1 {
			pause = cmp.Or(c.Pause, inPlacePause) << (try - 2)
		}
		if wanted := time.Until(again); wanted > inPlaceMost {
			return err
		} else if wanted > pause {
			pause = wanted
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// reply is an answer within bounds.
type reply struct {
	status int         // of HTTP
	header http.Header // its Location, Link, Retry-After and Replay-Nonce are read
	body   []byte      // within the bounds for size
}

// send makes one request and reads its answer within the bounds for size and
// time. Nonces that came along are kept; a request that got no answer is a
// LostError.
func (c *Client) send(ctx context.Context, method, at string, body []byte) (reply, error) {
	req, err := http.NewRequestWithContext(ctx, method, at, bytes.NewReader(body))
	if err != nil {
		return reply{}, err
	}
	req.Header.Set("User-Agent", c.agent)
	if method == http.MethodPost {
		req.Header.Set("Content-Type", "application/jose+json")
	}
	resp, err := c.http.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return reply{}, ctx.Err()
		}
		return reply{}, &LostError{at, err}
	}
	defer func() { _ = resp.Body.Close() }()
	data, err := io.ReadAll(io.LimitReader(resp.Body, documentLimit+1))
	out := reply{resp.StatusCode, resp.Header, data}
	if n := out.nonce(); n != "" && method != http.MethodHead {
		c.keep(n)
	}
	if err != nil {
		if ctx.Err() != nil {
			return reply{}, ctx.Err()
		}
		return reply{}, &LostError{at, err}
	}
	if len(data) > documentLimit {
		return reply{}, &ReplyError{URL: at, Reason: fmt.Sprintf("it is larger than %d KB", documentLimit>>10)}
	}
	return out, nil
}

// longestNonce bounds what is taken for a nonce, in bytes.
const longestNonce = 1024

// nonce gives what a reply brings for the next request (RFC 8555 section 6.5.1); "" for none.
func (r *reply) nonce() string {
	if n := r.header.Get("Replay-Nonce"); len(n) <= longestNonce {
		return n
	}
	return ""
}

// decode parses an answer; one that cannot be parsed is the CA's fault and said
// to be.
func (r *reply) decode(at string, into any) error {
	if err := json.Unmarshal(r.body, into); err != nil {
		return &ReplyError{URL: at, Reason: "it is no document of the expected form (" + clip(err.Error()) + ")",
			Passing: true}
	}
	return nil
}

// problem makes an error of an answer that is not the one hoped for.
func (r *reply) problem(at string) error {
	var p Problem
	if r.status >= 400 && strings.HasPrefix(r.header.Get("Content-Type"), "application/problem+json") &&
		json.Unmarshal(r.body, &p) == nil {
		p.Status = r.status
		p.RetryAfter = r.retryAfter(time.Now(), 0)
		return &p
	}
	if r.status == http.StatusTooManyRequests {
		return &Problem{Type: errorPrefix + "rateLimited",
			Detail: fmt.Sprintf("it answers with status %d and no reason", r.status), Status: r.status,
			RetryAfter: r.retryAfter(time.Now(), 0)}
	}
	return &ReplyError{URL: at, Reason: fmt.Sprintf("it has status %d and is no problem document", r.status),
		Passing: r.status >= http.StatusInternalServerError, RetryAfter: r.retryAfter(time.Now(), 0)}
}

// retryAfter reads the header of that name in both forms (RFC 9110 section
// 10.2.3); without one the time is now and the least pause.
func (r *reply) retryAfter(now time.Time, least time.Duration) time.Time {
	pause := time.Duration(0)
	text := r.header.Get("Retry-After")
	if seconds, err := strconv.Atoi(text); err == nil && seconds > 0 {
		pause = time.Duration(min(seconds, int(longestPause/time.Second))) * time.Second
	} else if at, err := http.ParseTime(text); err == nil {
		pause = min(at.Sub(now), longestPause)
	}
	if pause = max(pause, least); pause <= 0 {
		return time.Time{}
	}
	return now.Add(pause)
}

// keep puts a fresh nonce by for the next request (RFC 8555 section 6.5). Only
// a few are kept: a CA forgets them after a while.
func (c *Client) keep(nonce string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.nonces) < keptNonces {
		c.nonces = append(c.nonces, nonce)
	}
}

// nonce takes one of those kept, or asks (section 7.2): for two, so that a lost reply,
// which brings none, costs no request for the next.
func (c *Client) nonce(ctx context.Context, d *Directory) (string, error) {
	take := func() string {
		c.mu.Lock()
		defer c.mu.Unlock()
		if n := len(c.nonces); n > 0 {
			nonce := c.nonces[n-1]
			c.nonces = c.nonces[:n-1]
			return nonce
		}
		return ""
	}
	if n := take(); n != "" {
		return n, nil
	}
	c.mu.Lock()
	spare := c.spare
	c.spare = ""
	c.mu.Unlock()
	if spare != "" {
		return spare, nil
	}
	nonce, err := c.freshNonce(ctx, d)
	if err != nil {
		return "", err
	}
	if spare, err := c.freshNonce(ctx, d); err == nil {
		c.mu.Lock()
		c.spare = spare
		c.mu.Unlock()
	}
	return nonce, nil
}

// freshNonce asks for a nonce. What comes is for who has asked: others take those kept.
func (c *Client) freshNonce(ctx context.Context, d *Directory) (string, error) {
	var r reply
	if err := c.patiently(ctx, func() (err error) {
		if r, err = c.send(ctx, http.MethodHead, d.NewNonce, nil); err == nil && r.status >= 400 {
			err = &ReplyError{URL: d.NewNonce, Reason: fmt.Sprintf("asked for a nonce, it has status %d", r.status),
				Passing: r.status >= http.StatusInternalServerError, RetryAfter: r.retryAfter(time.Now(), 0)}
		}
		return err
	}); err != nil {
		return "", err
	}
	if nonce := r.nonce(); nonce != "" {
		return nonce, nil
	}
	return "", &ReplyError{URL: d.NewNonce, Reason: "it brings no nonce"}
}

// Signer is who signs requests: an account's key, and its URL once it has one.
type Signer struct {
	Key crypto.Signer // of the account, or the one signed with before there is one
	URL string        // "" shows the key itself, for newAccount and revoking by certificate key
}

// algorithm chooses the signature by the kind of key (RFC 7518 section 3.1, RFC
// 8037); other kinds are refused before anything is sent.
func algorithm(key crypto.Signer) (jose.SignatureAlgorithm, error) {
	switch k := key.Public().(type) {
	case *ecdsa.PublicKey:
		switch k.Curve {
		case elliptic.P256():
			return jose.ES256, nil
		case elliptic.P384():
			return jose.ES384, nil
		}
	case ed25519.PublicKey:
		return jose.EdDSA, nil
	case *rsa.PublicKey:
		return jose.RS256, nil
	}
	return "", fmt.Errorf("acme: no signature with a key of type %T", key.Public())
}

// sign makes the body of a request (section 6.2). An empty payload is
// POST-as-GET (section 6.3).
func sign(s Signer, at, nonce string, payload []byte) ([]byte, error) {
	alg, err := algorithm(s.Key)
	if err != nil {
		return nil, err
	}
	o := (&jose.SignerOptions{EmbedJWK: s.URL == ""}).WithHeader("url", at)
	if nonce != "" {
		o = o.WithHeader("nonce", nonce)
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: alg, Key: jose.JSONWebKey{Key: s.Key, KeyID: s.URL}}, o)
	if err != nil {
		return nil, err
	}
	signed, err := signer.Sign(payload)
	if err != nil {
		return nil, err
	}
	return []byte(signed.FullSerialize()), nil
}

// get asks for what needs no account, and reads it.
func (c *Client) get(ctx context.Context, at string, read func(*reply) error) error {
	return c.patiently(ctx, func() error {
		r, err := c.send(ctx, http.MethodGet, at, nil)
		if err == nil && r.status != http.StatusOK {
			err = r.problem(at)
		}
		if err != nil {
			return err
		}
		return read(&r)
	})
}

// post sends a signed request and reads its answer. A fault that may pass is
// ridden out: each request that comes this way may be repeated, the CA recognises
// what it has done before.
func (c *Client) post(ctx context.Context, s Signer, at string, payload any, read func(*reply) error) error {
	return c.patiently(ctx, func() error {
		r, err := c.ask(ctx, s, at, payload)
		if err != nil {
			return err
		}
		return read(&r)
	})
}

// unread takes an answer of which nothing is needed.
func unread(*reply) error { return nil }

// ask sends a signed request once, as far as the CA is concerned: one it refuses
// for its nonce (section 6.5) was not done, and is sent with a fresh one.
func (c *Client) ask(ctx context.Context, s Signer, at string, payload any) (reply, error) {
	d, err := c.Directory(ctx)
	if err != nil {
		return reply{}, err
	}
	body := []byte{} // POST-as-GET has an empty payload, not none
	if payload != nil {
		if body, err = json.Marshal(payload); err != nil {
			return reply{}, err
		}
	}
	for try := 1; ; try++ {
		nonce, err := c.nonce(ctx, d)
		if err != nil {
			return reply{}, err
		}
		signed, err := sign(s, at, nonce, body)
		if err != nil {
			return reply{}, err
		}
		r, err := c.send(ctx, http.MethodPost, at, signed)
		if err != nil || r.status < 400 {
			return r, err
		}
		err = r.problem(at)
		var p *Problem
		if try == nonceTries || !errors.As(err, &p) || p.Kind() != "badNonce" {
			return r, err
		}
	}
}

// location gives the address of what was made, which a CA may write relative to
// the one asked (RFC 9110 section 10.2.2).
func (c *Client) location(at string, r *reply, what string) (string, error) {
	to := r.header.Get("Location")
	if base, err := url.Parse(at); err == nil && to != "" {
		if u, err := base.Parse(to); err == nil {
			to = u.String()
		}
	}
	return to, c.own(to, what)
}

// Pause waits until a time, at least the shortest pause between polls, or
// until the context ends.
func Pause(ctx context.Context, until time.Time) error {
	t := time.NewTimer(max(time.Until(until), leastPause))
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
