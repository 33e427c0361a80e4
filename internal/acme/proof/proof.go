// Package proof puts up what shows control of names, and takes it down again:
// files below a well-known path (RFC 8555 section 8.3) and DNS records (section
// 8.4) by update (RFC 2136, RFC 8945).
// It answers proofs over TLS (RFC 8737) itself.
//
// What is put up is noted by the caller before, so that it can be taken down
// after a failure or a death. Publishing twice and withdrawing what is not
// there are fine.
package proof

import (
	"context"
	"fmt"
	"strings"
)

// Publication is one proof.
type Publication struct {
	Kind    string // acme.HTTP01, acme.DNS01 or acme.TLSALPN01
	Name    string // the host, without the wildcard label
	Token   string // http: the file's name
	Content string // of the file, or of the record; tls-alpn: the key authorization
}

// WellKnown is the path of http proofs, with a slash at its end.
const WellKnown = "/.well-known/acme-challenge/"

// Label stands before a name for DNS proofs.
const Label = "_acme-challenge."

// Place says where a proof is to be seen.
func (p Publication) Place() string {
	if p.Kind == "tls-alpn-01" {
		return "TLS with " + ALPN + " for " + ServerName(p.Name)
	}
	if p.Token != "" {
		return "http://" + HostOf(p.Name) + WellKnown + p.Token
	}
	return "TXT " + Label + p.Name
}

// HostOf writes a name as an address of the web has it: an IPv6 address in brackets (RFC
// 3986 section 3.2.2).
func HostOf(name string) string {
	if strings.Contains(name, ":") {
		return "[" + name + "]"
	}
	return name
}

// Prover is one way to show control.
type Prover interface {
	Publish(ctx context.Context, list []Publication) error
	// Await waits until what was published can be seen wherever the CA may look.
	Await(ctx context.Context, list []Publication) error
	Withdraw(ctx context.Context, list []Publication) error
}

// Kept is a Prover that has nothing to do: what is kept in the records stands already.
type Kept interface{ Kept() }

// PublishError says what could not be put up or taken down, and where.
type PublishError struct {
	What, Where string // what was tried, and where
	Err         error  // why it failed
}

// Error names what was tried, and where.
func (e *PublishError) Error() string {
	return fmt.Sprintf("cannot %s at %s: %v", e.What, e.Where, e.Err)
}

// Unwrap gives the reason.
func (e *PublishError) Unwrap() error { return e.Err }
