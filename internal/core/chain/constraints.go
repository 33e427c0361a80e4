package chain

import (
	"encoding/asn1"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strings"

	"insegna.example/internal/core/certs"
)

// constraints are one CA's name constraints (RFC 5280 section 4.2.1.10).
// DNS, IP, e-mail and URI forms come parsed from crypto/x509, directory names
// are read here.
type constraints struct {
	permittedDirs, excludedDirs []certs.DN // by directory name
	err                         error      // a constraint that cannot be understood fails the path
}

// subtree is a GeneralSubtree (RFC 5280 section 4.2.1.10). Minimum and maximum
// are not read: they must be zero and absent there.
type subtree struct {
	Base asn1.RawValue // the name, of whichever form
}

// nameConstraints is the extension as it stands, for the forms of name the
// standard library does not offer parsed.
type nameConstraints struct {
	Permitted []asn1.RawValue `asn1:"optional,tag:0"` // empty permits everything
	Excluded  []asn1.RawValue `asn1:"optional,tag:1"` // wins over permitted
}

// tagDirectoryName is the number of directoryName in GeneralName (RFC 5280
// section 4.2.1.6).
const tagDirectoryName = 4

// errUnsupportedName makes a critical constraint over such a form fail the
// path, as RFC 5280 section 4.2.1.10 asks.
var errUnsupportedName = errors.New("a name form that is not supported")

// parseConstraints reads the directory names of a certificate's name
// constraints; err is set when it holds a form nobody here can apply.
func parseConstraints(c *certs.Certificate) (out constraints) {
	for _, e := range c.Extensions {
		if !e.Id.Equal(oidNameConstraints) {
			continue
		}
		var nc nameConstraints
		if rest, err := asn1.Unmarshal(e.Value, &nc); err != nil || len(rest) > 0 {
			out.err = errors.New("name constraints that cannot be read")
			return out
		}
		if out.permittedDirs, out.err = directoryNames(nc.Permitted); out.err != nil {
			return out
		}
		out.excludedDirs, out.err = directoryNames(nc.Excluded)
	}
	return out
}

// directoryNames gives the distinguished names a constraint lists; constraints over other forms are passed over, and over forms
// nobody supports are an error.
func directoryNames(trees []asn1.RawValue) ([]certs.DN, error) {
	var out []certs.DN
	for _, raw := range trees {
		var t subtree
		if _, err := asn1.Unmarshal(raw.FullBytes, &t); err != nil {
			return nil, err
		}
		switch t.Base.Tag {
		case tagDirectoryName:
			out = append(out, certs.ParseDN(t.Base.Bytes))
		case 1, 2, 6, 7: // e-mail, DNS, URI, IP: read by crypto/x509
		default:
			return nil, errUnsupportedName
		}
	}
	return out, nil
}

// checkConstraints applies every CA's constraints to all names below it;
// self-issued certificates other than the leaf are exempt (section 6.1.3 (b)).
func checkConstraints(path []*certs.Certificate) *Failure {
	for i := len(path) - 1; i > 0; i-- {
		if !constrains(path[i]) {
			continue
		}
		for j, c := range path[:i] {
			if j > 0 && c.SelfIssued() {
				continue
			}
			if broken := violates(path[i], c); broken != "" {
				return &Failure{Reason: ReasonNames, Cert: c,
					Detail: fmt.Sprintf("%s (name constraints of %s)", broken, path[i].CommonName())}
			}
		}
	}
	return nil
}

// constrains says whether a certificate carries name constraints at all; most
// do not, and the costly reading is saved.
func constrains(c *certs.Certificate) bool {
	for _, e := range c.Extensions {
		if e.Id.Equal(oidNameConstraints) {
			return true
		}
	}
	return false
}

// violates names the first name of c that the CA does not allow.
func violates(ca, c *certs.Certificate) string {
	if c.NamesUnread() {
		return "a name that cannot be read is not allowed"
	}
	for _, name := range c.DNSNames {
		if bad(name, ca.PermittedDNSDomains, ca.ExcludedDNSDomains, dnsWithin, dnsTouches) {
			return "the DNS name " + name + " is not allowed"
		}
	}
	for _, ip := range c.IPAddresses {
		within := func(ip net.IP, n *net.IPNet) bool { return len(ip) == len(n.IP) && n.Contains(ip) }
		if bad(ip, ca.PermittedIPRanges, ca.ExcludedIPRanges, within, within) {
			return "the address " + ip.String() + " is not allowed"
		}
	}
	for _, mail := range mailboxes(c) {
		if bad(mail, ca.PermittedEmailAddresses, ca.ExcludedEmailAddresses, mailWithin, mailWithin) {
			return "the e-mail address " + mail + " is not allowed"
		}
	}
	for _, uri := range c.URIs {
		if len(ca.PermittedURIDomains)+len(ca.ExcludedURIDomains) == 0 {
			break
		}
		host := uri.Hostname()
		if _, err := netip.ParseAddr(host); err == nil || host == "" {
			return "a URI without a host name is not allowed"
		}
		if bad(host, ca.PermittedURIDomains, ca.ExcludedURIDomains, uriWithin, uriWithin) {
			return "the URI host " + host + " is not allowed"
		}
	}
	dirs := parseConstraints(ca)
	for _, name := range directoriesOf(c) {
		if bad(name, dirs.permittedDirs, dirs.excludedDirs, certs.DN.Begins, certs.DN.Begins) {
			return "the directory name of " + c.CommonName() + " is not allowed"
		}
	}
	return ""
}

