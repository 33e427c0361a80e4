package estate

import (
	"fmt"
	"net"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/names"
)

// Notices says who is told of what, and how.
type Notices struct {
	Console string        // address its links lead to; "" for no links
	Mail    *MailServer   // nil when nobody is told by mail
	Gather  time.Duration // at most one message in so long to each owner
	Digest  *time.Duration
	Rules   []NoticeRule // never empty
	Place   Place        // in the estate file
}

// MailServer is where mail is handed in (RFC 5321).
type MailServer struct {
	Server     string // host:port
	Security   string // one of MailSecurity
	From       string // address
	User       string // "" signs in nowhere
	Credential string // passphrase in the safe
	Roots      []string
	Anchors    Anchors // its certificate is trusted by; none for the system's
}

// MailSecurity are the ways to a mail server: TLS after STARTTLS (RFC 3207), TLS from the
// start (RFC 8314), none.
var MailSecurity = []string{"starttls", "tls", "none"}

// mailPorts are those of the ways, where a file names none.
var mailPorts = map[string]string{"starttls": "587", "tls": "465", "none": "25"}

// NoticeEvent is a kind of event people may be told of.
type NoticeEvent string

// The kinds of event.
const (
	NoticeFound     NoticeEvent = "found"     // a finding was opened, or came back after it was accepted
	NoticeMended    NoticeEvent = "mended"    // it was closed
	NoticeEnds      NoticeEvent = "ends"      // a certificate in use ends in so many days
	NoticeRenewed   NoticeEvent = "renewed"   // a certificate was issued
	NoticeInstalled NoticeEvent = "installed" // one was installed, or a finding mended
	NoticeFailed    NoticeEvent = "failed"    // an order or an installation was not
	NoticeStale     NoticeEvent = "stale"     // faces were read longer ago than the schedule allows
	NoticeAsked     NoticeEvent = "asked"     // a CA asks for early renewal (RFC 9773)
)

// NoticeEvents are all kinds, in the order they are told.
var NoticeEvents = []NoticeEvent{NoticeFound, NoticeEnds, NoticeFailed, NoticeStale, NoticeAsked, NoticeMended, NoticeRenewed,
	NoticeInstalled}

// NoticeRule says who is told of what.
type NoticeRule struct {
	To         []string      // owners; none for whose it is
	Events     []NoticeEvent // never empty
	Severities []string      // of findings; never empty
	Days       []int         // before an end, the most first
	Among                    // what it is about
	Place      Place         // in the estate file
}

// What counts where a file says nothing.
var (
	usualGather     = 15 * time.Minute
	usualEvents     = []NoticeEvent{NoticeFound, NoticeEnds, NoticeFailed, NoticeStale, NoticeAsked, NoticeMended}
	usualSeverities = []string{"broken", "due"}
	severities      = []string{"broken", "due", "weak", "note"}
	usualDays       = []int{21, 7, 3, 1}
)

// Wants says whether the rule is for an event about something.
func (n *NoticeRule) Wants(event NoticeEvent, about Belongs) bool {
	return slices.Contains(n.Events, event) && n.Fits(about)
}

// Receivers gives who is told by the rule of something: those it names, or whose it is.
func (n *NoticeRule) Receivers(about Belongs) []string {
	if len(n.To) > 0 {
		return n.To
	}
	if about.Owner == "" {
		return nil
	}
	return []string{about.Owner}
}

// Anchors are certificates something is trusted by.
type Anchors []*certs.Certificate

// text tells them by name and the beginning of their fingerprint.
func (list Anchors) text() string {
	prints := make([]string, len(list))
	for i, c := range list {
		prints[i] = c.CommonName() + " " + c.Fingerprint.String()[:12]
	}
	slices.Sort(prints)
	return strings.Join(prints, ", ")
}

// roots reads a list of files of root certificates.
func (r *reader) roots(n *yaml.Node) (paths []string, anchors Anchors) {
	r.list(n, "a list of root certificate files", func(n *yaml.Node) {
		paths = append(paths, n.Value)
		anchors = append(anchors, r.certificates(n)...)
	})
	return paths, anchors
}

