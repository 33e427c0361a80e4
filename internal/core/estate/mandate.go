package estate

import (
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/names"
)

// CA is where certificates come from.
type CA struct {
	Name string // by which mandates refer to it
	By   string // how it is asked: one of Sources
	// files; what its chains end at, besides the audiences' anchors, and its https besides the system's
	Roots   []string
	Anchors []*certs.Certificate // roots its own address is trusted by, beside the machine's
	Budget  Budget               // of certificates in days; none is no limit
	ACME    *ACME                // by acme
	Private *Private             // by private
	Hand    *Hand                // by hand
	Place   Place                // in the estate file
}

// ByACME is asking over ACME.
const ByACME = "acme"

// ACME is how a CA is asked over ACME (RFC 8555).
type ACME struct {
	Directory     string    // URL
	TestDirectory string    // URL of its test directory, "" when it has none
	Contact       []string  // mailto URLs for the account
	External      *External // nil when no customer is named
	Resolver      string    // DNS server to ask in its place, address and port; "" the system's
	HTTPPort      uint16    // where it looks for files; 80 but for a CA of one's own
	TLSPort       uint16    // where it looks for proofs by tls-alpn; 443 but for a CA of one's own
}

// External binds an account to the CA's own customer record (RFC 8555 section
// 7.3.4).
type External struct {
	KeyID      string // the CA's number for the customer
	Credential string // name of the MAC key in the safe
}

// Budget is how many certificates a CA gives in a time; zero when not known.
type Budget struct{ Certificates, Days int }

// Mandate is a standing instruction: these names, from this CA, proved this
// way, with this key, renewed like this, installed there.
type Mandate struct {
	Name      string   `json:"name"`                 // unique in the estate
	Names     []string `json:"names"`                // the first is the main one
	CA        string   `json:"ca"`                   // by name
	Otherwise []string `json:"otherwise,omitempty"`  // CAs asked in its place, in this order, when it cannot or does not issue
	Proof     Proof    `json:"proof"`                // how control of the names is shown
	Key       string   `json:"key"`                  // kind of key
	KeyOn     string   `json:"key_on,omitempty"`     // the server its keys are made and kept on; "" for the safe
	Install   []Ref    `json:"install"`              // servers, or one port of them
	RenewDays int      `json:"renew_days,omitempty"` // before the end; 0 is a third of the life
	Subject   Subject  `json:"subject,omitzero"`
	Staple    bool     `json:"must_staple,omitempty"` // it is to say that it is only good with a staple (RFC 7633)
	ReuseKey  bool     `json:"reuse_key,omitempty"`   // the key before is kept when it is renewed
	Profile   string   `json:"profile,omitempty"`     // of its CA; "" for the first of a private one, the usual of another
	Keep      int      `json:"keep,omitempty"`        // former certificates whose keys are kept; 0 is KeptUsually
	Place     Place    `json:"-"`                     // in the estate file
}

// Lists says whether its certificate covers a host: by that very name, or by a
// wildcard of one label (RFC 9525 section 6.3).
func (m *Mandate) Lists(host string) bool {
	_, parent, _ := strings.Cut(host, ".")
	return slices.Contains(m.Names, host) || parent != "" && slices.Contains(m.Names, "*."+parent)
}

// Servers are those it is installed on, each once, without ports.
func (m *Mandate) Servers() []string {
	var list []string
	for _, ref := range m.Install {
		if !slices.Contains(list, ref.Server) {
			list = append(list, ref.Server)
		}
	}
	return list
}

// Proof says how control of the names is shown.
type Proof struct {
	By      string   `json:"by"`                // one of Proofs
	Servers []string `json:"servers,omitempty"` // http: where the file is put
	Folder  string   `json:"folder,omitempty"`  // http: the folder served as /; "" is worked out from the configuration
	At      string   `json:"at,omitempty"`      // listener: where servers reach it, address and port; "" when they need not
	Server  string   `json:"server,omitempty"`  // dns: the primary, address and port
	TSIG    TSIG     `json:"tsig,omitzero"`     // dns
	Await   []string `json:"await,omitempty"`   // dns, program, call: name servers to wait for; those the zone names when empty
	Keep    bool     `json:"keep,omitempty"`    // dns, program, call: the newest order's records are left standing
	Program string   `json:"program,omitempty"` // program: its name in the service's folder of programs
	URL     string   `json:"url,omitempty"`     // call: where records are asked for
	// call: name of the bearer token in the safe; "" for none
	Credential string `json:"credential,omitempty"`
}

