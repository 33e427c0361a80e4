package chain

import (
	"crypto/x509"
	"encoding/asn1"
	"fmt"
	"slices"

	"insegna.example/internal/core/certs"
)

// mayIssue checks the rules a certificate must keep to stand above the path
// (RFC 5280 section 6.1.4 (k) to (o)). A certificate of version 1 or 2 cannot
// say that it is a CA, so it is one only where it is an anchor.
func mayIssue(c *certs.Certificate, below []*certs.Certificate, anchor bool) (out []Failure) {
	fail := func(r Reason, detail string) { out = append(out, Failure{Reason: r, Cert: c, Detail: detail}) }
	switch {
	case c.Version < 3 && !anchor:
		fail(ReasonNotCA,
			fmt.Sprintf("is a certificate of version %d, which cannot say that it is a CA, yet stands as an issuer",
				c.Version))
	case c.Version >= 3 && !c.BasicConstraintsValid, c.BasicConstraintsValid && !c.IsCA:
		fail(ReasonNotCA, "is not a CA certificate (basicConstraints), yet stands as an issuer")
	}
	if c.KeyUsage != 0 && c.KeyUsage&x509.KeyUsageCertSign == 0 {
		fail(ReasonKeyUsage, "its key may not sign certificates (keyUsage lacks keyCertSign)")
	}
	if critical := unknownCritical(c); critical != "" {
		fail(ReasonCritical, critical)
	}
	if n := intermediates(below); c.BasicConstraintsValid && (c.MaxPathLen > 0 || c.MaxPathLenZero) && n > c.MaxPathLen {
		fail(ReasonPathLen, fmt.Sprintf("allows %d intermediates below it, the path has %d", c.MaxPathLen, n))
	}
	return out
}

// intermediates counts the CA certificates of a path below an issuer; the
// leaf and self-issued certificates do not count (section 6.1.4 (l)).
func intermediates(below []*certs.Certificate) int {
	n := 0
	for _, c := range below[1:] {
		if !c.SelfIssued() {
			n++
		}
	}
	return n
}

// oidNameConstraints is the extension's identifier (RFC 5280 section 4.2.1.10).
var oidNameConstraints = asn1.ObjectIdentifier{2, 5, 29, 30}

// restricting are the extensions that restrict what a certificate may do: one
// that cannot be read restricts nobody knows what. keyUsage, basicConstraints,
// nameConstraints, policyMappings, policyConstraints, extKeyUsage and
// inhibitAnyPolicy (RFC 5280 section 4.2.1).
var restricting = []string{"2.5.29.15", "2.5.29.19", "2.5.29.30", "2.5.29.33", "2.5.29.36", "2.5.29.37", "2.5.29.54"}

// unknownCritical describes a critical extension nobody here can process, or
// gives "". Name constraints on directory names are processed in constraints.go.
func unknownCritical(c *certs.Certificate) string {
	for _, e := range c.SetAside {
		if e.Critical || slices.Contains(restricting, e.Id.String()) {
			return fmt.Sprintf("has an extension that cannot be read (%s)", certs.ExtensionName(e.Id))
		}
	}
	for _, id := range c.UnhandledCriticalExtensions {
		if id.Equal(oidNameConstraints) && parseConstraints(c).err == nil {
			continue
		}
		return fmt.Sprintf("has a critical extension that is not understood (%s)", certs.ExtensionName(id))
	}
	return ""
}

// wholePath checks what needs the path from the anchor down: usages, names,
// policies.
func wholePath(path []*certs.Certificate) *Failure {
	if f := checkUsages(path); f != nil {
		return f
	}
	if f := checkConstraints(path); f != nil {
		return f
	}
	return checkPolicies(path)
}

// checkUsages wants serverAuth to be allowed by every certificate that says
// anything about extended key usage (section 4.2.1.12, applied along the path
// as clients do).
func checkUsages(path []*certs.Certificate) *Failure {
	for _, c := range path {
		if len(c.ExtKeyUsage)+len(c.UnknownExtKeyUsage) > 0 && !servesTLS(c) {
			return &Failure{Reason: ReasonExtUsage, Cert: c,
				Detail: "is not allowed for TLS servers (extendedKeyUsage lacks serverAuth)"}
		}
	}
	return nil
}

// servesTLS says whether the extended key usage allows a TLS server; a
// certificate that lists none allows everything (RFC 5280 section 4.2.1.12),
// which callers see to.
func servesTLS(c *certs.Certificate) bool {
	for _, u := range c.ExtKeyUsage {
		if u == x509.ExtKeyUsageServerAuth || u == x509.ExtKeyUsageAny {
			return true
		}
	}
	return false
}
