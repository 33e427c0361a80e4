package estate

import (
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"insegna.example/internal/core/names"
)

// Ways a CA may be asked, besides over ACME.
const (
	ByPrivate = "private" // a CA of one's own, its keys in the safe
	ByHand    = "hand"    // a request is sent by a person, and the reply brought back
	BySelf    = "self"    // nobody is asked: the certificate signs itself
)

// Sources are the ways a declared CA may be asked.
var Sources = []string{ByACME, ByPrivate, ByHand}

// Names of the sources that are always there.
const (
	SelfSigned = "self-signed"
	HandMade   = "by-hand"
)

// always are sources that need no declaration: no CA at all, and a CA nothing is
// known of.
var always = []CA{{Name: SelfSigned, By: BySelf}, {Name: HandMade, By: ByHand, Hand: &Hand{}}}

// Hand is how a CA is asked by hand.
type Hand struct {
	To   string // where requests go: an address, a form, a desk; "" where that is not said
	Days int    // in which a reply is expected; 0 where that is not said
}

// Private says what a CA of one's own issues.
type Private struct {
	Profiles []Profile // the first is for who names none
	ACME     *OwnACME  // how clients of the network ask it; nil: they do not
	Publish  string    // URL by which clients reach this service, for revocation lists and OCSP; "" tells them nothing
}

// OwnACME is how a private CA is asked over ACME by other clients of the network.
type OwnACME struct {
	Address   string // https URL by which clients reach the listener, without a path
	Customers bool   // accounts have to be bound to a customer
	PerHour   int    // orders of an account
	Resolver  string // DNS server names are looked up at, address and port; "" the system's
	HTTPPort  uint16 // where it looks for files; 80
	TLSPort   uint16 // where it looks for proofs in TLS; 443
}

// Folder is the URL below which a private CA is asked over ACME; "" where it is not.
func (c *CA) Folder() string {
	if c.Private == nil || c.Private.ACME == nil {
		return ""
	}
	return c.Private.ACME.Address + "/acme/" + url.PathEscape(c.Name)
}

// ownACME reads how it is asked.
func (r *reader) ownACME(n *yaml.Node) *OwnACME {
	const usual = 300
	v := &OwnACME{PerHour: usual, HTTPPort: 80, TLSPort: 443}
	r.fields(n, "acme",
		field{"address", true, func(n *yaml.Node) {
			const expected = "an https address of this service without a path, such as https://acme.lanterncoast.example:7443"
			text, ok := r.text(n, expected)
			if u, err := url.Parse(text); ok && (err != nil || u.Scheme != "https" || u.Hostname() == "" || strings.Trim(u.Path, "/") != "" || u.User != nil || u.RawQuery != "") {
				r.fault(r.place(n), expected, "found %s", describe(n))
			}
			v.Address = strings.TrimSuffix(text, "/")
		}},
		field{"accounts", false, func(n *yaml.Node) {
			v.Customers = r.oneOf(n, "kind of accounts", []string{"open", "customers"}) == "customers"
		}},
		field{"orders_an_hour", false, func(n *yaml.Node) { v.PerHour = r.number(n, 1, 1_000_000) }},
		field{"resolver", false, func(n *yaml.Node) { v.Resolver = r.socket(n, "53") }},
		field{"http_port", false, func(n *yaml.Node) { v.HTTPPort = uint16(r.number(n, 1, 65535)) }},
		field{"tls_port", false, func(n *yaml.Node) { v.TLSPort = uint16(r.number(n, 1, 65535)) }},
	)
	return v
}

// Profile is what certificates of a private CA may be like.
type Profile struct {
	Name    string   `json:"name"`
	Days    int      `json:"days"`              // of their life
	Names   []string `json:"names,omitempty"`   // allowed: a name, *.PARENT for all below it, a range of addresses; any where empty
	Usages  []string `json:"usages,omitempty"`  // of Usages
	AtLeast string   `json:"at_least"`          // the role that may order
	Keys    []string `json:"keys,omitempty"`    // kinds allowed; all where empty
	Subject bool     `json:"subject,omitempty"` // what a request says of its subject is kept
}

// Usages are what a certificate of a private CA may be for.
var Usages = []string{"server", "client"}

// Roles are who may order, from the least.
var orderRoles = []string{"operator", "admin"}

// usualLife is the life of a private CA's certificates where a profile says nothing.
const usualLife = 90

// usualProfile stands where a private CA declares none.
func usualProfile() Profile {
	return Profile{Name: "server", Days: usualLife, Usages: Usages[:1], AtLeast: orderRoles[0]}
}

// Profile finds one by name, "" for the first; nil when there is none.
func (p *Private) Profile(name string) *Profile {
	for i := range p.Profiles {
		if name == "" || p.Profiles[i].Name == name {
			return &p.Profiles[i]
		}
	}
	return nil
}

// Allows says whether a name may be in a certificate.
func (p *Profile) Allows(name string) bool {
	if len(p.Names) == 0 {
		return true
	}
	return slices.ContainsFunc(p.Names, func(pattern string) bool { return allows(pattern, name) })
}

// allows holds one name against one pattern. What is mailed to or linked at is
// held by its host.
func allows(pattern, name string) bool {
	switch names.FormOf(name) {
	case names.Mail:
		_, name, _ = strings.Cut(name, "@")
	case names.Link:
		_, _, links, uris := names.Alternatives([]string{name})
		if len(links)+len(uris) == 0 {
			return false
		}
		name = uris[0].Hostname()
	}
	if addr, err := netip.ParseAddr(name); err == nil {
		if within, err := netip.ParsePrefix(pattern); err == nil {
			return within.Contains(addr)
		}
		return pattern == name
	}
	if pattern == name {
		return true
	}
	parent, below := strings.CutPrefix(pattern, "*.")
	return below && strings.HasSuffix(strings.TrimPrefix(name, "*"), "."+parent)
}

