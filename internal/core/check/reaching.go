package check

import (
	"fmt"

	"insegna.example/internal/core/binding"
)

// families are all rules, in the order they run.
var families = []func(*Subject){reaching, protocol, naming, dating, chaining, keying, wanting, configuring,
	leading, behind}

// reaching tells why no certificate came.
func reaching(s *Subject) {
	o := s.Seen
	seen := Fact{"seen", o.Detail}
	at := s.Endpoint.String()
	switch o.Outcome {
	case binding.Refused:
		s.add(NothingListens, "nothing listens at "+at,
			"start the server, or add a TLS listener there", seen)
	case binding.Filtered:
		s.add(NoAnswer, "no answer from "+at, "open the port in the machine's and the network's firewall", seen)
	case binding.Unreachable:
		s.add(NoRoute, "there is no way to "+at, "check the address and the routes from this vantage", seen)
	case binding.Reset:
		s.add(ConnectionReset, at+" tears the connection down before a certificate comes",
			"read the server's error log; a filter in between does this too", seen)
	case binding.Closed:
		s.add(ConnectionClosed, at+" ends the connection before a certificate comes",
			"read the server's error log for this address", seen)
	case binding.Silent:
		s.add(Silent, at+" accepts connections and says nothing",
			"check that the process behind the port is alive and not waiting for another protocol", seen)
	case binding.Slow:
		s.add(Silent, at+" sends bytes too slowly to finish a handshake", "check load and network of the machine", seen)
	case binding.PlainHTTP:
		s.add(PlainHTTP, at+" speaks http where TLS is expected",
			fmt.Sprintf("switch TLS on for that listener of %s", s.Server), seen)
	case binding.NotTLS:
		s.add(NotTLS, at+" speaks something else than TLS", "check which service owns the port", seen)
	}
}

// protocol tells what is wrong with the handshake itself.
func protocol(s *Subject) {
	o := s.Seen
	seen := Fact{"seen", o.Detail}
	switch o.Outcome {
	case binding.Alert:
		s.add(TLSRefused, "the server refuses the handshake with "+binding.AlertName(o.Alert),
			alertRemedy(o.Alert, s.Host), seen)
	case binding.Malformed:
		if !s.has(TLSMalformed) {
			s.add(TLSMalformed, "the handshake breaks the rules of TLS", "check what answers on this port", seen)
		}
	case binding.TooLarge:
		s.add(TLSTooLarge, "more certificate material is sent than any client takes",
			"send the leaf and its intermediates only", seen)
	}
	if o.Version != 0 && o.Version < 0x0303 {
		severity := Weak
		if s.public() {
			severity = Broken
		}
		s.addAs(TLSOld, severity, "the server speaks "+binding.VersionName(o.Version)+" at best, which browsers refuse",
			"switch on TLS 1.2 and 1.3", Fact{"negotiated", binding.VersionName(o.Version)})
	}
	if why := binding.SuiteWeakness(o.Suite); why != "" {
		name := binding.SuiteName(o.Suite)
		s.add(SuiteWeak, "the server chose the cipher suite "+name+": "+why,
			"offer suites with ECDHE and AES-GCM or ChaCha20-Poly1305 only", Fact{"negotiated", name})
	}
}

// alertRemedy goes by the alert the server sent (RFC 8446 section 6.2): some
// name their cause.
func alertRemedy(alert uint8, host string) string {
	const protocolVersion, unrecognizedName = 70, 112
	switch alert {
	case unrecognizedName:
		return "add a site for " + host + " to this server"
	case protocolVersion:
		return "switch on TLS 1.2 and 1.3"
	}
	return "read the server's error log; a missing certificate or key does this"
}

// unreadable opens a finding for bytes that came as a certificate and are none.
func unreadable(s *Subject, err error) {
	s.add(TLSMalformed, "the certificate served cannot be read", "issue the certificate anew", Fact{"seen", err.Error()})
}