// TSIG is the key updates are signed with (RFC 8945).
type TSIG struct {
	Name       string `json:"name"`       // of the key, as the name server knows it
	Algorithm  string `json:"algorithm"`  // such as hmac-sha256
	Credential string `json:"credential"` // name of the key in the safe
}

// What may be chosen in a mandate.
var (
	Proofs         = []string{"http", "listener", "tls-alpn", "dns", "program", "call"}
	KeyKinds       = []string{"ecdsa-p256", "ecdsa-p384", "ecdsa-p521", "ed25519", "rsa-2048", "rsa-3072", "rsa-4096"}
	TSIGAlgorithms = []string{"hmac-sha256", "hmac-sha384", "hmac-sha512"}
)

// PlainPort is where a host has its plain http: where the CA of its mandate
// looks, or that of any other mandate of the estate; 80 when none says.
func (e *Estate) PlainPort(host string) uint16 {
	const usual = 80
	found := uint16(0)
	for i := range e.Mandates {
		m := &e.Mandates[i]
		ca := e.CA(m.CA)
		if ca == nil || ca.ACME == nil {
			continue
		}
		if slices.Contains(m.Names, host) {
			return ca.ACME.HTTPPort
		}
		if found == 0 {
			found = ca.ACME.HTTPPort
		}
	}
	if found == 0 {
		return usual
	}
	return found
}

// CA finds a CA by name, or a source that is always there; nil when there is none.
func (e *Estate) CA(name string) *CA {
	for _, list := range [][]CA{e.CAs, always} {
		for i := range list {
			if list[i].Name == name {
				return &list[i]
			}
		}
	}
	return nil
}

// PlainPort is where a CA looks for files; 80 where it does not say, also for none.
func (c *CA) PlainPort() uint16 {
	if c == nil || c.ACME == nil || c.ACME.HTTPPort == 0 {
		return 80
	}
	return c.ACME.HTTPPort
}

// Resolver is the DNS server to ask in a CA's place; "" for the system's.
func (c *CA) Resolver() string {
	if c == nil || c.ACME == nil {
		return ""
	}
	return c.ACME.Resolver
}

