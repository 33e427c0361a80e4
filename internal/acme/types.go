// Package acme is the client side of the ACME protocol: RFC 8555, with renewal
// information (RFC 9773).
//
// It knows the protocol and nothing else: how a challenge is answered is for
// acme/proof, what is ordered when is for issue. Everything a CA says is
// hostile: sizes and times are bounded, URLs are held to the CA's own hosts,
// and a certificate is checked before it is given out.
package acme

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"
)

// Directory is what a CA offers and where (RFC 8555 section 7.1.1).
type Directory struct {
	NewNonce    string `json:"newNonce"`    // HEAD gives a nonce
	NewAccount  string `json:"newAccount"`  // also finds one by its key
	NewOrder    string `json:"newOrder"`    // begins an order
	RevokeCert  string `json:"revokeCert"`  // by account or by the certificate's key
	KeyChange   string `json:"keyChange"`   // replaces an account's key
	RenewalInfo string `json:"renewalInfo"` // RFC 9773; "" when it is not offered
	Meta        Meta   `json:"meta"`
}

// Meta is what a CA says about itself.
type Meta struct {
	TermsOfService string `json:"termsOfService"` // URL, which changes when they do
	Website        string `json:"website"`        // for people
	// names that let this CA issue, in CAA records
	CAAIdentities           []string `json:"caaIdentities"`
	ExternalAccountRequired bool     `json:"externalAccountRequired"` // accounts must be bound to a customer
	// kinds of certificate by name, with a description
	Profiles map[string]string `json:"profiles"`
}

// Status of an account, order, authorization or challenge (section 7.1.6).
type Status string

// Statuses.
const (
	Pending     Status = "pending"
	Ready       Status = "ready"
	Processing  Status = "processing"
	Valid       Status = "valid"
	Invalid     Status = "invalid"
	Deactivated Status = "deactivated"
	Expired     Status = "expired"
	Revoked     Status = "revoked"
)

// Kinds of identifier.
const (
	DNS = "dns" // RFC 8555
	IP  = "ip"  // RFC 8738
)

// Identifier is a name a certificate is asked for.
type Identifier struct {
	Type  string `json:"type"`  // DNS or IP
	Value string `json:"value"` // a name in ASCII, in an order perhaps a wildcard; or an address (RFC 5952)
}

// String is the name alone, as people see it.
func (i Identifier) String() string { return i.Value }

// Account is a CA's record of its customer (section 7.1.2).
type Account struct {
	URL     string   `json:"-"`       // its kid
	Status  Status   `json:"status"`  // valid, deactivated or revoked
	Contact []string `json:"contact"` // mailto URLs
	Orders  string   `json:"orders"`  // URL of its list of orders; many CAs keep none
}

// Order is a request for a certificate (section 7.1.3).
type Order struct {
	URL            string       `json:"-"`              // from Location
	Status         Status       `json:"status"`         // pending, ready, processing, valid or invalid
	Expires        time.Time    `json:"expires"`        // when the CA forgets it
	Identifiers    []Identifier `json:"identifiers"`    // as the CA has them
	Authorizations []string     `json:"authorizations"` // URLs, one for each name
	Finalize       string       `json:"finalize"`       // URL the certificate request goes to
	Certificate    string       `json:"certificate"`    // URL, once valid
	Replaces       string       `json:"replaces"`       // id of the certificate it takes the place of
	Error          *Problem     `json:"error"`          // why it is invalid
	RetryAfter     time.Time    `json:"-"`              // not to be asked again before
}

// Authorization says how control of one identifier is shown (section 7.1.4).
type Authorization struct {
	URL        string      `json:"-"`          // its own address
	Identifier Identifier  `json:"identifier"` // without the wildcard's label
	Status     Status      `json:"status"`     // pending, valid, invalid, deactivated, expired or revoked
	Expires    time.Time   `json:"expires"`    // until when a valid one counts
	Wildcard   bool        `json:"wildcard"`   // the order has *. before the name
	Challenges []Challenge `json:"challenges"` // any one of them is enough
	RetryAfter time.Time   `json:"-"`          // when the CA wants to be asked again
}

// Kinds of challenge.
const (
	HTTP01    = "http-01"     // RFC 8555 section 8.3
	DNS01     = "dns-01"      // RFC 8555 section 8.4
	TLSALPN01 = "tls-alpn-01" // RFC 8737
)

// Challenge is one way to show control.
type Challenge struct {
	Type      string    `json:"type"`      // such as http-01
	URL       string    `json:"url"`       // accepting it is a request there
	Status    Status    `json:"status"`    // pending, processing, valid or invalid
	Token     string    `json:"token"`     // base64url, from the CA
	Validated time.Time `json:"validated"` // when the CA saw the proof
	Error     *Problem  `json:"error"`     // what it saw instead
}

