// Package binding compares the faces of a binding (one host name at one
// endpoint with one certificate) and gives the verdict.
//
// It holds what a look brings back (Observation) and the faces (Faces); the
// rules that turn an observation into findings are in core/check.
package binding

import (
	"fmt"
	"time"
)

// Outcome says how a look at an endpoint ended.
type Outcome string

// Every way a look can end, each told apart from the others.
const (
	Connected   Outcome = "connected"   // a handshake that brought certificates
	Refused     Outcome = "refused"     // the machine answers, nothing listens
	Filtered    Outcome = "filtered"    // no answer at all
	Unreachable Outcome = "unreachable" // the network says there is no way
	Reset       Outcome = "reset"       // connection torn down
	Closed      Outcome = "closed"      // connection ended before a certificate came
	Silent      Outcome = "silent"      // accepted, and not a byte until the deadline
	Slow        Outcome = "slow"        // bytes came, but no certificate until the deadline
	PlainHTTP   Outcome = "plain-http"  // speaks http where TLS was expected
	NotTLS      Outcome = "not-tls"     // speaks something else
	Alert       Outcome = "alert"       // the server refused with a TLS alert
	Malformed   Outcome = "malformed"   // TLS that breaks the rules
	TooLarge    Outcome = "too-large"   // more certificate material than is kept
)

// Observation is what one look brought back, valid or not.
type Observation struct {
	Outcome Outcome  // how far the look came
	Alert   uint8    // RFC 8446 section 6, when Outcome is Alert
	Detail  string   // what was seen, in words; never more than a line
	Served  [][]byte // the certificates as sent, DER, in order
	Version uint16   // protocol version number, 0 when unknown
	Suite   uint16   // number of the cipher suite
	Group   uint16   // key exchange group, 0 when unknown
	ALPN    string   // protocol chosen, "" for none
	Stapled []byte   // OCSP response, DER
	SCTs    int      // timestamps delivered in the handshake

	Connect   time.Duration // until the connection stood
	Handshake time.Duration // from there until the certificate was had
	At        time.Time     // when it began, in UTC
}

// versionNames in the trade's words.
var versionNames = map[uint16]string{0x0300: "SSL 3.0", 0x0301: "TLS 1.0", 0x0302: "TLS 1.1", 0x0303: "TLS 1.2",
	0x0304: "TLS 1.3"}

// VersionName is the protocol version in words, "" for 0.
func VersionName(v uint16) string {
	if name, ok := versionNames[v]; ok || v == 0 {
		return name
	}
	return fmt.Sprintf("0x%04X", v)
}

// groupNames are the key exchange groups by their number in the TLS Supported
// Groups registry, as RFC 8446 section 4.2.7 and the drafts for hybrid groups
// give them.
var groupNames = map[uint16]string{
	0x0017: "P-256", 0x0018: "P-384", 0x0019: "P-521", 0x001D: "X25519", 0x001E: "X448",
	0x11EC: "X25519MLKEM768", 0x11EB: "SecP256r1MLKEM768", 0x11ED: "SecP384r1MLKEM1024",
}

// GroupName is the key exchange group in words, "" for 0.
func GroupName(g uint16) string {
	if name, ok := groupNames[g]; ok || g == 0 {
		return name
	}
	return fmt.Sprintf("0x%04X", g)
}

// alertNames are TLS alerts by their number, with the names of RFC 8446 section
// 6 and, for the older ones, of RFC 5246 section 7.2.
var alertNames = map[uint8]string{
	0: "close_notify", 10: "unexpected_message", 20: "bad_record_mac", 22: "record_overflow",
	40: "handshake_failure", 42: "bad_certificate", 43: "unsupported_certificate", 46: "certificate_unknown",
	47: "illegal_parameter", 48: "unknown_ca", 49: "access_denied", 50: "decode_error", 51: "decrypt_error",
	70: "protocol_version", 71: "insufficient_security", 80: "internal_error", 86: "inappropriate_fallback",
	90: "user_canceled", 109: "missing_extension", 110: "unsupported_extension", 112: "unrecognized_name",
	113: "bad_certificate_status_response", 115: "unknown_psk_identity", 116: "certificate_required",
	120: "no_application_protocol",
}

// AlertName is the alert's name with its number.
func AlertName(a uint8) string {
	if name, ok := alertNames[a]; ok {
		return fmt.Sprintf("%s (%d)", name, a)
	}
	return fmt.Sprintf("alert %d", a)
}