// ca reads a CA and how it is asked. What only one way needs is held against
// the way named by the key by.
func (r *reader) ca(n *yaml.Node) {
	a, own, hand := &ACME{HTTPPort: 80, TLSPort: 443}, &Private{}, &Hand{}
	c := CA{By: ByACME, Place: r.place(n)}
	r.fields(n, "a CA",
		field{"name", true, func(n *yaml.Node) { c.Name = r.serverName(n) }},
		field{"by", false, func(n *yaml.Node) { c.By = r.oneOf(n, "way to ask a CA", Sources) }},
		field{"directory", false, func(n *yaml.Node) { a.Directory = r.https(n) }},
		field{"test_directory", false, func(n *yaml.Node) { a.TestDirectory = r.https(n) }},
		field{"contact", false, func(n *yaml.Node) {
			r.list(n, "a list of e-mail addresses", func(n *yaml.Node) { a.Contact = append(a.Contact, r.email(n)) })
		}},
		field{"roots", false, func(n *yaml.Node) {
			r.list(n, "a list of root certificate files", func(n *yaml.Node) {
				c.Roots = append(c.Roots, n.Value)
				c.Anchors = append(c.Anchors, r.certificates(n)...)
			})
		}},
		field{"external_account", false, func(n *yaml.Node) {
			a.External = &External{}
			r.fields(n, "external_account",
				field{"key_id", true, func(n *yaml.Node) { a.External.KeyID, _ = r.text(n, "the key id the CA gave") }},
				field{"credential", true, func(n *yaml.Node) { a.External.Credential = r.serverName(n) }},
			)
		}},
		field{"budget", false, func(n *yaml.Node) {
			r.fields(n, "budget",
				field{"certificates", true, func(n *yaml.Node) { c.Budget.Certificates = r.number(n, 1, 1_000_000) }},
				field{"days", true, func(n *yaml.Node) { c.Budget.Days = r.number(n, 1, 366) }},
			)
		}},
		field{"resolver", false, func(n *yaml.Node) { a.Resolver = r.socket(n, "53") }},
		field{"http_port", false, func(n *yaml.Node) { a.HTTPPort = uint16(r.number(n, 1, 65535)) }},
		field{"tls_port", false, func(n *yaml.Node) { a.TLSPort = uint16(r.number(n, 1, 65535)) }},
		field{"profiles", false, func(n *yaml.Node) { r.list(n, "a list of profiles", func(n *yaml.Node) { r.profile(n, own) }) }},
		field{"acme", false, func(n *yaml.Node) { own.ACME = r.ownACME(n) }},
		field{"publish", false, func(n *yaml.Node) { own.Publish = r.reached(n) }},
		field{"to", false, func(n *yaml.Node) { hand.To, _ = r.text(n, "where requests are sent") }},
		field{"reply_days", false, func(n *yaml.Node) { hand.Days = r.number(n, 1, 90) }},
	)
	switch c.By {
	case ByPrivate:
		if c.Private = own; len(own.Profiles) == 0 {
			own.Profiles = []Profile{usualProfile()}
		}
	case ByHand:
		c.Hand = hand
	default:
		c.ACME = a
	}
	r.sourceFaults(&c, n)
	r.estate.CAs = append(r.estate.CAs, c)
}

// mandate reads which names are to be on one certificate, from which CA, proved
// and installed how.
func (r *reader) mandate(n *yaml.Node) {
	m := Mandate{Key: KeyKinds[0], Place: r.place(n)}
	most := 0
	r.fields(n, "a mandate",
		field{"name", true, func(n *yaml.Node) { m.Name = r.serverName(n) }},
		field{"names", true, func(n *yaml.Node) {
			r.list(n, "a list of host names", func(n *yaml.Node) { r.mandateName(n, &m) })
		}},
		field{"at_most", false, func(n *yaml.Node) { most = r.number(n, 1, namesLimit) }},
		field{"ca", true, func(n *yaml.Node) { m.CA, _ = r.text(n, "the name of a CA") }},
		field{"otherwise", false, func(n *yaml.Node) {
			r.list(n, "a list of CAs", func(n *yaml.Node) {
				if text, ok := r.text(n, "the name of a CA"); ok {
					m.Otherwise = append(m.Otherwise, text)
				}
			})
		}},
		field{"proof", false, func(n *yaml.Node) { r.proof(n, &m.Proof) }},
		field{"key", false, func(n *yaml.Node) { m.Key = r.oneOf(n, "kind of key", KeyKinds) }},
		field{"key_on", false, func(n *yaml.Node) { m.KeyOn, _ = r.text(n, "the name of a server") }},
		field{"install", false, func(n *yaml.Node) {
			r.list(n, "a list of servers or server:port", func(n *yaml.Node) { r.ref(n, &m.Install) })
		}},
		field{"renew_days", false, func(n *yaml.Node) { m.RenewDays = r.number(n, 1, 365) }},
		field{"subject", false, func(n *yaml.Node) { r.subject(n, &m.Subject) }},
		field{"must_staple", false, func(n *yaml.Node) { r.yesNo(n, &m.Staple) }},
		field{"reuse_key", false, func(n *yaml.Node) { r.yesNo(n, &m.ReuseKey) }},
		field{"profile", false, func(n *yaml.Node) { m.Profile, _ = r.text(n, "the name of a profile") }},
		field{"keep", false, func(n *yaml.Node) { m.Keep = r.number(n, 1, 100) }},
	)
	if most == 0 && len(m.Names) > namesLimit {
		r.fault(m.Place, fmt.Sprintf("at most %d names, or the key at_most, which splits them over several certificates", namesLimit),
			"mandate %s has %d names, too many for one certificate", clip(m.Name), len(m.Names))
		return
	}
	parts := m.split(most)
	if last := parts[len(parts)-1].Name; len(parts) > 1 && !serverName.MatchString(last) {
		r.fault(m.Place, "a shorter name", "the last of the %d mandates it stands for would be called %s", len(parts), last)
	}
	r.estate.Mandates = append(r.estate.Mandates, parts...)
}

