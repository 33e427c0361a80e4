// Package names decides which certificate covers which host (RFC 9525), and
// says why another one does not.
//
// Host names are compared as A-labels (IDNA, RFC 5890), without case, against
// the subject alternative names only; the common name never counts.
package names

import (
	"fmt"
	"net/netip"
	"strings"

	"golang.org/x/net/idna"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/fault"
)

// HostError says why a text is not a host name.
type HostError struct{ Host, Reason string }

// Error names the host, why it is none, and what one looks like.
func (e *HostError) Error() string {
	shown := e.Host
	if len(shown) > hostShown {
		shown = strings.ToValidUTF8(shown[:hostShown], "") + "…"
	}
	return fmt.Sprintf("%q is not a host name: %s; expected a DNS name such as booking.lanterncoast.example or an IP "+
		"address", shown, e.Reason)
}

// hostShown bounds what an error repeats of a text, in bytes.
const hostShown = 100

// longest is how many bytes a host name has at most (RFC 1035 section 2.3.4,
// without the length of the root), and longestTyped how many one has as it is
// typed: each of its signs takes at least one byte in the ASCII form and at most
// four in UTF-8.
const (
	longest      = 253
	longestTyped = 4*longest + 1 // with a final dot
)

// Told implements fault.Error.
func (e *HostError) Told() fault.Told {
	return fault.Told{Class: fault.BadRequest, Title: "Bad request", Next: ""}
}

// Host brings a host name or IP address to the form it is compared and stored
// in: A-labels in lower case without the final dot, or the address's shortest
// text. A wildcard is no host. The error is a *HostError.
func Host(s string) (string, error) {
	if ip, err := netip.ParseAddr(strings.Trim(s, "[]")); err == nil {
		return ip.Unmap().WithZone("").String(), nil
	}
	if len(s) > longestTyped { // before anything that takes long over long texts
		return "", &HostError{s, tooLong}
	}
	ascii := strings.TrimSuffix(s, ".")
	if !plainASCII(ascii) {
		var err error
		if ascii, err = idna.Lookup.ToASCII(ascii); err != nil {
			return "", &HostError{s, "not a valid international name (" + err.Error() + ")"}
		}
	}
	ascii = strings.ToLower(ascii)
	if reason := invalid(ascii); reason != "" {
		return "", &HostError{s, reason}
	}
	return ascii, nil
}

// tooLong is the reason against a name beyond its length.
var tooLong = fmt.Sprintf("it is longer than %d bytes", longest)

// plainASCII says whether a name needs no translation to its ASCII form.
func plainASCII(s string) bool {
	for i := range len(s) {
		if s[i] >= 0x80 {
			return false
		}
	}
	return true
}

// invalid gives the reason a lower-case ASCII name is no host name, or "".
// Labels are LDH (RFC 5890 section 2.3.1); the underscore is allowed because
// real estates hold such names.
func invalid(s string) string {
	if s == "" {
		return "it is empty"
	}
	if len(s) > longest {
		return tooLong
	}
	for label := range strings.SplitSeq(s, ".") {
		switch {
		case label == "":
			return "it has an empty label"
		case len(label) > 63:
			return "a label is longer than 63 bytes"
		case label[0] == '-' || label[len(label)-1] == '-':
			return "a label begins or ends with a hyphen"
		}
		for _, c := range []byte(label) {
			if !(c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '-' || c == '_') {
				return fmt.Sprintf("character %q is not allowed", c)
			}
		}
	}
	return ""
}

// Coverage is the answer to "does this certificate cover this host?".
type Coverage struct {
	Covered bool   // one entry matches
	By      string // the name that matched, as written in the certificate
	Near    string // when not covered: the reason the closest name does not match, "" when none is close
}

// Covers compares a certificate's subject alternative names with a host in
// the form Host gives (RFC 9525 section 6).
func Covers(c *certs.Certificate, host string) Coverage {
	if ip, err := netip.ParseAddr(host); err == nil {
		return coversIP(c, ip)
	}
	for _, name := range c.DNSNames {
		if matches(name, host) {
			return Coverage{Covered: true, By: name}
		}
	}
	return Coverage{Near: nearest(c, host)}
}

// coversIP compares addresses as addresses, never as text (RFC 9525 section
// 6.3): one among the DNS names counts for nothing, and is told as a near miss.
func coversIP(c *certs.Certificate, ip netip.Addr) Coverage {
	for _, raw := range c.IPAddresses {
		if got, ok := netip.AddrFromSlice(raw); ok && got.Unmap() == ip {
			return Coverage{Covered: true, By: ip.String()}
		}
	}
	for _, name := range c.DNSNames {
		if name == ip.String() {
			return Coverage{Near: "the address stands among the DNS names; it must be an IP address entry"}
		}
	}
	return Coverage{}
}

// matches compares one presented DNS name with a host. A wildcard is the
// whole left-most label and stands for exactly one label (RFC 9525 section
// 6.3); a name with any other byte than letters, digits, hyphen and
// underscore, or with the dot of the root, matches nothing.
func matches(presented, host string) bool {
	rest, wild := strings.CutPrefix(presented, "*.")
	if wild {
		first, tail, ok := strings.Cut(host, ".")
		if !ok || first == "" || !strings.Contains(rest, ".") {
			return false
		}
		host = tail
	}
	return len(rest) == len(host) && strings.EqualFold(rest, host) && invalid(strings.ToLower(rest)) == ""
}

// nearest finds the name that comes closest to a host that is not covered, and
// says why it is not enough, so that the cause explains itself.
func nearest(c *certs.Certificate, host string) string {
	for _, name := range c.DNSNames {
		base, wild := strings.CutPrefix(strings.ToLower(strings.TrimSuffix(name, ".")), "*.")
		switch {
		case base == host && strings.HasSuffix(name, "."):
			return fmt.Sprintf("%s is listed with a final dot, which clients do not take in a certificate", name)
		case wild && base == host:
			return fmt.Sprintf("the wildcard %s does not cover %s itself", name, base)
		case wild && !strings.Contains(base, ".") && strings.HasSuffix(host, "."+base):
			return fmt.Sprintf("the wildcard %s stands directly under a top-level domain, which no client accepts", name)
		case wild && strings.HasSuffix(host, "."+base):
			return fmt.Sprintf("the wildcard %s covers one label only", name)
		case "www."+base == host:
			return fmt.Sprintf("%s is listed, www.%s is not", name, base)
		case base == "www."+host:
			return fmt.Sprintf("%s is listed, %s without www is not", name, host)
		}
	}
	if cn := strings.ToLower(c.Subject.CommonName); cn == host && len(c.DNSNames) == 0 {
		return "the name stands in the common name only, and no client reads that; it must be a subject alternative name"
	}
	return ""
}
