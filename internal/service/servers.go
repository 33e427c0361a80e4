package service

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"insegna.example/internal/acme/proof"
	"insegna.example/internal/core/binding"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/fault"
	"insegna.example/internal/core/names"
	"insegna.example/internal/core/veil"
	"insegna.example/internal/kind"
	"insegna.example/internal/store"
)

// ServerDetail is one server with what its configuration says.
type ServerDetail struct {
	store.Server
	Reading  *kind.Reading  // nil when it was never read; without the files' texts
	Commands []NamedCommand // declared, or usual for its kind
	known    *configuration // the reading, prepared; nil without one
	behind   []binding.Hop  // what stands behind it
}

// NamedCommand is a command a server is handled with, by its key in the estate
// file.
type NamedCommand struct{ Key, Command string }

// UnknownServerError says that the estate has no server of that name.
type UnknownServerError struct{ Name string }

// Error says which command lists the servers.
func (e *UnknownServerError) Error() string {
	return fmt.Sprintf("the estate has no server %q; see: insegna server list", e.Name)
}

// Told implements fault.Error.
func (e *UnknownServerError) Told() fault.Told {
	return fault.Told{Class: fault.NotFound, Title: "Not found", Next: ""}
}

// ServerDetail gives one server; the error is an *UnknownServerError when the
// estate has none of that name.
func (s *Reading) ServerDetail(ctx context.Context, name string) (*ServerDetail, error) {
	list, _, err := s.store.Servers(ctx, store.ServerFilter{Name: name}, store.Page{Sort: "name", Limit: 1})
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		return nil, &UnknownServerError{name}
	}
	d := &ServerDetail{Server: list[0]}
	e, _, err := s.declaring.estateInForce(ctx)
	if err != nil {
		return nil, err
	}
	if declared := e.Server(name); declared != nil && declared.Reach != nil {
		for _, c := range s.cfg.Kinds.Of(declared.Kind).Declared.Commands {
			d.Commands = append(d.Commands, NamedCommand{c.Key, declared.Reach.Commands[c.Key]})
		}
	}
	heads, err := s.store.ReadingHeads(ctx, []int64{d.ID})
	if err != nil || heads[d.ID].ReadingID == 0 {
		return d, err
	}
	if d.known, err = s.configurationOf(ctx, heads[d.ID].ReadingID); err != nil {
		return nil, err
	}
	d.Reading = d.known.reading
	d.behind, err = s.storedHops(ctx, d.ID)
	return d, err
}

// NotReadError says that a server's configuration is not known.
type NotReadError struct {
	Server string
	Now    string // why it cannot be read now; "" when it never was
}

// Error says how a configuration comes to be read.
func (e *NotReadError) Error() string {
	if e.Now != "" {
		return fmt.Sprintf("the configuration of %s cannot be read now: %s", e.Server, e.Now)
	}
	return fmt.Sprintf("the configuration of %s has not been read; declare reach for it in the estate file and run: "+
		"insegna survey start --server %s", e.Server, e.Server)
}

// Told implements fault.Error.
func (e *NotReadError) Told() fault.Told {
	return fault.Told{Class: fault.NotNow, Title: "Not read", Next: ""}
}

// readServerDetail is ServerDetail where nothing can be said without a reading.
func (s *Reading) readServerDetail(ctx context.Context, name string) (*ServerDetail, error) {
	d, err := s.ServerDetail(ctx, name)
	if err == nil && d.Reading == nil {
		return nil, &NotReadError{Server: name}
	}
	return d, err
}

// SiteView is one site in words.
type SiteView struct {
	*kind.Site
	InForce      bool          // false for one that is not switched on
	Certificates []PairView    // with their keys
	DefaultAt    []string      // listeners whose default it is
	Behind       []binding.Hop // what the last looks at the servers behind it brought
}

// PairView is a certificate with its key as they lie on disk.
type PairView struct {
	*kind.Pair
	Leaf  *certs.Certificate // nil when none could be read
	Sent  int                // certificates in the file
	Fault string             // why the certificate cannot be used
	Key   string             // "fits", "stranger", or why it is not known
}