// Challenge gives the challenge of a kind; nil when it is not offered.
func (a *Authorization) Challenge(kind string) *Challenge {
	for i := range a.Challenges {
		if a.Challenges[i].Type == kind {
			return &a.Challenges[i]
		}
	}
	return nil
}

// Offered names the kinds of challenge offered.
func (a *Authorization) Offered() string {
	kinds := make([]string, len(a.Challenges))
	for i, c := range a.Challenges {
		kinds[i] = c.Type
	}
	return strings.Join(kinds, ", ")
}

// Problem is an error in a CA's own words (RFC 7807, RFC 8555 section 6.7).
type Problem struct {
	Type        string      `json:"type"`                  // a URN of the protocol, or another URL
	Title       string      `json:"title,omitempty"`       // short
	Detail      string      `json:"detail"`                // the CA's own words
	Status      int         `json:"status,omitempty"`      // of HTTP
	Identifier  *Identifier `json:"identifier,omitempty"`  // the name concerned, in a subproblem
	Instance    string      `json:"instance,omitempty"`    // a page about this very occurrence (RFC 8555 section 7.3.3)
	Subproblems []Problem   `json:"subproblems,omitempty"` // one for each name (RFC 8555 section 6.7.1)
	RetryAfter  time.Time   `json:"-"`                     // zero when the CA gave none
}

// errorPrefix begins every type of error the protocol knows (RFC 8555 section
// 6.7).
const errorPrefix = "urn:ietf:params:acme:error:"

// Kind is the type without its usual beginning, such as "rateLimited".
func (p *Problem) Kind() string { return strings.TrimPrefix(p.Type, errorPrefix) }

// Limits says whether the CA wants fewer requests (RFC 8555 section 6.6, RFC 6585
// section 4).
func (p *Problem) Limits() bool {
	return p.Kind() == "rateLimited" || p.Status == http.StatusTooManyRequests
}

// wordsLimit bounds what is kept of a CA's own words, in bytes.
const wordsLimit = 2000

// Words are the CA's own, at most 2000 bytes of them.
func (p *Problem) Words() string {
	words := p.Detail
	if words == "" {
		words = p.Title
	}
	if words == "" {
		words = p.Type
	}
	if p.Instance != "" {
		words += " (see " + clip(p.Instance) + ")"
	}
	for _, s := range p.Subproblems {
		if len(words) > wordsLimit {
			break
		}
		if s.Identifier != nil {
			words += "; " + s.Identifier.Value + ": " + s.Words()
		} else {
			words += "; " + s.Words()
		}
	}
	if len(words) > wordsLimit {
		words = words[:wordsLimit] + "…"
	}
	return strings.ToValidUTF8(words, "�")
}

// Error has the CA's own words, which often are the only help there is.
func (p *Problem) Error() string { return fmt.Sprintf("the CA says %s: %s", p.Kind(), p.Words()) }

// ReplyError says that a CA answered with something the protocol does not
// know.
type ReplyError struct {
	URL, Reason string
	// the CA is unwell for the moment, or what it said was cut: asked again it may
	// answer; otherwise that is of no use until the CA mends it
	Passing    bool
	RetryAfter time.Time // zero when it gave none
}

// Error says which answer could not be used, and why.
func (e *ReplyError) Error() string {
	return fmt.Sprintf("the CA's answer from %s cannot be used: %s", e.URL, e.Reason)
}

// LostError says that no answer came; what was asked may have been done.
type LostError struct {
	URL string // what was asked
	Err error  // of the network
}

// Error leaves open whether the CA did what was asked.
func (e *LostError) Error() string { return fmt.Sprintf("no answer from %s: %v", e.URL, e.Err) }

// Unwrap gives the network's error.
func (e *LostError) Unwrap() error { return e.Err }

// Passing says whether an error is one of the moment: no answer, a server that is
// unwell or overloaded (RFC 9110 section 15.6), an answer that was cut, a nonce
// that was refused again and again. The time is when the CA wants to be asked
// again; zero when it does not say.
func Passing(err error) (again time.Time, passing bool) {
	var lost *LostError
	var bad *ReplyError
	var p *Problem
	switch {
	case errors.As(err, &lost):
		return time.Time{}, true
	case errors.As(err, &bad):
		return bad.RetryAfter, bad.Passing
	case errors.As(err, &p):
		return p.RetryAfter, p.Status >= http.StatusInternalServerError || p.Kind() == "serverInternal" ||
			p.Kind() == "badNonce"
	}
	return time.Time{}, false
}

// lenient is a time that may be left out or be in no known form.
type lenient struct{ time.Time }

// UnmarshalJSON implements json.Unmarshaler.
func (l *lenient) UnmarshalJSON(data []byte) error {
	var text string
	if json.Unmarshal(data, &text) == nil {
		l.Time, _ = time.Parse(time.RFC3339, text)
	}
	return nil
}