// How many names one certificate may hold, and a mandate that is split.
const (
	namesLimit = 100
	splitLimit = 5000
)

// split gives the mandates this one stands for, of so many names each (0 does not split):
// in the order of its names, so that one more at the end makes no other certificate
// anew. Names a wildcard of it covers are left out. The first keeps its name, the
// following are NAME-2, NAME-3.
func (m Mandate) split(most int) []Mandate {
	if most == 0 {
		return []Mandate{m}
	}
	left := slices.DeleteFunc(slices.Clone(m.Names), func(name string) bool {
		_, parent, _ := strings.Cut(name, ".")
		return !strings.HasPrefix(name, "*.") && parent != "" && slices.Contains(m.Names, "*."+parent)
	})
	var parts []Mandate
	for names := range slices.Chunk(left, most) {
		part := m
		part.Names = names
		if n := len(parts); n > 0 {
			part.Name = fmt.Sprintf("%s-%d", m.Name, n+1)
		}
		parts = append(parts, part)
	}
	return parts
}

// KeptUsually is how many former certificates keep their keys where a mandate says
// nothing.
const KeptUsually = 3

// mandateName reads a name a certificate may be ordered for: a host, a wildcard of
// one label, an address, an e-mail address, a URI. Which of them its CA takes is
// held against that later.
func (r *reader) mandateName(n *yaml.Node, m *Mandate) {
	text, ok := r.text(n, "a host name")
	if !ok {
		return
	}
	host, err := names.Alternative(text)
	if err != nil {
		r.fault(r.place(n), expectedName, "%q is not a name to order a certificate for: %v", clip(text), err)
		return
	}
	switch {
	case slices.Contains(m.Names, host):
		r.fault(r.place(n), "each name once", "%s stands twice", host)
	case len(m.Names) == splitLimit:
		r.fault(r.place(n), fmt.Sprintf("at most %d names", splitLimit), "too many names for one mandate")
	default:
		m.Names = append(m.Names, host)
	}
}

// proof reads how control of a name is shown, and where.
func (r *reader) proof(n *yaml.Node, p *Proof) {
	r.fields(n, "proof",
		field{"by", true, func(n *yaml.Node) { p.By = r.oneOf(n, "proof", Proofs) }},
		field{"servers", false, func(n *yaml.Node) {
			r.list(n, "a list of servers", func(n *yaml.Node) {
				if text, ok := r.text(n, "a server's name"); ok {
					p.Servers = append(p.Servers, text)
				}
			})
		}},
		field{"folder", false, func(n *yaml.Node) { p.Folder = r.absolute(n) }},
		field{"at", false, func(n *yaml.Node) { p.At = r.socket(n, "80") }},
		field{"server", false, func(n *yaml.Node) { p.Server = r.socket(n, "53") }},
		field{"await", false, func(n *yaml.Node) {
			r.list(n, "a list of name servers", func(n *yaml.Node) { p.Await = append(p.Await, r.socket(n, "53")) })
		}},
		field{"keep", false, func(n *yaml.Node) { r.yesNo(n, &p.Keep) }},
		field{"program", false, func(n *yaml.Node) { p.Program = r.program(n) }},
		field{"url", false, func(n *yaml.Node) { p.URL = r.called(n) }},
		field{"credential", false, func(n *yaml.Node) { p.Credential = r.serverName(n) }},
		field{"tsig", false, func(n *yaml.Node) {
			p.TSIG.Algorithm = TSIGAlgorithms[0]
			r.fields(n, "tsig",
				field{"name", true, func(n *yaml.Node) {
					p.TSIG.Name, _ = r.text(n, "the key's name, as the name server calls it")
				}},
				field{"algorithm", false, func(n *yaml.Node) { p.TSIG.Algorithm = r.oneOf(n, "algorithm", TSIGAlgorithms) }},
				field{"credential", true, func(n *yaml.Node) { p.TSIG.Credential = r.serverName(n) }},
			)
		}},
	)
	at := r.place(n)
	for _, needed := range proofKeys[p.By].needed {
		if valueOf(n, needed) == nil {
			r.fault(at, "the key "+needed, "proof by %s says no %s", p.By, needed)
		}
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key := n.Content[i].Value
		if keys, known := proofKeys[p.By]; known && key != "by" && !slices.Contains(keys.needed, key) && !slices.Contains(keys.taken, key) {
			r.fault(r.place(n.Content[i]), "the keys of proof by "+p.By+keys.words(), "%s belongs to another proof than by %s", clip(key), p.By)
		}
	}
}