// Subject is the distinguished name a certificate is asked for with; all of it may
// be empty. Public CAs keep the common name at most, and some nothing.
type Subject struct {
	CommonName   string `json:"common_name,omitempty"`  // shown by old programs; the names count
	Organization string `json:"organization,omitempty"` // legal name
	Unit         string `json:"unit,omitempty"`         // of the organization
	Country      string `json:"country,omitempty"`      // two letters
	Province     string `json:"province,omitempty"`     // in full
	Locality     string `json:"locality,omitempty"`     // city
}

// Zero says that nothing of it is given.
func (s Subject) Zero() bool { return s == Subject{} }

// words writes a subject for people, "" for none.
func (s Subject) words() string {
	var list []string
	for _, f := range [][2]string{{"CN", s.CommonName}, {"O", s.Organization}, {"OU", s.Unit}, {"L", s.Locality}, {"ST", s.Province}, {"C", s.Country}} {
		if f[1] != "" {
			list = append(list, f[0]+"="+f[1])
		}
	}
	return strings.Join(list, ", ")
}

// subject reads one.
func (r *reader) subject(n *yaml.Node, s *Subject) {
	text := func(into *string, what string, most int) func(*yaml.Node) {
		return func(n *yaml.Node) {
			if *into, _ = r.text(n, what); len([]rune(*into)) > most { // RFC 5280 appendix A.1
				r.fault(r.place(n), fmt.Sprintf("at most %d characters", most), "%s is longer", clip(*into))
			}
		}
	}
	r.fields(n, "subject",
		field{"common_name", false, text(&s.CommonName, "a common name", 64)},
		field{"organization", false, text(&s.Organization, "the organization's legal name", 64)},
		field{"unit", false, text(&s.Unit, "a part of the organization", 64)},
		field{"country", false, func(n *yaml.Node) {
			const expected = "a country in two letters, such as NO"
			s.Country, _ = r.text(n, expected)
			if len(s.Country) != 2 || strings.ToUpper(s.Country) != s.Country || strings.ToLower(s.Country) == s.Country {
				r.fault(r.place(n), expected, "found %s", describe(n))
			}
		}},
		field{"province", false, text(&s.Province, "a state or province, in full", 128)},
		field{"locality", false, text(&s.Locality, "a city", 128)},
	)
}

// profile reads what a private CA issues.
func (r *reader) profile(n *yaml.Node, p *Private) {
	one := usualProfile()
	one.Name, one.Usages = "", nil
	r.fields(n, "a profile",
		field{"name", true, func(n *yaml.Node) { one.Name = r.serverName(n) }},
		field{"days", false, func(n *yaml.Node) { one.Days = r.number(n, 1, 3650) }},
		field{"names", false, func(n *yaml.Node) {
			r.list(n, "a list of names", func(n *yaml.Node) { one.Names = append(one.Names, r.pattern(n)) })
		}},
		field{"usages", false, func(n *yaml.Node) {
			r.list(n, "a list of usages", func(n *yaml.Node) { one.Usages = append(one.Usages, r.oneOf(n, "usage", Usages)) })
		}},
		field{"at_least", false, func(n *yaml.Node) { one.AtLeast = r.oneOf(n, "role", orderRoles) }},
		field{"keys", false, func(n *yaml.Node) {
			r.list(n, "a list of kinds of keys", func(n *yaml.Node) { one.Keys = append(one.Keys, r.oneOf(n, "kind of key", KeyKinds)) })
		}},
		field{"subject", false, func(n *yaml.Node) { r.yesNo(n, &one.Subject) }},
	)
	if len(one.Usages) == 0 {
		one.Usages = Usages[:1]
	}
	if p.Profile(one.Name) != nil && one.Name != "" {
		r.fault(r.place(n), "each profile once", "the profile %s stands twice", one.Name)
	}
	p.Profiles = append(p.Profiles, one)
}

// pattern reads a name a profile allows.
func (r *reader) pattern(n *yaml.Node) string {
	const expected = "a name, *.PARENT for all names below it, or a range of addresses such as 10.20.0.0/16"
	text, ok := r.text(n, expected)
	if within, err := netip.ParsePrefix(text); err == nil {
		return within.Masked().String()
	}
	name, err := names.Alternative(text)
	if ok && (err != nil || names.FormOf(name) != names.DNS && names.FormOf(name) != names.Address) {
		r.fault(r.place(n), expected, "found %s", describe(n))
	}
	return name
}

// sourceFaults says what a CA lacks for the way it is asked, and what belongs to
// another way.
func (r *reader) sourceFaults(c *CA, given *yaml.Node) {
	keys := map[string][]string{
		ByACME:    {"directory", "test_directory", "contact", "external_account", "resolver", "http_port", "tls_port"},
		ByPrivate: {"profiles", "publish", "acme"},
		ByHand:    {"to", "reply_days"},
	}
	for by, list := range keys {
		for _, key := range list {
			if by != c.By && valueOf(given, key) != nil {
				r.fault(c.Place, "the keys of by: "+c.By, "the CA %s is asked by %s, and the key %s belongs to by: %s", clip(c.Name), c.By, key, by)
			}
		}
	}
	if c.By == ByACME && c.ACME.Directory == "" {
		r.fault(c.Place, "the key directory", "a CA has no directory")
	}
	if c.Name == SelfSigned || c.Name == HandMade {
		r.fault(c.Place, "another name", "the source %s is there without being declared", c.Name)
	}
}
