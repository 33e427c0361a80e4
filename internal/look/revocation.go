package look

import (
	"bytes"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"

	"golang.org/x/crypto/ocsp"
)

// Bounds of asking a CA's responder.
const (
	responseLimit  = 64 << 10 // bytes of an answer
	responderLimit = 6 * time.Second
)

// Staple is a CA's answer that a certificate is good, for a server to send along (RFC
// 6960, RFC 6066 section 8).
type Staple struct {
	Response []byte    // DER
	Until    time.Time // newer information will be there then
	From     string    // the responder's address
}

// Staple asks the responders a certificate names whether it is good, the first one that
// answers, and keeps what a server can send along: signed for this certificate by its
// issuer or whoever that one lets, good, and in force now. The error says why there is
// nothing of that kind.
func (l *Looker) Staple(ctx context.Context, leaf, issuer *x509.Certificate, now time.Time) (*Staple, error) {
	if len(leaf.OCSPServer) == 0 {
		return nil, errors.New("the certificate names no responder")
	}
	asked, err := ocsp.CreateRequest(leaf, issuer, nil)
	if err != nil {
		return nil, fmt.Errorf("no OCSP request can be made for it: %w", err)
	}
	var failed []error
	for _, at := range leaf.OCSPServer[:min(len(leaf.OCSPServer), 3)] {
		s, err := l.responder(ctx, at, asked, leaf, issuer, now)
		if err == nil {
			return s, nil
		}
		failed = append(failed, fmt.Errorf("%s %s", clean(at), clean(err.Error())))
	}
	return nil, errors.Join(failed...)
}

// responder asks one (RFC 6960 appendix A: by POST, over plain http).
func (l *Looker) responder(ctx context.Context, at string, asked []byte, leaf, issuer *x509.Certificate,
	now time.Time) (*Staple, error) {
	if u, err := url.Parse(at); err != nil || u.Scheme != "http" || u.Host == "" {
		return nil, errors.New("is no address of a responder; http:// is expected")
	}
	ctx, cancel := context.WithTimeout(ctx, responderLimit)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, at, bytes.NewReader(asked))
	if err != nil {
		return nil, errors.New("is no address of a responder")
	}
	req.Header.Set("Content-Type", "application/ocsp-request")
	c := &http.Client{Transport: &http.Transport{DialContext: l.dialer.DialContext, DisableKeepAlives: true, MaxResponseHeaderBytes: 16 << 10},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	resp, err := c.Do(req)
	if err != nil {
		var e *url.Error
		if errors.As(err, &e) {
			err = e.Err
		}
		if isTimeout(err) {
			return nil, fmt.Errorf("did not answer within %s", responderLimit)
		}
		return nil, fmt.Errorf("does not answer: %w", err)
	}
	defer func() { _ = resp.Body.Close() }()
	der, err := io.ReadAll(io.LimitReader(resp.Body, responseLimit+1))
	switch {
	case resp.StatusCode != http.StatusOK:
		return nil, fmt.Errorf("answers with status %d", resp.StatusCode)
	case err != nil:
		return nil, fmt.Errorf("broke off: %w", err)
	case len(der) > responseLimit:
		return nil, fmt.Errorf("answers with more than %d KB", responseLimit>>10)
	}
	r, err := ocsp.ParseResponseForCert(der, leaf, issuer)
	if err != nil {
		return nil, fmt.Errorf("answers with what is no response for it: %w", err)
	}
	if err := usable(r, now); err != nil {
		return nil, err
	}
	return &Staple{Response: der, Until: r.NextUpdate.UTC(), From: at}, nil
}

// usable says why a server cannot send a response along; nil when it can.
func usable(r *ocsp.Response, now time.Time) error {
	switch {
	case r.Status == ocsp.Revoked:
		return fmt.Errorf("says that it was revoked at %s", r.RevokedAt.UTC().Format(time.RFC3339))
	case r.Status != ocsp.Good:
		return errors.New("does not know it")
	case now.Before(r.ThisUpdate.Add(-5 * time.Minute)): // clocks differ
		return fmt.Errorf("answers for a time to come, from %s on", r.ThisUpdate.UTC().Format(time.RFC3339))
	case r.NextUpdate.IsZero():
		return errors.New("does not say how long its answer is in force")
	case !now.Before(r.NextUpdate):
		return fmt.Errorf("answers with what was in force until %s", r.NextUpdate.UTC().Format(time.RFC3339))
	}
	return nil
}