// keysOf are what one way to prove needs said, and what may be said besides.
type keysOf struct{ needed, taken []string }

// words lists them, to stand behind the way.
func (k keysOf) words() string {
	all := append(slices.Clip(k.needed), k.taken...)
	if len(all) == 0 {
		return ", which has none"
	}
	return ": " + strings.Join(all, ", ")
}

// proofKeys are the keys of each way to prove.
var proofKeys = map[string]keysOf{
	"http":     {[]string{"servers"}, []string{"folder"}},
	"listener": {nil, []string{"at"}},
	"tls-alpn": {},
	"dns":      {[]string{"server", "tsig"}, []string{"await", "keep"}},
	"program":  {[]string{"program"}, []string{"await", "keep"}},
	"call":     {[]string{"url"}, []string{"credential", "await", "keep"}},
}

// Records says whether control is shown by records in the DNS: the only way for
// wildcards (RFC 8555 section 8.4), and none for addresses (RFC 8738 section 7).
func (p *Proof) Records() bool { return p.By == "dns" || p.By == "program" || p.By == "call" }

// programName is a file's name without a way to another folder.
var programName = regexp.MustCompile(`^[a-zA-Z0-9_][a-zA-Z0-9._-]{0,62}$`)

// program reads the name of a program of the service's folder of programs.
func (r *reader) program(n *yaml.Node) string {
	const expected = "the name of a program in the folder given to insegna serve with --programs"
	text, ok := r.text(n, expected)
	if ok && !programName.MatchString(text) {
		r.fault(r.place(n), expected, "found %s", describe(n))
	}
	return text
}

// called reads where records are asked for: over https, or on this machine.
func (r *reader) called(n *yaml.Node) string {
	const expected = "an https address, or an http one of this machine such as http://127.0.0.1:8053/records"
	text, ok := r.text(n, expected)
	if !ok {
		return ""
	}
	u, err := url.Parse(text)
	here := false
	if err == nil {
		a, bad := netip.ParseAddr(u.Hostname())
		here = u.Hostname() == "localhost" || bad == nil && a.IsLoopback()
	}
	if err != nil || u.Host == "" || u.User != nil || u.Scheme != "https" && !(u.Scheme == "http" && here) {
		r.fault(r.place(n), expected, "found %s", describe(n))
	}
	return text
}