// notices reads who is told of what.
func (r *reader) notices(n *yaml.Node) {
	v := &Notices{Gather: usualGather, Place: r.place(n)}
	r.fields(n, "notices",
		field{"console", false, func(n *yaml.Node) {
			const expected = "the address people open the console at, such as https://insegna.lanterncoast.example"
			if text, ok := r.text(n, expected); ok {
				if v.Console = strings.TrimSuffix(text, "/"); !webhookAddress.MatchString(v.Console) || len(text) > 500 {
					r.fault(r.place(n), expected, "bad address %q", clip(text))
				}
			}
		}},
		field{"mail", false, func(n *yaml.Node) { v.Mail = r.mailServer(n) }},
		field{"gather", false, func(n *yaml.Node) {
			if r.interval(n, &v.Gather, time.Minute) && v.Gather == 0 {
				r.fault(r.place(n), "a while such as 15m", "messages cannot be gathered for ever")
			}
		}},
		field{"digest", false, func(n *yaml.Node) { v.Digest = r.clock(n) }},
		field{"rules", false, func(n *yaml.Node) {
			r.list(n, "a list of rules", func(n *yaml.Node) { v.Rules = append(v.Rules, r.noticeRule(n)) })
		}},
	)
	if len(v.Rules) == 0 {
		v.Rules = []NoticeRule{{Events: usualEvents, Severities: usualSeverities, Days: usualDays, Place: v.Place}}
	}
	r.estate.Notices = v
}

// clocks are times of the day.
var clocks = regexp.MustCompile(`^([01]?[0-9]|2[0-3]):([0-5][0-9])$`)

// clock reads a time of the day; never is nil.
func (r *reader) clock(n *yaml.Node) *time.Duration {
	const expected = "a time of the day such as 07:00, or never"
	text, ok := r.text(n, expected)
	if !ok || text == "never" {
		return nil
	}
	m := clocks.FindStringSubmatch(text)
	if m == nil {
		r.fault(r.place(n), expected, "bad time %q", clip(text))
		return nil
	}
	h, _ := strconv.Atoi(m[1]) // two digits at most
	min, _ := strconv.Atoi(m[2])
	at := time.Duration(h)*time.Hour + time.Duration(min)*time.Minute
	return &at
}

// Clock writes a time of the day as an estate file has it.
func Clock(d time.Duration) string {
	return fmt.Sprintf("%02d:%02d", int(d.Hours()), int(d.Minutes())%60)
}

// mailServer reads where mail is handed in.
func (r *reader) mailServer(n *yaml.Node) *MailServer {
	m := &MailServer{Security: MailSecurity[0]}
	var server *yaml.Node
	at := r.place(n)
	r.fields(n, "mail",
		field{"server", true, func(n *yaml.Node) { server = n }},
		field{"security", false, func(n *yaml.Node) { m.Security = r.oneOf(n, "security", MailSecurity) }},
		field{"from", true, func(n *yaml.Node) { m.From = r.mailAddress(n) }},
		field{"user", false, func(n *yaml.Node) { m.User, _ = r.text(n, "the name to sign in with") }},
		field{"credential", false, func(n *yaml.Node) { m.Credential = r.serverName(n) }},
		field{"roots", false, func(n *yaml.Node) { m.Roots, m.Anchors = r.roots(n) }},
	)
	if server != nil {
		m.Server = r.hostPort(server, mailPorts[m.Security])
	}
	switch {
	case (m.User == "") != (m.Credential == ""):
		r.fault(at, "user and credential, or neither", "signing in needs a name and the credential that holds its passphrase")
	case m.User != "" && m.Security == "none":
		r.fault(at, "security: starttls or tls", "a passphrase would go over the network in the clear")
	}
	return m
}

