package certs

import (
	"encoding/pem"
	"fmt"
	"regexp"
)

// block is a certificate in PEM (RFC 7468 section 5.1), with the end of its line.
var block = regexp.MustCompile(`-----BEGIN (?:X509 |TRUSTED )?CERTIFICATE-----[^-]*-----END (?:X509 |TRUSTED )?CERTIFICATE-----`)

// Said puts a line that says whose certificate it is, and until when, in the place of
// each certificate of a text; what cannot be read stays as it is written.
func Said(text string) string {
	return block.ReplaceAllStringFunc(text, func(s string) string {
		b, _ := pem.Decode([]byte(s + "\n"))
		if b == nil {
			return s
		}
		c, err := Parse(b.Bytes)
		if err != nil {
			return s
		}
		return fmt.Sprintf("(certificate: %s, from %s, until %s, %s)", c.CommonName(), c.IssuerName(),
			c.NotAfter.UTC().Format("2 January 2006"), c.Fingerprint.String()[:12])
	})
}
