package check

import (
	"crypto/x509"
	"fmt"
	"slices"
	"strings"

	"insegna.example/internal/core/binding"
	"insegna.example/internal/core/certs"
)

// keying judges key, serial number and what the certificate demands of the
// server.
func keying(s *Subject) {
	if len(s.Chain) == 0 || s.has(OtherSiteAnswers) || s.ownAt() > 0 {
		return
	}
	c := s.leaf()
	weakKey(s, c)
	asServer := !c.IsCA || s.Seen.Version != 0 // a CA's certificate in a file is none that is served
	if bad := asServer && c.KeyUsage != 0 && c.KeyUsage&x509.KeyUsageDigitalSignature == 0; bad && !s.plainRSA(c) {
		s.add(KeyUsageWrong, "its key may not sign a handshake (keyUsage lacks digitalSignature), and clients break off",
			"have the certificate issued anew with the key usage digitalSignature", Fact{"key", c.Key().String()})
	}
	if n := c.SerialNumber; n.Sign() <= 0 || len(n.Bytes()) > 20 {
		what := "is not positive"
		if n.Sign() > 0 {
			what = fmt.Sprintf("is %d octets long, and 20 is the most", len(n.Bytes()))
		}
		s.add(SerialBad, "the serial number "+what+"; strict clients refuse it", "have the CA issue the certificate anew",
			Fact{"serial", n.Text(16)})
	}
	if flaws := slices.DeleteFunc(slices.Clone(c.Flaws), func(f string) bool {
		return strings.Contains(f, "serial number is negative")
	}); len(flaws) > 0 {
		s.add(FormBroken, strings.Join(flaws, "; ")+": strict clients refuse the certificate",
			"have the CA issue the certificate anew in the right form", Fact{"certificate", c.Fingerprint.String()})
	}
	if fault := certs.StapleFault(s.Seen.Stapled); c.MustStaple() && fault != "" && !s.apart {
		s.add(StapleMissing, "the certificate demands a stapled OCSP response, and "+fault,
			"switch stapling on, or issue the certificate without that demand", Fact{"extension", "TLS feature status_request"})
	}
}

// plainRSA says whether the handshake was one in which an RSA key is not asked
// to sign (RFC 5246 section 7.4.2); anything newer asks it.
func (s *Subject) plainRSA(c *certs.Certificate) bool {
	return c.KeyUsage&x509.KeyUsageKeyEncipherment != 0 && s.Seen.Suite != 0 &&
		strings.HasPrefix(binding.SuiteName(s.Seen.Suite), "TLS_RSA_")
}

// weakKey judges the public key as clients act: what browsers refuse of a public
// CA hurts visitors now, and what only they refuse is weak elsewhere.
func weakKey(s *Subject, c *certs.Certificate) {
	key := c.Key()
	said := Fact{"key", key.String()}
	severity := Weak
	if s.public() {
		severity = Broken
	}
	const anew = "issue the certificate anew with a key of ECDSA P-256 or of RSA from 2048 bits"
	switch {
	case key.Kind == "RSA" && key.Bits < 1024:
		s.addAs(KeyWeak, Broken, "the key is "+key.String()+", which every client refuses", anew, said)
	case key.Kind == "RSA" && key.Bits < 2048:
		s.addAs(KeyWeak, severity, "the key is "+key.String()+"; clients expect RSA from 2048 bits or ECDSA P-256",
			anew, said)
	case key.Kind == "ECDSA" && key.Bits < 256:
		s.addAs(KeyWeak, Broken, "the key is "+key.String()+", a curve that no browser takes", anew, said)
	case key.Kind == "ECDSA" && key.Bits > 384:
		s.add(KeyWeak, "the key is "+key.String()+", a curve that some browsers do not take", anew, said)
	case key.Kind == "Ed25519":
		s.addAs(KeyWeak, severity, "the key is Ed25519, which browsers do not take in certificates", anew, said)
	case key.Kind == "unknown":
		s.addAs(KeyWeak, Broken, "the key is of a kind that clients do not know", anew, said)
	}
}
