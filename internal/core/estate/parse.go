package estate

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/names"
)

// SizeLimit is the most an estate file may hold, in bytes.
const SizeLimit = 48 << 20

// endpointLimit bounds what one file can expand to.
const endpointLimit = 1_000_000

// maxErrors is how many faults of a file are told at once.
const maxErrors = 20

// Error is one fault of an estate file.
type Error struct {
	Place    Place  // where it is wrong
	Message  string // what is wrong
	Expected string // what would be right; "" when nothing can be said
}

// Error begins with the place, so that editors and terminals can jump to it.
func (e *Error) Error() string {
	at := e.Place.File
	if e.Place.Line > 0 {
		at = e.Place.Full()
	}
	if e.Expected == "" {
		return fmt.Sprintf("%s: %s", at, e.Message)
	}
	return fmt.Sprintf("%s: %s; expected %s", at, e.Message, e.Expected)
}

// Errors are all faults found in a file, at least one.
type Errors []*Error

// Error gives one error a line, in the order of the file.
func (es Errors) Error() string {
	lines := make([]string, len(es))
	for i, e := range es {
		lines[i] = e.Error()
	}
	return strings.Join(lines, "\n")
}

// Open gives the content of a file a declaration mentions, by the path
// written there.
type Open func(path string) ([]byte, error)

// Text is one file of an estate.
type Text struct {
	File string `json:"file"` // its name, said in errors and kept as the origin of what it declares
	Data []byte `json:"data"`
}

// Parse reads an estate file in which servers are of some kinds. The error is
// of type Errors.
func Parse(file string, data []byte, kinds Kinds, open Open) (*Estate, error) {
	return ParseAll([]Text{{file, data}}, kinds, open)
}

// ParseAll reads an estate that several files declare together: lists are put one behind the
// other, everything else stands in one of them. The error is of type Errors.
func ParseAll(texts []Text, kinds Kinds, open Open) (*Estate, error) {
	r := &reader{open: open, kinds: kinds, estate: &Estate{Schedule: usualSchedule()}, stands: map[string]Place{}}
	whole := 0
	for _, t := range texts {
		r.file = t.File
		if whole += len(t.Data); whole > SizeLimit {
			return nil, Errors{{Place{File: t.File}, fmt.Sprintf("the file holds %.1f MB", float64(whole)/1e6),
				fmt.Sprintf("an estate file of at most %d MB; a server with port ranges declares many endpoints in one line",
					SizeLimit>>20)}}
		}
		if root, err := r.document(t.Data); err == nil {
			r.estateFields(root)
		} else if len(texts) == 1 {
			return nil, r.errs
		}
	}
	if len(texts) > 0 {
		r.file = texts[0].File
	}
	for _, key := range []string{"estate", "audiences", "servers", "hosts"} {
		if _, there := r.stands[key]; !there {
			r.fault(Place{File: r.file, Line: 1, Column: 1}, "the key "+key, "an estate has no %s", key)
		}
	}
	r.resolve()
	if len(r.errs) > 0 {
		return nil, r.errs
	}
	return r.estate, nil
}

// Mentioned lists the certificate files an estate file names, as written, so
// that a caller can bring them along. It does not judge the file.
func Mentioned(data []byte) []string {
	var doc struct {
		Audiences     []struct{ Roots []string }
		Intermediates []string
		CAs           []struct{ Roots []string } `yaml:"cas"`
		Owners        []struct {
			Webhook struct{ Roots []string }
		}
		Notices struct {
			Mail struct{ Roots []string }
		}
	}
	if len(data) > SizeLimit || yaml.Unmarshal(data, &doc) != nil {
		return nil
	}
	paths := doc.Intermediates
	for _, a := range doc.Audiences {
		paths = append(paths, a.Roots...)
	}
	for _, c := range doc.CAs {
		paths = append(paths, c.Roots...)
	}
	for _, o := range doc.Owners {
		paths = append(paths, o.Webhook.Roots...)
	}
	paths = append(paths, doc.Notices.Mail.Roots...)
	slices.Sort(paths)
	return slices.Compact(paths)
}

