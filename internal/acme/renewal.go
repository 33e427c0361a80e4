package acme

import (
	"context"
	"encoding/base64"
	"strings"
	"time"

	"insegna.example/internal/core/certs"
)

// RenewalInfo is when a CA wants a certificate replaced (RFC 9773 section 4.2).
type RenewalInfo struct {
	Start, End  time.Time // of the window, in which a time is chosen at random
	Explanation string    // a page that says why, "" for none
	AskAgain    time.Time // not before
}

// CertificateID names a certificate towards its CA: from its authority key
// identifier and serial (RFC 9773 section 4.1); "" when it has none.
func CertificateID(c *certs.Certificate) string {
	if len(c.AuthorityKeyId) == 0 || c.SerialNumber == nil {
		return ""
	}
	serial := c.SerialNumber.Bytes()
	if len(serial) == 0 || serial[0]&0x80 != 0 {
		serial = append([]byte{0}, serial...) // as in DER
	}
	e := base64.RawURLEncoding
	return e.EncodeToString(c.AuthorityKeyId) + "." + e.EncodeToString(serial)
}

// Bounds of asking again (RFC 9773 section 4.3.2).
const (
	askUsual    = 6 * time.Hour
	askShortest = time.Minute
)

// RenewalInfo asks when a certificate should be replaced; nil when the CA does
// not say.
func (c *Client) RenewalInfo(ctx context.Context, id string) (*RenewalInfo, error) {
	d, err := c.Directory(ctx)
	if err != nil || d.RenewalInfo == "" || id == "" {
		return nil, err
	}
	at := strings.TrimSuffix(d.RenewalInfo, "/") + "/" + id
	var r reply
	var doc struct {
		SuggestedWindow struct {
			Start lenient `json:"start"`
			End   lenient `json:"end"`
		} `json:"suggestedWindow"`
		ExplanationURL string `json:"explanationURL"`
	}
	if err := c.get(ctx, at, func(got *reply) error { r = *got; return r.decode(at, &doc) }); err != nil {
		return nil, err
	}
	w := doc.SuggestedWindow
	if w.Start.IsZero() || !w.End.After(w.Start.Time) {
		return nil, &ReplyError{URL: at, Reason: "the window to renew in has no end after its start"}
	}
	now := time.Now()
	i := &RenewalInfo{Start: w.Start.UTC(), End: w.End.UTC(), Explanation: clip(doc.ExplanationURL),
		AskAgain: r.retryAfter(now, 0)}
	if i.AskAgain.IsZero() {
		i.AskAgain = now.Add(askUsual)
	}
	if least := now.Add(askShortest); i.AskAgain.Before(least) {
		i.AskAgain = least
	}
	return i, nil
}