// resolveMandates checks what mandates and CAs name.
func (r *reader) resolveMandates(servers map[string]int) {
	e := r.estate
	cas := r.once("CA", len(e.CAs), func(i int) (string, Place) { return e.CAs[i].Name, e.CAs[i].Place })
	r.once("mandate", len(e.Mandates), func(i int) (string, Place) { return e.Mandates[i].Name, e.Mandates[i].Place })
	for i := range e.Mandates {
		m := &e.Mandates[i]
		if _, ok := cas[m.CA]; !ok && m.CA != "" && e.CA(m.CA) == nil {
			r.fault(m.Place, "one of "+strings.TrimPrefix(listed(cas)+", "+SelfSigned+", "+HandMade, ", "), "mandate %s names an unknown CA %q", m.Name, clip(m.CA))
		}
		r.heldAgainstCA(m, e.CA(m.CA))
		for i, name := range m.Otherwise {
			other := e.CA(name)
			switch {
			case other == nil:
				r.fault(m.Place, "one of "+listed(cas), "mandate %s names an unknown CA %q", m.Name, clip(name))
			case name == m.CA || slices.Contains(m.Otherwise[:i], name):
				r.fault(m.Place, "each CA once", "mandate %s names the CA %s twice", m.Name, clip(name))
			case other.By == ByHand || other.By == BySelf || e.CA(m.CA) != nil && e.CA(m.CA).By != other.By:
				r.fault(m.Place, "CAs asked in the same way, without anybody's hand", "mandate %s has %s in the place of %s, and they are asked in different ways",
					m.Name, name, m.CA)
			default:
				r.heldAgainstCA(m, other)
			}
		}
		for _, name := range m.Proof.Servers {
			at, ok := servers[name]
			if !ok {
				r.fault(m.Place, "one of "+listed(servers), "mandate %s is proved on an unknown server %q", m.Name, clip(name))
			} else if e.Servers[at].Reach == nil {
				r.fault(m.Place, "reach for that server", "mandate %s is proved on %s, and there is no way to it", m.Name, name)
			}
		}
		r.keyStays(m, servers)
		for _, ref := range m.Install {
			if _, ok := servers[ref.Server]; !ok {
				r.fault(m.Place, "one of "+listed(servers), "mandate %s is installed on an unknown server %q", m.Name,
					clip(ref.Server))
			}
		}
	}
}

// keyStays checks what a mandate says whose keys stay on a server.
func (r *reader) keyStays(m *Mandate, servers map[string]int) {
	if m.KeyOn == "" {
		return
	}
	at, ok := servers[m.KeyOn]
	switch {
	case !ok:
		r.fault(m.Place, "one of "+listed(servers), "mandate %s has its key made on an unknown server %q", m.Name, clip(m.KeyOn))
	case r.estate.Servers[at].Reach == nil:
		r.fault(m.Place, "reach for that server", "mandate %s has its key made on %s, and there is no way to it", m.Name, m.KeyOn)
	case m.ReuseKey:
		r.fault(m.Place, "one of key_on and reuse_key", "mandate %s uses its key again, and a key that stays on %s is made anew each time",
			m.Name, m.KeyOn)
	case m.CA == SelfSigned || r.estate.CA(m.CA) != nil && r.estate.CA(m.CA).By == BySelf:
		r.fault(m.Place, "another CA, or no key_on", "mandate %s signs itself, for which its key has to be in the safe", m.Name)
	}
	for _, ref := range m.Install {
		if ref.Server != m.KeyOn {
			r.fault(m.Place, "a mandate of its own for "+clip(ref.Server), "mandate %s is installed on %s, and its key stays on %s",
				m.Name, clip(ref.Server), m.KeyOn)
		}
	}
}

// expectedName is what a mandate's names may be, as errors say it.
const expectedName = "a DNS name such as booking.lanterncoast.example, or *.lanterncoast.example"