// reader goes through a document once and collects every error instead of
// stopping at the first, at most maxErrors of them.
type reader struct {
	file   string           // name of the estate file
	open   Open             // reads what it mentions
	kinds  Kinds            // that may be named
	estate *Estate          // as far as it is read
	errs   Errors           // in the order they were met
	alone  bool             // one host is read, and not a file
	stands map[string]Place // where keys of the root were met
}

// errStopped ends the reading of a document that has no structure to go on
// with.
var errStopped = errors.New("stopped")

// place is where a node stands, for errors and for the model itself.
func (r *reader) place(n *yaml.Node) Place {
	return Place{File: r.file, Line: n.Line, Column: n.Column}
}

// fault notes what is wrong, what was expected and where.
func (r *reader) fault(at Place, expected, format string, args ...any) {
	if len(r.errs) < maxErrors {
		r.errs = append(r.errs, &Error{at, fmt.Sprintf(format, args...), expected})
	}
}

// yamlLine finds the line in the YAML library's errors, which carry it as text
// alone.
var yamlLine = regexp.MustCompile(`line (\d+):? ?`)

// document parses the YAML and hands on its root. Several documents in one file
// are refused, for the second would silently count for nothing.
func (r *reader) document(data []byte) (*yaml.Node, error) {
	var doc yaml.Node
	dec := yaml.NewDecoder(bytes.NewReader(data))
	err := dec.Decode(&doc)
	switch {
	case errors.Is(err, io.EOF):
		r.fault(Place{File: r.file, Line: 1, Column: 1}, "an estate: name, audiences, servers and hosts", "the file is empty")
		return nil, errStopped
	case err != nil:
		at, text := Place{File: r.file, Line: 1, Column: 1}, strings.TrimPrefix(err.Error(), "yaml: ")
		if m := yamlLine.FindStringSubmatch(text); m != nil {
			at.Line, _ = strconv.Atoi(m[1])
			text = strings.Replace(text, m[0], "", 1)
		}
		r.fault(at, "YAML", "%s", clip(text))
		return nil, errStopped
	case dec.Decode(new(yaml.Node)) != io.EOF:
		r.fault(Place{File: r.file, Line: doc.Line, Column: 1}, "one YAML document in a file", "more than one document")
		return nil, errStopped
	}
	return doc.Content[0], nil
}

// clip keeps what a file said short and printable in an error.
func clip(s string) string {
	s = strings.ToValidUTF8(s, "?")
	if len(s) > 120 {
		s = s[:117] + "..."
	}
	return strings.Map(func(c rune) rune {
		if c < ' ' || c == 0x7f {
			return ' '
		}
		return c
	}, s)
}

// field is one key of a mapping: whether it must stand there, and what reads
// its value.
type field struct {
	key  string           // as it is written
	must bool             // an error when it is missing
	read func(*yaml.Node) // takes the value
}

// fields walks a mapping, strictly: every key known, none twice, required
// ones there.
func (r *reader) fields(n *yaml.Node, what string, list ...field) {
	keys := make([]string, len(list))
	for i, f := range list {
		keys[i] = f.key
	}
	if n.Kind != yaml.MappingNode {
		r.fault(r.place(n), what+" as a mapping with the keys "+strings.Join(keys, ", "), "found %s", describe(n))
		return
	}
	seen := map[string]bool{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		at := slices.Index(keys, key.Value)
		switch {
		case at < 0:
			r.fault(r.place(key), "one of "+strings.Join(keys, ", "), "unknown key %q in %s", clip(key.Value), what)
		case seen[key.Value]:
			r.fault(r.place(key), "each key once", "key %q stands twice in %s", key.Value, what)
		default:
			seen[key.Value] = true
			list[at].read(value)
		}
	}
	for _, f := range list {
		if f.must && !seen[f.key] {
			r.fault(r.place(n), "the key "+f.key, "%s has no %s", what, f.key)
		}
	}
}

