package certs

import (
	"encoding/asn1"
	"fmt"
)

// stapleFaults are what a responder says instead of an answer (RFC 6960 section 4.2.1).
var stapleFaults = map[asn1.Enumerated]string{1: "malformedRequest", 2: "internalError", 3: "tryLater", 5: "sigRequired",
	6: "unauthorized"}

// StapleFault says why an OCSP response in DER, as it was sent with a certificate, is no
// answer; "" when it is one. Who has signed it, and what it says, is not judged here.
func StapleFault(der []byte) string {
	if len(der) == 0 {
		return "none is sent"
	}
	var r struct {
		Status asn1.Enumerated
		Bytes  asn1.RawValue `asn1:"explicit,tag:0,optional"`
	}
	rest, err := asn1.Unmarshal(der, &r)
	switch {
	case err != nil || len(rest) > 0:
		return "what is sent is no OCSP response"
	case r.Status != 0:
		if said, known := stapleFaults[r.Status]; known {
			return "what is sent is the responder's error " + said
		}
		return fmt.Sprintf("what is sent is the responder's error %d", r.Status)
	case len(r.Bytes.FullBytes) == 0:
		return "what is sent holds no answer"
	}
	return ""
}
