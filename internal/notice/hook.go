package notice

import (
	"bytes"
	"cmp"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"time"
)

// Hook is a program that is told.
type Hook struct {
	Address string         // http or https
	Secret  []byte         // messages are signed with
	Roots   *x509.CertPool // https is trusted by; nil for the system's
	Within  time.Duration  // all of it; 0 for the usual
}

// Headers of a message to a program.
const (
	TimestampHeader = "Insegna-Timestamp" // seconds since 1970
	SignatureHeader = "Insegna-Signature" // see Sign
	MessageHeader   = "Insegna-Message"   // its number, the same for each try
)

// Sign is the signature of a message: "sha256=" and in hexadecimal the HMAC-SHA-256 (RFC 2104)
// of the timestamp, a dot and the body.
func Sign(secret []byte, timestamp string, body []byte) string {
	mac := hmac.New(sha256.New, secret)
	mac.Write([]byte(timestamp + "."))
	mac.Write(body)
	return "sha256=" + hex.EncodeToString(mac.Sum(nil))
}

// host is whose address it is: the rest may be a secret.
func (h *Hook) host() string {
	u, err := url.Parse(h.Address)
	if err != nil {
		return "the webhook"
	}
	return u.Host
}

// hostOf is whose address something is.
func hostOf(address string) string { return (&Hook{Address: address}).host() }

// Send posts a message, signed. What is answered with 2xx is delivered; a redirect is not
// followed, for it would take the message to who was never named. The error is an
// *Undelivered.
func (h *Hook) Send(ctx context.Context, number int64, body []byte, now time.Time) error {
	ctx, cancel := context.WithTimeout(ctx, cmp.Or(h.Within, Within))
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, h.Address, bytes.NewReader(body))
	if err != nil {
		return &Undelivered{Words: h.host() + " is no address", Refused: true, Cause: err}
	}
	timestamp := strconv.FormatInt(now.Unix(), 10)
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("User-Agent", "insegna")
	r.Header.Set(TimestampHeader, timestamp)
	r.Header.Set(SignatureHeader, Sign(h.Secret, timestamp, body))
	r.Header.Set(MessageHeader, strconv.FormatInt(number, 10))
	transport := &http.Transport{DisableKeepAlives: true, MaxResponseHeaderBytes: saidMost, DialContext: (&net.Dialer{}).DialContext,
		TLSClientConfig: &tls.Config{RootCAs: h.Roots, MinVersion: tls.VersionTLS12}}
	client := &http.Client{Transport: transport,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	resp, err := client.Do(r)
	if err != nil {
		if errors.Is(ctx.Err(), context.DeadlineExceeded) {
			return &Undelivered{Words: fmt.Sprintf("%s did not answer within %s", h.host(), cmp.Or(h.Within, Within)), Cause: err}
		}
		if said := (*url.Error)(nil); errors.As(err, &said) {
			err = said.Err // it would say the whole address
		}
		return &Undelivered{Words: oneLine(h.host() + ": " + err.Error()), Cause: err}
	}
	defer func() { _ = resp.Body.Close() }()
	said, _ := io.ReadAll(io.LimitReader(resp.Body, 300)) // a few words, if any
	switch {
	case resp.StatusCode/100 == 2:
		return nil
	case resp.StatusCode/100 == 3:
		return &Undelivered{Words: fmt.Sprintf("%s answers %s to %s, which is not followed", h.host(), resp.Status,
			oneLine(hostOf(resp.Header.Get("Location")))), Refused: true}
	}
	return &Undelivered{Words: oneLine(fmt.Sprintf("%s answers %s %s", h.host(), resp.Status, said)),
		Refused: resp.StatusCode == http.StatusGone || resp.StatusCode == http.StatusNotFound}
}