// heldAgainstCA says what of a mandate its CA does not take.
func (r *reader) heldAgainstCA(m *Mandate, ca *CA) {
	if ca == nil {
		return
	}
	var profile *Profile
	switch ca.By {
	case ByACME:
		if m.Proof.By == "" {
			r.fault(m.Place, "the key proof", "a mandate has no proof, and %s wants control of the names shown", m.CA)
		}
		for _, name := range m.Names {
			switch form := names.FormOf(name); {
			case form == names.Address && m.Proof.Records():
				r.fault(m.Place, "proof by http, listener or tls-alpn", "mandate %s holds the address %s, and an address cannot be proved by %s", m.Name, name, m.Proof.By)
			case form == names.Address:
			case form != names.DNS || !strings.Contains(name, "."):
				r.fault(m.Place, expectedName, "%q is not a name to order a certificate for over ACME", clip(name))
			case strings.HasPrefix(name, "*.") && !m.Proof.Records():
				r.fault(m.Place, "proof by dns", "mandate %s holds %s, and a wildcard can be proved by dns alone", m.Name, name)
			}
		}
		if m.Key == "ed25519" {
			r.fault(m.Place, "another kind of key", "no CA that browsers trust takes a key of the kind %s", m.Key)
		}
	default:
		if m.Proof.By != "" {
			r.fault(m.Place, "no proof", "mandate %s proves its names, which nobody asks for: %s is asked by %s", m.Name, m.CA, ca.By)
		}
		if ca.Private != nil {
			if profile = ca.Private.Profile(m.Profile); profile == nil {
				r.fault(m.Place, "a profile of "+m.CA, "mandate %s names an unknown profile %q", m.Name, clip(m.Profile))
				return
			}
			for _, name := range m.Names {
				if !profile.Allows(name) {
					r.fault(m.Place, "names of "+strings.Join(profile.Names, ", "), "mandate %s holds %s, which the profile %s of %s does not allow",
						m.Name, clip(name), profile.Name, m.CA)
				}
			}
			if len(profile.Keys) > 0 && !slices.Contains(profile.Keys, m.Key) {
				r.fault(m.Place, "one of "+strings.Join(profile.Keys, ", "), "mandate %s has a key of the kind %s, which the profile %s of %s does not allow",
					m.Name, m.Key, profile.Name, m.CA)
			}
		}
	}
	if m.Profile != "" && ca.Private == nil && ca.ACME == nil {
		r.fault(m.Place, "no profile", "mandate %s names a profile, and %s has none", m.Name, m.CA)
	}
}

// MandateText writes a mandate as an estate file has it, for ParseMandate.
func MandateText(m *Mandate) ([]byte, error) { return yaml.Marshal(mandateNode(m)) }

// ParseMandate reads one mandate, written as in an estate file or as JSON,
// against an estate, and gives those it stands for: several where it is split. The
// error is of type Errors.
func ParseMandate(data []byte, e *Estate) ([]Mandate, error) {
	r := &reader{file: "mandate", estate: &Estate{CAs: e.CAs}}
	if len(data) > 1<<20 {
		return nil, Errors{{Place{File: r.file}, "it is larger than 1 MB", ""}}
	}
	root, err := r.document(data)
	if err == nil {
		r.mandate(root)
		r.estate.Servers = e.Servers
		servers := map[string]int{}
		for i := range e.Servers {
			servers[e.Servers[i].Name] = i
		}
		r.resolveMandates(servers)
	}
	if len(r.errs) > 0 {
		return nil, r.errs
	}
	return r.estate.Mandates, nil
}

// oneOf reads one word of a list, and gives the list when it is another.
func (r *reader) oneOf(n *yaml.Node, what string, list []string) string {
	expected := "one of " + strings.Join(list, ", ")
	text, ok := r.text(n, expected)
	if ok && !slices.Contains(list, text) {
		r.fault(r.place(n), expected, "unknown %s %q", what, clip(text))
	}
	return text
}

// number reads a whole number within bounds; the least stands in for one that
// is wrong, so that reading goes on.
func (r *reader) number(n *yaml.Node, least, most int) int {
	v, err := strconv.Atoi(n.Value)
	if n.Kind != yaml.ScalarNode || err != nil || v < least || v > most {
		r.fault(r.place(n), fmt.Sprintf("a whole number from %d to %d", least, most), "found %s", describe(n))
		return least
	}
	return v
}

// https reads an address that must not be asked in the clear.
func (r *reader) https(n *yaml.Node) string {
	const expected = "an https address, such as https://ca.example/directory"
	text, ok := r.text(n, expected)
	if u, err := url.Parse(text); ok && (err != nil || u.Scheme != "https" || u.Host == "") {
		r.fault(r.place(n), expected, "found %s", describe(n))
	}
	return text
}

