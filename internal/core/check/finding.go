// Package check is the catalogue of findings: pure rules over what a look
// brought back. One file holds one family of rules.
//
// A rule sees a Subject and may add findings; it reads no clock and keeps no
// state. Judge runs all rules and gives the binding's verdict. To add a rule,
// write it in its family's file, list it there, and describe its code in
// Catalogue.
package check

import (
	"cmp"
	"slices"
)

// Severity ranks findings by what they do to visitors.
type Severity string

// The severities, worst first.
const (
	Broken Severity = "broken" // visitors are hurt now
	Due    Severity = "due"    // hurts at a known date
	Weak   Severity = "weak"   // works, below good practice
	Note   Severity = "note"
)

// Severities in order, worst first.
var Severities = []Severity{Broken, Due, Weak, Note}

// Rank orders severities: 0 is the worst.
func (s Severity) Rank() int { return slices.Index(Severities, s) }

// Finding is one rule that is not met at one target.
type Finding struct {
	Code     string
	Severity Severity
	Cause    string // what is wrong, one sentence without a full stop
	Remedy   string // what to do, one sentence without a full stop
	Evidence []Fact
	Source   string // "file:line" in the server's own configuration, "" when that is not the matter or not known
}

// Fact is one piece of evidence: a label and what was seen.
type Fact struct {
	Label string `json:"label"`
	Value string `json:"value"`
}

// Rule describes one code of the catalogue.
type Rule struct {
	Code     string
	Severity Severity // the usual one; a rule may give another where it says so
	Meaning  string
}

// Catalogue lists every code that can be given, by family.
var Catalogue = []Rule{
	{"nothing-listens", Broken, "the machine refuses connections on this port"},
	{"no-answer", Broken, "connections to this address and port are neither accepted nor refused"},
	{"no-route", Broken, "the network has no way to this address"},
	{"connection-reset", Broken, "the connection is torn down before a certificate comes"},
	{"connection-closed", Broken, "the connection is ended before a certificate comes"},
	{"silent", Broken, "connections are accepted, then nothing or too little comes"},
	{"plain-http", Broken, "the port speaks http where TLS is expected"},
	{"not-tls", Broken, "the port speaks something else than TLS"},
	{"tls-refused", Broken, "the server ends the handshake with an alert"},
	{"tls-malformed", Broken, "the handshake or a certificate in it breaks the rules"},
	{"tls-too-large", Broken, "more certificate material is sent than any client takes"},
	{"tls-old", Broken, "only TLS 1.1 or older is spoken (RFC 8996)"},
	{"name-not-covered", Broken, "the certificate does not cover the host name (RFC 9525)"},
	{"other-site-answers", Broken, "the certificate served is the endpoint's default, made for another site"},
	{"expired", Broken, "the certificate has ended"},
	{"not-yet-valid", Broken, "the certificate has not begun"},
	{"ends-soon", Due, "the certificate ends soon and is still the one served"},
	{"lifetime-over-limit", Weak, "a public CA's certificate is valid longer than the limit of its issue date allows"},
	{"self-signed", Broken, "the certificate signed itself and is no anchor of an audience"},
	{"chain-untrusted", Broken, "no path leads to an anchor of an audience (RFC 5280)"},
	{"chain-incomplete", Broken, "an intermediate certificate is not sent"},
	{"chain-ended", Broken, "an intermediate or root on every path is out of date"},
	{"chain-disordered", Weak, "certificates are sent before the one they certify (RFC 8446)"},
	{"chain-stray", Note, "certificates are sent that belong to no path"},
	{"chain-duplicate", Note, "a certificate is sent more than once"},
	{"chain-root-sent", Note, "the root is sent; every client has its own copy"},
	{"key-weak", Weak, "the public key is smaller than 2048 bits RSA, or of an unknown kind"},
	{"serial-bad", Weak, "the serial number is not positive or longer than 20 octets (RFC 5280)"},
	{"staple-missing", Broken, "the certificate demands a stapled OCSP response and none is sent (RFC 7633)"},
	{"other-issuer", Weak, "the certificate comes from another CA than the estate wants"},
	{"other-certificate", Weak, "another certificate is served than the estate wants"},
	{"differs-from-siblings", Due, "one endpoint of a host serves an older certificate than the others"},
	{"not-configured", Weak, "an endpoint answers that the server's configuration does not open"},
	{"not-reloaded", Due, "the certificate or listener on disk is not what the running server uses; broken when visitors are hurt by that"},
	{"site-not-enabled", Broken, "the host's site is written and not switched on"},
	{"wrong-file", Due, "the site names an older certificate than the one that lies beside it"},
	{"served-from-elsewhere", Weak, "what is served is not what the configuration names, and the server has loaded that"},
	{"certificate-file-bad", Due, "a certificate file the configuration names cannot be used"},
	{"key-file-bad", Due, "a key file the configuration names cannot be used"},
	{"key-of-another-certificate", Due, "certificate and key on disk do not belong together"},
	{"chain-missing-on-disk", Due, "the certificate file has lost an intermediate the running server still sends"},
	{"configuration-refused", Broken, "the server's own test refuses its configuration"},
	{"test-not-run", Weak, "the server's own configuration test could not be run"},
	{"configuration-unread", Weak, "a part of the configuration could not be read"},
	{"configuration-suspect", Note, "the configuration is taken, though hardly as it is meant"},
	{"key-open", Weak, "a private key file may be read by other users"},
	{"not-in-estate", Note, "a name is configured at a server and not wanted there by the estate"},
	{"host-key-changed", Weak, "a server's SSH host key is not the known one; nothing was read"},
	{"host-key-unknown", Weak, "a server's SSH host key is not known; nothing was read"},
	{"login-refused", Weak, "a server does not let the service in; nothing was read"},
	{"connection-lost", Weak, "the connection to a server broke off; nothing of what was read is used"},
	{"not-reached", Weak, "a server's configuration could not be reached"},
}

// Sort orders findings worst first, then by code.
func Sort(list []Finding) {
	slices.SortStableFunc(list, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(a.Severity.Rank(), b.Severity.Rank()), cmp.Compare(a.Code, b.Code))
	})
}