// describe says what was found in words of the file, not of YAML's types where
// they can be avoided.
func describe(n *yaml.Node) string {
	switch n.Kind {
	case yaml.MappingNode:
		return "a mapping"
	case yaml.SequenceNode:
		return "a list"
	case yaml.AliasNode:
		return "an alias (*" + clip(n.Value) + "), which estate files do not use"
	}
	if n.Value == "" {
		return "nothing"
	}
	return fmt.Sprintf("%q", clip(n.Value))
}

// text reads a scalar that is not empty; ok is false when a fault was noted.
func (r *reader) text(n *yaml.Node, expected string) (string, bool) {
	if n.Kind != yaml.ScalarNode || n.Value == "" || n.Tag == "!!null" {
		r.fault(r.place(n), expected, "found %s", describe(n))
		return "", false
	}
	return n.Value, true
}

// list reads a list that is not empty, each item by the function given.
func (r *reader) list(n *yaml.Node, expected string, each func(*yaml.Node)) {
	if n.Kind != yaml.SequenceNode || len(n.Content) == 0 {
		r.fault(r.place(n), expected, "found %s", describe(n))
		return
	}
	for _, item := range n.Content {
		each(item)
	}
}

// yesNo takes YAML 1.2's true and false alone; yes, no, on and off are text
// there and would be read otherwise by other programs.
func (r *reader) yesNo(n *yaml.Node, into *bool) {
	if n.Kind != yaml.ScalarNode || n.Tag != "!!bool" || n.Decode(into) != nil {
		r.fault(r.place(n), "true or false", "found %s", describe(n))
	}
}

// estateFields reads the root. Order does not matter: names are resolved when
// all is read.
func (r *reader) estateFields(n *yaml.Node) {
	e := r.estate
	if n.Kind == yaml.MappingNode {
		for i := 0; i+1 < len(n.Content); i += 2 {
			key, once := n.Content[i], n.Content[i+1].Kind != yaml.SequenceNode
			if had, twice := r.stands[key.Value]; twice && once && had.File != r.file {
				r.fault(r.place(key), "it in one of the files", "key %q stands in %s already", clip(key.Value), had.AtLine())
			} else if !twice {
				r.stands[key.Value] = r.place(key)
			}
		}
	}
	r.fields(n, "an estate",
		field{"estate", false, func(n *yaml.Node) { e.Name, _ = r.text(n, "the estate's name") }},
		field{"audiences", false, func(n *yaml.Node) { r.list(n, "a list of audiences", r.audience) }},
		field{"intermediates", false, func(n *yaml.Node) {
			r.list(n, "a list of certificate files",
				func(n *yaml.Node) { e.Intermediates = append(e.Intermediates, r.certificates(n)...) })
		}},
		field{"servers", false, func(n *yaml.Node) { r.list(n, "a list of servers", r.server) }},
		field{"hosts", false, func(n *yaml.Node) { r.list(n, "a list of hosts", r.host) }},
		field{"cas", false, func(n *yaml.Node) { r.list(n, "a list of CAs", r.ca) }},
		field{"mandates", false, func(n *yaml.Node) { r.list(n, "a list of mandates", r.mandate) }},
		field{"schedule", false, r.schedule},
		field{"owner", false, func(n *yaml.Node) { e.Owner = r.label(n, "owner") }},
		field{"owners", false, func(n *yaml.Node) { r.list(n, "a list of owners", r.owner) }},
		field{"groups", false, func(n *yaml.Node) { r.list(n, "a list of groups", r.group) }},
		field{"notices", false, r.notices},
		field{"mending", false, func(n *yaml.Node) { r.list(n, "a list of rules with codes and hours", r.mending) }},
	)
}

