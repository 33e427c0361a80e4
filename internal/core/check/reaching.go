package check

import (
	"fmt"

	"insegna.example/internal/core/binding"
)

// families are all rules, in the order they run.
var families = []func(*Subject){reaching, protocol, naming, dating, chaining, keying, wanting, configuring}

// reaching tells why no certificate came.
func reaching(s *Subject) {
	o := s.Seen
	seen := Fact{"seen", o.Detail}
	at := s.Endpoint.String()
	switch o.Outcome {
	case binding.Refused:
		s.add("nothing-listens", Broken, "nothing listens at "+at,
			fmt.Sprintf("start the server, or add a TLS listener on port %d to %s", s.Endpoint.Port(), s.Server), seen)
	case binding.Filtered:
		s.add("no-answer", Broken, "no answer from "+at, "open the port in the machine's and the network's firewall", seen)
	case binding.Unreachable:
		s.add("no-route", Broken, "there is no way to "+at, "check the address and the routes from this vantage", seen)
	case binding.Reset:
		s.add("connection-reset", Broken, at+" tears the connection down before a certificate comes", "read the server's error log; a filter in between does this too", seen)
	case binding.Closed:
		s.add("connection-closed", Broken, at+" ends the connection before a certificate comes", "read the server's error log for this address", seen)
	case binding.Silent:
		s.add("silent", Broken, at+" accepts connections and says nothing", "check that the process behind the port is alive and not waiting for another protocol", seen)
	case binding.Slow:
		s.add("silent", Broken, at+" sends bytes too slowly to finish a handshake", "check load and network of the machine", seen)
	case binding.PlainHTTP:
		s.add("plain-http", Broken, at+" speaks http where TLS is expected", fmt.Sprintf("switch TLS on for the listener on port %d of %s", s.Endpoint.Port(), s.Server), seen)
	case binding.NotTLS:
		s.add("not-tls", Broken, at+" speaks something else than TLS", "check which service owns the port", seen)
	}
}

// protocol tells what is wrong with the handshake itself.
func protocol(s *Subject) {
	o := s.Seen
	seen := Fact{"seen", o.Detail}
	switch o.Outcome {
	case binding.Alert:
		s.add("tls-refused", Broken, "the server refuses the handshake with "+binding.AlertName(o.Alert), alertRemedy(o.Alert, s.Host), seen)
	case binding.Malformed:
		if !s.has("tls-malformed") {
			s.add("tls-malformed", Broken, "the handshake breaks the rules of TLS", "check what answers on this port", seen)
		}
	case binding.TooLarge:
		s.add("tls-too-large", Broken, "more certificate material is sent than any client takes", "send the leaf and its intermediates only", seen)
	}
	if o.Version != 0 && o.Version < 0x0303 {
		severity := Weak
		if s.public() {
			severity = Broken
		}
		s.add("tls-old", severity, "the server speaks "+binding.VersionName(o.Version)+" at best, which browsers refuse", "switch on TLS 1.2 and 1.3", Fact{"negotiated", binding.VersionName(o.Version)})
	}
}

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

func unreadable(s *Subject, err error) {
	s.add("tls-malformed", Broken, "the certificate served cannot be read", "issue the certificate anew", Fact{"seen", err.Error()})
}