// Sites lists the sites of a server: those in force and those that are not,
// whose name, place or file holds a text. more says that there are others
// behind; from and limit cut the list.
func (s *Reading) Sites(ctx context.Context, server, text string, inForce *bool, from, limit int) (list []SiteView,
	more bool, err error) {
	d, err := s.readServerDetail(ctx, server)
	if err != nil {
		return nil, false, err
	}
	text = strings.ToLower(text)
	passed := 0
	take := func(sites []kind.Site, force bool) {
		if inForce != nil && *inForce != force {
			return
		}
		for i := range sites {
			if !siteHolds(&sites[i], text) {
				continue
			}
			if passed++; passed <= from {
				continue
			}
			if len(list) == limit {
				more = true
				return
			}
			list = append(list, d.view(&sites[i], force, i))
		}
	}
	take(d.Reading.Sites, true)
	take(d.Reading.Idle, false)
	return list, more, nil
}

// siteHolds searches names, files and places, as a person types them.
func siteHolds(s *kind.Site, text string) bool {
	if text == "" || strings.Contains(strings.ToLower(s.Place.String()), text) {
		return true
	}
	for _, n := range s.Names {
		if strings.Contains(n.Text, text) {
			return true
		}
	}
	for _, p := range s.Pairs {
		if strings.Contains(strings.ToLower(p.Certificate), text) {
			return true
		}
	}
	return slices.ContainsFunc(s.Asked, func(at string) bool { return strings.Contains(at, text) })
}

// view shows a site with its certificates, and where it is the default.
func (d *ServerDetail) view(s *kind.Site, inForce bool, at int) SiteView {
	v := SiteView{Site: s, InForce: inForce}
	for i := range s.Pairs {
		v.Certificates = append(v.Certificates, d.pairView(&s.Pairs[i], s))
	}
	for i := range d.Reading.Listeners {
		if l := &d.Reading.Listeners[i]; inForce && l.Default == at && slices.Contains(l.Sites, at) {
			v.DefaultAt = append(v.DefaultAt, l.String())
		}
	}
	for i := range d.behind {
		if h := &d.behind[i]; inForce && leadsTo(s, h) {
			v.Behind = append(v.Behind, *h)
		}
	}
	return v
}

// pairView shows a certificate and its key: what lies in the files, and whether
// they fit.
func (d *ServerDetail) pairView(p *kind.Pair, s *kind.Site) PairView {
	v := PairView{Pair: p}
	if p.AtRunTime {
		v.Fault, v.Key = "chosen at run time", "chosen at run time"
		return v
	}
	on := d.known.pair(p, s)
	v.Fault, v.Sent, v.Key = on.Fault, len(on.Chain), on.KeyFault
	if len(on.Chain) > 0 {
		v.Leaf = on.Chain[0]
	}
	switch {
	case on.OtherKey:
		v.Key = "stranger"
	case v.Key == "" && v.Leaf != nil:
		v.Key = "fits"
	case v.Key == "":
		v.Key = "not known"
	}
	return v
}

// SiteAnswer says which site answers for a host at one listener, and why.
type SiteAnswer struct {
	Listener string      // as configured
	Endpoint string      // asked about, "" when the listener itself was
	TLS      bool        // it speaks TLS
	Site     *SiteView   // nil when none can be told
	Why      string      // this site and no other
	Plain    *kind.Route // what plain http does for the host there
}

// answersMost bounds how many listeners are asked at once.
const answersMost = 100

// Answers tells which site answers for a host: at one address and port, or at
// every listener of the server.
func (s *Reading) Answers(ctx context.Context, server, host, at string) ([]SiteAnswer, time.Time, error) {
	if _, err := names.Host(host); host != "" && err != nil {
		return nil, time.Time{}, err
	}
	host = strings.ToLower(host)
	d, read, err := s.asItIs(ctx, server)
	if err != nil {
		return nil, read, err
	}
	var asked []netip.AddrPort
	if at != "" {
		e, err := netip.ParseAddrPort(at)
		if err != nil {
			return nil, read, &BadEndpointError{at}
		}
		asked = append(asked, e)
	} else {
		for i := range d.Reading.Listeners {
			if l := &d.Reading.Listeners[i]; l.Address.IsValid() && len(asked) < answersMost {
				asked = append(asked, l.Address)
			}
		}
	}
	out := make([]SiteAnswer, 0, len(asked))
	for _, e := range asked {
		out = append(out, d.answer(host, e, at))
	}
	return out, read, nil
}

// asItIs gives a server with its configuration as it is now, or, where it cannot
// be read now, as it was read last; and when that was.
func (s *Reading) asItIs(ctx context.Context, server string) (*ServerDetail, time.Time, error) {
	d, err := s.ServerDetail(ctx, server)
	if err != nil {
		return nil, time.Time{}, err
	}
	c, err := s.anew(ctx, server)
	var unread *NotReadError
	switch {
	case err == nil:
		d.known, d.Reading = c, c.reading
		return d, time.Now().UTC(), nil
	case !errors.As(err, &unread):
		return nil, time.Time{}, err
	case d.Reading == nil || d.LastRead == nil:
		return nil, time.Time{}, unread
	}
	return d, d.LastRead.UTC(), nil
}