// audience reads a class of clients and loads its roots, so that a missing file
// is told at its line.
func (r *reader) audience(n *yaml.Node) {
	a := Audience{Place: r.place(n)}
	r.fields(n, "an audience",
		field{"name", true, func(n *yaml.Node) { a.Name, _ = r.text(n, "the audience's name") }},
		field{"public", false, func(n *yaml.Node) { r.yesNo(n, &a.Public) }},
		field{"roots", true, func(n *yaml.Node) {
			r.list(n, "a list of root certificate files", func(n *yaml.Node) {
				a.Roots = append(a.Roots, n.Value)
				a.Anchors = append(a.Anchors, r.certificates(n)...)
			})
		}},
	)
	r.estate.Audiences = append(r.estate.Audiences, a)
}

// certificates loads a file of certificates named in the estate; whatever is
// wrong with it is told at the line that names it.
func (r *reader) certificates(n *yaml.Node) []*certs.Certificate {
	path, ok := r.text(n, "the path of a certificate file")
	if !ok {
		return nil
	}
	data, err := r.open(path)
	if err != nil {
		r.fault(r.place(n), "a readable file of certificates", "cannot read %s: %v", clip(path), err)
		return nil
	}
	list, err := certs.ReadCertificates(data)
	if err != nil {
		r.fault(r.place(n), "", "%s: %v", clip(path), err)
	}
	return list
}

// server reads a server with its addresses, ports and the way to it.
func (r *reader) server(n *yaml.Node) {
	s := Server{Kind: r.kinds.unsaid(), WithoutSNI: true, Place: r.place(n)}
	r.fields(n, "a server",
		field{"name", true, func(n *yaml.Node) { s.Name = r.serverName(n) }},
		field{"kind", false, func(n *yaml.Node) {
			s.Kind = r.oneOf(n, "kind", r.kinds.Names())
		}},
		field{"addresses", true, func(n *yaml.Node) {
			r.list(n, "a list of IP addresses", func(n *yaml.Node) { r.address(n, &s) })
		}},
		field{"ports", false, func(n *yaml.Node) {
			r.list(n, "a list of ports", func(n *yaml.Node) { r.ports(n, &s) })
		}},
		field{"without_sni", false, func(n *yaml.Node) { r.yesNo(n, &s.WithoutSNI) }},
		field{"schedule", false, func(n *yaml.Node) { r.ownSchedule(n, &s.Every) }},
		field{"owner", false, func(n *yaml.Node) { s.Owner = r.label(n, "owner") }},
		field{"hosts", false, func(n *yaml.Node) { s.AllHosts = r.oneOf(n, "hosts", []string{"all"}) == "all" }},
		field{"reach", false, func(n *yaml.Node) { s.Reach = r.reach(n) }},
	)
	r.completeReach(&s)
	if s.AllHosts && s.Reach == nil {
		r.fault(s.Place, "reach, so that its configuration tells them", "server %s is to have all its hosts watched, and there is no way to it", s.Name)
	}
	if len(s.Ports) == 0 {
		s.Ports = []PortRange{{443, 443}}
	}
	r.estate.Servers = append(r.estate.Servers, s)
}

// serverName keeps names fit for addresses of the console, the command line and
// server:port.
var serverName = regexp.MustCompile(`^[a-zA-Z0-9][a-zA-Z0-9._-]{0,62}$`)

// serverName reads a name people type often.
func (r *reader) serverName(n *yaml.Node) string {
	const expected = "a short name of letters, digits, dots, hyphens and underscores"
	name, ok := r.text(n, expected)
	if ok && !serverName.MatchString(name) {
		r.fault(r.place(n), expected, "server name %q", clip(name))
	}
	return name
}

// address reads one address of one machine: neither a wildcard nor a group, and
// without a zone, which means nothing on another machine.
func (r *reader) address(n *yaml.Node, s *Server) {
	const expected = "an IPv4 or IPv6 address such as 192.0.2.10 or 2001:db8::10"
	text, ok := r.text(n, expected)
	if !ok {
		return
	}
	a, err := netip.ParseAddr(text)
	switch {
	case err != nil || a.Zone() != "":
		r.fault(r.place(n), expected, "bad address %q", clip(text))
	case a.IsUnspecified() || a.IsMulticast():
		r.fault(r.place(n), "the address of one machine", "%s is no machine's address", a)
	case slices.Contains(s.Addresses, a.Unmap()):
		r.fault(r.place(n), "each address once", "address %s stands twice", a)
	default:
		s.Addresses = append(s.Addresses, a.Unmap())
	}
}

