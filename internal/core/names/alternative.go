package names

import (
	"net"
	"net/netip"
	"net/url"
	"strings"
)

// Form is what a subject alternative name is (RFC 5280 section 4.2.1.6).
type Form string

// The forms certificates are made with.
const (
	DNS     Form = "DNS name"
	Address Form = "IP address"
	Mail    Form = "e-mail address"
	Link    Form = "URI"
)

// FormOf tells the form of a name as Alternative gives it.
func FormOf(name string) Form {
	switch {
	case strings.Contains(name, "://"):
		return Link
	case strings.Contains(name, "@"):
		return Mail
	}
	if _, err := netip.ParseAddr(name); err == nil {
		return Address
	}
	return DNS
}

// Alternative brings a name for a certificate to the form it has there: a host name
// or a wildcard of one label in A-labels, an address in its shortest text, an
// e-mail address, or a URI with its scheme. The error is a *HostError.
func Alternative(text string) (string, error) {
	switch FormOf(text) {
	case Link:
		u, err := url.Parse(text)
		if err != nil || u.Host == "" || !plainASCII(text) || strings.ContainsAny(text, " \t\r\n\x00") {
			return "", &HostError{text, "it is no URI with a scheme and a host in ASCII"}
		}
		return u.String(), nil
	case Mail:
		local, domain, _ := strings.Cut(text, "@")
		if local == "" || !plainASCII(text) || strings.ContainsAny(local, " \t\r\n\x00\"(),:;<>[]\\@") { // RFC 5280: a plain mailbox
			return "", &HostError{text, "it is no e-mail address in ASCII"}
		}
		host, err := Host(domain)
		return local + "@" + host, err
	}
	rest, wildcard := strings.CutPrefix(text, "*.")
	host, err := Host(rest)
	if err != nil {
		return "", err
	}
	if wildcard {
		if FormOf(host) == Address {
			return "", &HostError{text, "it is a wildcard over an address"}
		}
		host = "*." + host
	}
	return host, nil
}

// Alternatives sorts names by form, for a request or a certificate. The names are
// such as Alternative gives.
func Alternatives(list []string) (dns []string, addresses []net.IP, mails []string, links []*url.URL) {
	for _, name := range list {
		switch FormOf(name) {
		case DNS:
			dns = append(dns, name)
		case Address:
			addresses = append(addresses, net.ParseIP(name))
		case Mail:
			mails = append(mails, name)
		case Link:
			if u, err := url.Parse(name); err == nil {
				links = append(links, u)
			}
		}
	}
	return dns, addresses, mails, links
}