// reached reads where clients reach this service: revocation lists and answers are
// signed themselves, and http is the way to them (RFC 5280 section 8).
func (r *reader) reached(n *yaml.Node) string {
	const expected = "an address of this service, such as http://insegna.lanterncoast.example:7420"
	text, ok := r.text(n, expected)
	if u, err := url.Parse(text); ok && (err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" || strings.Trim(u.Path, "/") != "") {
		r.fault(r.place(n), expected, "found %s", describe(n))
	}
	return strings.TrimSuffix(text, "/")
}

// email reads a contact as ACME wants it, a mailto URL with one address and no
// header fields (RFC 8555 section 7.3).
func (r *reader) email(n *yaml.Node) string {
	const expected = "an e-mail address"
	text, ok := r.text(n, expected)
	text = strings.TrimPrefix(text, "mailto:")
	if ok && (strings.Count(text, "@") != 1 || strings.ContainsAny(text, " ,?<>\x00\n")) {
		r.fault(r.place(n), expected, "found %s", describe(n))
	}
	return "mailto:" + text
}

// socket reads an address with a port, which may be left out.
func (r *reader) socket(n *yaml.Node, port string) string {
	expected := "an address, or address:port"
	text, ok := r.text(n, expected)
	if !ok {
		return ""
	}
	if _, err := netip.ParseAddr(text); err == nil {
		return net.JoinHostPort(text, port)
	}
	if at, err := netip.ParseAddrPort(text); err != nil || at.Port() == 0 {
		r.fault(r.place(n), expected, "found %s", describe(n))
	}
	return text
}

// caItem tells a CA without its secrets: the credential by name alone.
func caItem(c CA) item {
	a, external := c.ACME, ""
	if a == nil {
		a = &ACME{}
	}
	if a.External != nil {
		external = a.External.KeyID + " " + a.External.Credential
	}
	prints := make([]string, len(c.Anchors))
	for i, anchor := range c.Anchors {
		prints[i] = anchor.CommonName() + " " + anchor.Fingerprint.String()[:12]
	}
	own, hand := "", ""
	if c.Private != nil {
		own = fmt.Sprintf("%+v %s", c.Private.Profiles, c.Private.Publish)
		if c.Private.ACME != nil {
			own += fmt.Sprintf(" %+v", *c.Private.ACME)
		}
	}
	if c.Hand != nil {
		hand = fmt.Sprintf("%s in %d days", c.Hand.To, c.Hand.Days)
	}
	return item{c.Name, c.Place, [][2]string{{"by", c.By}, {"profiles", own}, {"by hand", hand}, {"directory", a.Directory},
		{"test directory", a.TestDirectory}, {"contact", strings.Join(a.Contact, ", ")},
		{"roots", strings.Join(prints, ", ")},
		{"external account", external}, {"budget", fmt.Sprintf("%d in %d days", c.Budget.Certificates, c.Budget.Days)},
		{"resolver", a.Resolver}, {"http port", fmt.Sprint(a.HTTPPort)}, {"tls port", fmt.Sprint(a.TLSPort)}}}
}

// mandateItem tells a mandate with everything that makes it another order.
func mandateItem(m Mandate) item {
	p := m.Proof
	return item{m.Name, m.Place, [][2]string{{"names", strings.Join(m.Names, ", ")}, {"ca", m.CA}, {"otherwise", strings.Join(m.Otherwise, ", ")},
		{"proof", strings.TrimSpace(strings.Join([]string{p.By, strings.Join(p.Servers, " "), path.Clean("/" + p.Folder),
			p.At, p.Server, p.TSIG.Name, p.TSIG.Algorithm, p.TSIG.Credential, p.Program, p.URL, p.Credential, strings.Join(p.Await, " ")}, " "))},
		{"records are kept", fmt.Sprint(p.Keep)}, {"key", m.Key}, {"key on", m.KeyOn}, {"install", joined(m.Install)}, {"renew days", fmt.Sprint(m.RenewDays)},
		{"subject", m.Subject.words()}, {"must staple", fmt.Sprint(m.Staple)}, {"reuse key", fmt.Sprint(m.ReuseKey)}, {"profile", m.Profile},
		{"keep", fmt.Sprint(m.Keep)}}}
}