// ports reads a port or a range of them; a range that runs backwards is
// refused.
func (r *reader) ports(n *yaml.Node, s *Server) {
	const expected = "a port from 1 to 65535 or a range such as 9000-9099"
	text, ok := r.text(n, expected)
	if !ok {
		return
	}
	first, last, ranged := strings.Cut(text, "-")
	if !ranged {
		last = first
	}
	a, errA := strconv.ParseUint(first, 10, 16)
	b, errB := strconv.ParseUint(last, 10, 16)
	if errA != nil || errB != nil || a == 0 || b < a {
		r.fault(r.place(n), expected, "bad port %q", clip(text))
		return
	}
	for _, o := range s.Ports {
		if uint16(a) <= o.Last && o.First <= uint16(b) {
			r.fault(r.place(n), "each port once", "port %s overlaps %s", text, o)
			return
		}
	}
	s.Ports = append(s.Ports, PortRange{uint16(a), uint16(b)})
}

// host reads a host name and where it is to answer.
func (r *reader) host(n *yaml.Node) {
	h := Host{Place: r.place(n)}
	r.fields(n, "a host",
		field{"name", true, func(n *yaml.Node) { h.Name = r.hostName(n) }},
		field{"at", true, func(n *yaml.Node) {
			r.list(n, "a list of servers or server:port", func(n *yaml.Node) { r.ref(n, &h.At) })
		}},
		field{"audiences", false, func(n *yaml.Node) {
			r.list(n, "a list of audience names", func(n *yaml.Node) { r.hostAudience(n, &h) })
		}},
		field{"wanted", false, func(n *yaml.Node) { r.wanted(n, &h.Wanted) }},
		field{"group", false, func(n *yaml.Node) { h.Group = r.label(n, "group") }},
		field{"owner", false, func(n *yaml.Node) { h.Owner = r.label(n, "owner") }},
		field{"tags", false, r.labels(&h.Tags, "tag")},
	)
	r.estate.Hosts = append(r.estate.Hosts, h)
}

// hostName turns a name to the form certificates hold, ASCII and lower case,
// and says why one is no name.
func (r *reader) hostName(n *yaml.Node) string {
	text, ok := r.text(n, "a host name")
	if !ok {
		return ""
	}
	name, err := names.Host(text)
	if err != nil {
		reason := err.Error()
		if he := (*names.HostError)(nil); errors.As(err, &he) {
			reason = he.Reason
		}
		r.fault(r.place(n), "a DNS name such as booking.lanterncoast.example or an IP address", "%q is not a host name: %s",
			clip(text), reason)
	}
	return name
}

// hostAudience keeps each audience once; that it exists is seen when the whole
// file is read.
func (r *reader) hostAudience(n *yaml.Node, h *Host) {
	name, ok := r.text(n, "the name of an audience")
	if ok && slices.Contains(h.Audiences, name) {
		r.fault(r.place(n), "each audience once", "audience %q stands twice", clip(name))
	}
	h.Audiences = append(h.Audiences, name)
}

// wanted reads what a host is to show: an issuer, one certificate, or both.
func (r *reader) wanted(n *yaml.Node, w *Wanted) {
	r.fields(n, "wanted",
		field{"issuer", false, func(n *yaml.Node) { w.Issuer, _ = r.text(n, "the common name of the issuing CA") }},
		field{"certificate", false, func(n *yaml.Node) {
			text, ok := r.text(n, "the SHA-256 fingerprint of a certificate")
			if !ok {
				return
			}
			f, err := certs.ParseFingerprint(text)
			if err != nil {
				r.fault(r.place(n), "64 hexadecimal digits", "bad fingerprint %q", clip(text))
			}
			w.Certificate = f.String()
		}},
	)
}