// hostPort reads a host or address, with a port or without.
func (r *reader) hostPort(n *yaml.Node, port string) string {
	const expected = "a host name or address, with a port or without, such as mail.lanterncoast.example:587"
	text, ok := r.text(n, expected)
	if !ok {
		return ""
	}
	host := text
	if _, err := netip.ParseAddr(text); err != nil && strings.Contains(text, ":") {
		if host, port, err = net.SplitHostPort(text); err != nil {
			host = ""
		}
	}
	_, badHost := names.Host(host)
	if p, err := strconv.ParseUint(port, 10, 16); badHost != nil || err != nil || p == 0 {
		r.fault(r.place(n), expected, "bad server %q", clip(text))
	}
	return net.JoinHostPort(host, port)
}

// noticeRule reads a rule.
func (r *reader) noticeRule(n *yaml.Node) NoticeRule {
	v := NoticeRule{Place: r.place(n)}
	r.fields(n, "a rule", append(r.among(&v.Among),
		field{"to", false, r.labels(&v.To, "owner")},
		field{"events", false, func(n *yaml.Node) {
			words := make([]string, len(NoticeEvents))
			for i, e := range NoticeEvents {
				words[i] = string(e)
			}
			r.list(n, "a list of kinds of event", func(n *yaml.Node) { v.Events = append(v.Events, NoticeEvent(r.oneOf(n, "kind of event", words))) })
		}},
		field{"severities", false, func(n *yaml.Node) {
			r.list(n, "a list of severities", func(n *yaml.Node) { v.Severities = append(v.Severities, r.oneOf(n, "severity", severities)) })
		}},
		field{"days", false, func(n *yaml.Node) {
			r.list(n, "a list of days before the end", func(n *yaml.Node) { v.Days = append(v.Days, r.number(n, 0, 366)) })
		}},
	)...)
	if v.Events == nil {
		v.Events = usualEvents
	}
	if v.Severities == nil {
		v.Severities = usualSeverities
	}
	if v.Days == nil {
		v.Days = usualDays
	}
	v.Days = slices.Clone(v.Days)
	slices.Sort(v.Days)
	slices.Reverse(v.Days)
	v.Days = slices.Compact(v.Days)
	return v
}

// resolveNotices checks that whoever is to be told can be.
func (r *reader) resolveNotices() {
	e := r.estate
	if e.Notices == nil {
		return
	}
	if e.Owner == "" {
		r.fault(e.Notices.Place, "the key owner at the top of the file", "nobody would be told of what has no owner")
	}
	for i := range e.Owners {
		switch o := &e.Owners[i]; {
		case len(o.Mail) == 0 && o.Webhook == nil:
			r.fault(o.Place, "mail or webhook", "owner %s has no address to be told at", o.Name)
		case len(o.Mail) > 0 && e.Notices.Mail == nil:
			r.fault(o.Place, "mail with a server under notices", "owner %s is told by mail, and no mail server is declared", o.Name)
		}
	}
	for i := range e.Notices.Rules {
		v := &e.Notices.Rules[i]
		r.resolveAmong(v.Place, &v.Among)
		for _, name := range v.To {
			if e.OwnerNamed(name) == nil {
				r.fault(v.Place, "owners of this file", "no owner %q is declared", clip(name))
			}
		}
	}
}

// declaredNotices are the notices where the file declares some.
func declaredNotices(e *Estate) []*Notices {
	if e.Notices == nil {
		return nil
	}
	return []*Notices{e.Notices}
}

// noticesItem tells who is told of what.
func noticesItem(v *Notices) item {
	mail, digest := "", "never"
	if m := v.Mail; m != nil {
		mail = fmt.Sprintf("%s by %s from %s, user %s, credential %s, roots %s", m.Server, m.Security, m.From, orNone(m.User),
			orNone(m.Credential), orNone(m.Anchors.text()))
	}
	if v.Digest != nil {
		digest = Clock(*v.Digest)
	}
	rules := make([]string, len(v.Rules))
	for i := range v.Rules {
		n := &v.Rules[i]
		rules[i] = fmt.Sprintf("%v %v %v days to %s %s", n.Events, n.Severities, n.Days, orNone(strings.Join(n.To, ", ")), n.Among.String())
	}
	return item{"of the estate", v.Place, [][2]string{{"console", v.Console}, {"mail", mail}, {"gather", Interval(v.Gather)},
		{"digest", digest}, {"rules", strings.Join(rules, "; ")}}}
}