// mailboxes are the e-mail addresses of a certificate; those in the subject
// count where its alternative names have none (RFC 5280 section 4.2.1.10).
func mailboxes(c *certs.Certificate) []string {
	if len(c.EmailAddresses) > 0 {
		return c.EmailAddresses
	}
	var out []string
	for _, a := range c.Subject.Names {
		if mail, ok := a.Value.(string); ok && a.Type.Equal(oidMailAttribute) {
			out = append(out, mail)
		}
	}
	return out
}

// oidMailAttribute is the e-mail address in a distinguished name (RFC 5280
// section 4.1.2.6).
var oidMailAttribute = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 1}

// oidAltName is subjectAltName (RFC 5280 section 4.2.1.6).
var oidAltName = asn1.ObjectIdentifier{2, 5, 29, 17}

// directoriesOf are the distinguished names a certificate is for: its subject,
// unless that is empty, and those among its alternative names.
func directoriesOf(c *certs.Certificate) (out []certs.DN) {
	if c.SubjectDN != "" {
		out = append(out, c.SubjectDN)
	}
	for _, e := range c.Extensions {
		var list []asn1.RawValue
		if !e.Id.Equal(oidAltName) {
			continue
		}
		if _, err := asn1.Unmarshal(e.Value, &list); err != nil {
			continue
		}
		for _, name := range list {
			if name.Class == asn1.ClassContextSpecific && name.Tag == tagDirectoryName {
				out = append(out, certs.ParseDN(name.Bytes))
			}
		}
	}
	return out
}

// bad says whether a name lies in an excluded subtree, or outside all
// permitted ones where any are given for its form.
func bad[N, T any](name N, permitted, excluded []T, within, touches func(N, T) bool) bool {
	for _, t := range excluded {
		if touches(name, t) {
			return true
		}
	}
	for _, t := range permitted {
		if within(name, t) {
			return false
		}
	}
	return len(permitted) > 0
}

// dnsWithin says whether a DNS name, wildcard or not, lies in a subtree: the
// base itself or any name below it. A base with a leading dot, which clients
// accept, means names below it only.
func dnsWithin(name, base string) bool {
	name, base = bareName(name), bareName(base)
	if below, dotted := strings.CutPrefix(base, "."); dotted {
		return strings.HasSuffix(name, "."+below)
	}
	return base == "" || name == base || strings.HasSuffix(name, "."+base)
}

// bareName is a DNS name without case and without the dot of the root, which
// says nothing of where it lies.
func bareName(name string) string { return strings.TrimSuffix(strings.ToLower(name), ".") }

// dnsTouches is dnsWithin for excluded subtrees: a wildcard that could stand
// for an excluded name is excluded too.
func dnsTouches(name, base string) bool {
	if dnsWithin(name, base) {
		return true
	}
	parent, wild := strings.CutPrefix(bareName(name), "*.")
	first, tail, ok := strings.Cut(strings.TrimPrefix(bareName(base), "."), ".")
	return wild && ok && first != "" && tail == parent
}

// mailWithin holds an address against a mailbox, a host or a domain, whichever
// the constraint names (RFC 5280 section 4.2.1.10). The local part counts case,
// the host does not.
func mailWithin(mail, base string) bool {
	at := strings.LastIndexByte(mail, '@')
	if strings.Contains(base, "@") {
		baseAt := strings.LastIndexByte(base, '@')
		return at >= 0 && mail[:at] == base[:baseAt] && strings.EqualFold(mail[at:], base[baseAt:])
	}
	host := mail[at+1:]
	if strings.HasPrefix(base, ".") {
		return dnsWithin(host, base)
	}
	return bareName(host) == bareName(base)
}

// uriWithin follows the rule for URIs: a base without a leading dot means
// that host alone, with one it means the hosts below (section 4.2.1.10).
func uriWithin(host, base string) bool {
	if strings.HasPrefix(base, ".") {
		return dnsWithin(host, base)
	}
	return bareName(host) == bareName(base)
}