// BadEndpointError says that a text is no address and port.
type BadEndpointError struct{ Text string }

// Error shows what an endpoint looks like.
func (e *BadEndpointError) Error() string {
	return fmt.Sprintf("%q is no address and port; expected for example 192.0.2.10:443 or [2001:db8::10]:443", e.Text)
}

// Told implements fault.Error.
func (e *BadEndpointError) Told() fault.Told {
	return fault.Told{Class: fault.BadRequest, Title: "Bad request", Next: ""}
}

// answer shows which site answers at one endpoint.
func (d *ServerDetail) answer(host string, e netip.AddrPort, at string) SiteAnswer {
	a := d.known.answers.Answer(host, e)
	out := SiteAnswer{Endpoint: at, Why: a.Why}
	if a.Listener == nil {
		return out
	}
	out.Listener, out.TLS = a.Listener.String(), a.Listener.TLS
	if a.Site == nil {
		return out
	}
	view := d.view(a.Site, true,
		slices.IndexFunc(d.Reading.Sites, func(s kind.Site) bool { return s.Place == a.Site.Place }))
	out.Site = &view
	if out.TLS {
		return out
	}
	if front, known := d.known.answers.Plain(host, e, "/"); known {
		asked, _ := d.known.answers.Plain(host, e, proof.WellKnown+"insegna")
		front.To, asked.To = veil.Address(front.To), veil.Address(asked.To)
		out.Plain = &kind.Route{Listener: out.Listener, Host: host, Front: front, WellKnown: asked}
		return out
	}
	for i := range a.Site.Plain { // as stored: for the names it was asked about then
		if r := &a.Site.Plain[i]; r.Host == host {
			out.Plain = r
		}
	}
	return out
}

// ConfigurationFile is one file of a server's configuration, with marks.
type ConfigurationFile struct {
	kind.File
	Marks []LineMark // sorted by line
}

// LineMark is a remark to one line.
type LineMark struct {
	Line int    // from 1
	Kind string // "site", "certificate", "key", "name" or "problem"
	Text string // one sentence
}

// ConfigurationText gives a file as it was read; store.ErrNotFound when the
// configuration has none of that path.
func (s *Reading) ConfigurationText(ctx context.Context, server, path string) (*ConfigurationFile, error) {
	d, err := s.readServerDetail(ctx, server)
	if err != nil {
		return nil, err
	}
	heads, err := s.store.ReadingHeads(ctx, []int64{d.ID})
	if err != nil {
		return nil, err
	}
	packed, err := s.store.Document(ctx, heads[d.ID].ReadingID)
	if err != nil {
		return nil, err
	}
	full, err := readDocument(packed)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(full.Files, func(f kind.File) bool { return f.Path == path || f.Link == path })
	if at < 0 {
		return nil, store.ErrNotFound
	}
	file := full.Files[at]
	marks := d.marks(file.Path, time.Now().UTC())
	findings, _, err := s.store.Findings(ctx, store.FindingFilter{State: "open", Server: server, SourceFile: file.Path},
		store.Page{Sort: "worst", Limit: marksMost})
	if err != nil {
		return nil, err
	}
	for i := range findings {
		marks = slices.DeleteFunc(marks, func(m LineMark) bool { // said in the finding
			return m.Line == findings[i].SourceLine && m.Kind == "problem" && strings.Contains(findings[i].Cause, m.Text)
		})
		marks = append(marks,
			LineMark{findings[i].SourceLine, "problem", fmt.Sprintf("%s: %s", findings[i].Code, findings[i].Cause)})
	}
	slices.SortStableFunc(marks, func(a, b LineMark) int { return a.Line - b.Line })
	return &ConfigurationFile{File: file, Marks: slices.Compact(marks)}, nil
}

// marksMost bounds the findings marked in one file.
const marksMost = 500

