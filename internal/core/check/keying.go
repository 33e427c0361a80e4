package check

import "fmt"

// keying judges key, serial number and what the certificate demands of the
// server.
func keying(s *Subject) {
	if len(s.Chain) == 0 || s.has(OtherSiteAnswers) {
		return
	}
	c := s.leaf()
	key := c.Key()
	if key.Kind == "unknown" || key.Kind == "RSA" && key.Bits < 2048 {
		s.add(KeyWeak, "the key is "+key.String()+"; clients expect RSA from 2048 bits or ECDSA P-256",
			"issue the certificate anew with a stronger key", Fact{"key", key.String()})
	}
	if c.SerialNumber.Sign() <= 0 || len(c.SerialNumber.Bytes()) > 20 {
		s.add(SerialBad, fmt.Sprintf("the serial number is not positive or longer than 20 octets (%d)",
			len(c.SerialNumber.Bytes())), "have the CA issue the certificate anew", Fact{"serial", c.SerialNumber.Text(16)})
	}
	if c.MustStaple() && len(s.Seen.Stapled) == 0 {
		s.add(StapleMissing, "the certificate demands a stapled OCSP response and none is sent",
			"switch stapling on, or issue the certificate without that demand", Fact{"extension", "TLS feature status_request"})
	}
}