// marks gathers what is to be said about the lines of a file.
func (d *ServerDetail) marks(path string, now time.Time) (out []LineMark) {
	add := func(p kind.Place, kind, format string, args ...any) {
		if p.File == path {
			out = append(out, LineMark{p.Line, kind, fmt.Sprintf(format, args...)})
		}
	}
	for _, list := range [][]kind.Site{d.Reading.Sites, d.Reading.Idle} {
		for i := range list {
			site := &list[i]
			add(site.Place, "site", "%s, at %s", site.MainName(), orWord(listed(site.Asked, 4), "no listener"))
			for _, n := range site.Names {
				if n.Ignored {
					add(n.Place, "name", "%s is ignored here", n.Text)
				}
			}
			for j := range site.Pairs {
				d.pairMarks(&site.Pairs[j], site, now, add)
			}
		}
	}
	for i := range d.Reading.Problems {
		p := &d.Reading.Problems[i]
		add(p.Place, "problem", "%s", p.Message)
	}
	return out
}

// pairMarks are the remarks at the lines of a certificate and its key.
func (d *ServerDetail) pairMarks(p *kind.Pair, s *kind.Site, now time.Time,
	add func(kind.Place, string, string, ...any)) {
	v := d.pairView(p, s)
	switch {
	case v.Leaf == nil:
		add(p.Place, "certificate", "%s", v.Fault)
	default:
		add(p.Place, "certificate", "%s from %s, %s, with %d behind it", v.Leaf.CommonName(), v.Leaf.IssuerName(),
			ending(v.Leaf, now), v.Sent-1)
	}
	switch v.Key {
	case "fits":
		add(p.KeyPlace, "key", "belongs to that certificate")
	case "stranger":
		add(p.KeyPlace, "key", "belongs to another certificate")
	default:
		add(p.KeyPlace, "key", "%s", v.Key)
	}
}

// ending says when a certificate ends or ended.
func ending(c *certs.Certificate, now time.Time) string {
	word := "ends"
	if now.After(c.NotAfter) {
		word = "ended"
	}
	return word + " " + c.NotAfter.UTC().Format("2 January 2006")
}

// orWord stands in for what is empty.
func orWord(s, otherwise string) string {
	if s == "" {
		return otherwise
	}
	return s
}

// StepText says what is done with a request in words.
func StepText(s *kind.Step) string {
	text := string(s.Handling)
	switch s.Handling {
	case kind.Redirects:
		text = fmt.Sprintf("redirects (%d) to %s", s.Status, s.To)
	case kind.Serves:
		if s.To != "" {
			text += " from " + s.To
		}
	case kind.Passes:
		text = "passes on to " + s.To
	case kind.Answered:
		const closes = 444
		if text = fmt.Sprintf("answers %d", s.Status); s.Status == closes {
			text = "closes the connection"
		}
	case kind.Depends:
		text = "depends on the request"
	}
	if s.Hidden != nil {
		text += fmt.Sprintf("; the rule made for it at %s is never asked", s.Hidden)
	}
	return text
}

// Placements lists the files a certificate lies in on the servers that were read.
func (s *Reading) Placements(ctx context.Context, leaf []byte) ([]store.ServerPlacement, error) {
	const most = 200
	return s.store.Placements(ctx, leaf, most)
}

// ReadingChange is what changed on a server between two readings.
type ReadingChange struct {
	ID          int64 // of the newer reading
	From, Until time.Time
	Changes     []kind.Difference // at most mostDifferences
	Further     int               // that many more
}

// mostDifferences is how many differences of two readings are told.
const mostDifferences = 200

// ReadingChanges tells what changed on a server between its readings, the newest
// first: the changes of a reading and before, or with 0 of all; at most limit. more
// is the reading that comes next, 0 at the end.
func (s *Reading) ReadingChanges(ctx context.Context, server string, before int64, limit int) (list []ReadingChange,
	more int64, err error) {
	d, err := s.readServerDetail(ctx, server)
	if err != nil {
		return nil, 0, err
	}
	spans, err := s.store.ReadingSpans(ctx, d.ID, before, limit+2)
	if err != nil {
		return nil, 0, err
	}
	if len(spans) > limit+1 {
		more, spans = spans[limit].ID, spans[:limit+1]
	}
	var newer *kind.Reading
	for i := range spans {
		r, err := readDocument(spans[i].Document)
		if err != nil {
			return nil, 0, err
		}
		if i > 0 {
			c := ReadingChange{ID: spans[i-1].ID, From: spans[i].LastRead, Until: spans[i-1].FirstRead,
				Changes: kind.Differences(r, newer)}
			if n := len(c.Changes); n > mostDifferences {
				c.Changes, c.Further = c.Changes[:mostDifferences], n-mostDifferences
			}
			list = append(list, c)
		}
		newer = r
	}
	return list, more, nil
}
