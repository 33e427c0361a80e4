package service

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/names"
	"insegna.example/internal/core/veil"
	"insegna.example/internal/kind"
	"insegna.example/internal/kind/registry"
	"insegna.example/internal/reach"
	"insegna.example/internal/store"
)

// Limits of the reading of one server.
const (
	readLimit = 90 * time.Second // all of it
	testLimit = 30 * time.Second // the server's own configuration test
)

// readingOf reaches a server, reads it and runs its own test. An error is one
// of this service; whatever is wrong over there is in the result.
func (s *Reading) readingOf(ctx context.Context, e *estate.Estate, server *estate.Server) (*store.ReadEnd, error) {
	facts := &check.ServerFacts{Server: server.Name}
	limited, cancel := context.WithTimeout(ctx, readLimit)
	defer cancel()
	end := &store.ReadEnd{}
	reading, err := s.readOver(limited, e, server, facts, end)
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if err != nil {
		facts.Trouble = troubleOf(err)
		return &store.ReadEnd{Trouble: facts.Trouble, Findings: check.Server(facts)}, nil
	}
	mention(reading)
	stored, err := storedReading(reading)
	if err != nil {
		return nil, err
	}
	factsOf(facts, reading, e, server)
	if err := s.asFound(limited, facts, reading, e, server); err != nil && ctx.Err() == nil {
		return nil, err
	}
	end.Unlisted = unlistedAt(facts, reading, s.cfg.Kinds.Of(server.Kind), server)
	end.Reading, end.Findings = stored, check.Server(facts)
	return end, nil
}

// errNotDeclared says that the estate has no way to a server any more.
var errNotDeclared = errors.New("the estate file declares no way to it any more")

// readOver reads the configuration, looks at what stands behind it, runs the
// server's test and asks since when the server runs.
func (s *Reading) readOver(ctx context.Context, e *estate.Estate, server *estate.Server, facts *check.ServerFacts,
	end *store.ReadEnd) (*kind.Reading, error) {
	way := server.Reach
	if way == nil {
		return nil, errNotDeclared
	}
	k := s.cfg.Kinds.Of(server.Kind)
	if err := k.Needs(kind.Read); err != nil {
		return nil, err
	}
	m, err := open(ctx, way)
	if err != nil {
		return nil, err
	}
	defer func() { _ = m.Close() }()
	reading, err := k.Reader.Read(m.FS(), way.Configuration)
	if err != nil {
		return nil, err
	}
	if len(reading.Files) == 0 {
		return nil, fmt.Errorf("its main file cannot be read: %s", reading.Problems[0].Message)
	}
	facts.Hops, end.Material = lookBehind(ctx, m, reading, hostsAt(e, server))
	if end.Behind, err = packHops(facts.Hops); err != nil {
		return nil, err
	}
	if k.Tester == nil {
		facts.Untested = "a test of its configuration is not known for " + k.Title + " yet"
		return reading, nil
	}
	facts.Test = k.Tester.Command(way)
	out, err := m.Run(ctx, facts.Test, s.cfg.TestLimit)
	if kind.Lost(err) {
		return nil, err
	}
	tested(k.Tester, facts, out, err)
	if k.Lenient && facts.Refused == "" && facts.Untested == "" {
		if p := reading.Ends(); p != nil {
			facts.Refused, facts.RefusedAt, facts.Passed = p.Message, p.Place, true
		}
	}
	return reading, nil
}

// open opens the way to a machine. Close ends it.
func open(ctx context.Context, way *estate.Reach) (reach.Connection, error) {
	if way.By == "local" {
		return reach.Local(), nil
	}
	return reach.Dial(ctx, sshOf(way))
}

// troubleOf tells why a server could not be read, as a code to decide on and
// words to read.
func troubleOf(err error) *check.Trouble {
	t := &check.Trouble{Code: check.NotReached, Text: err.Error()}
	var hostKey *reach.HostKeyError
	var login *reach.LoginError
	switch {
	case errors.As(err, &hostKey) && hostKey.Changed:
		t.Code = check.HostKeyChanged
	case errors.As(err, &hostKey):
		t.Code = check.HostKeyUnknown
	case errors.As(err, &login):
		t.Code = check.LoginRefused
	case kind.Lost(err):
		t.Code = check.ConnectionLost
	}
	return t
}

// Exit codes with which a shell says that it could not run a command.
const (
	cannotExecute = 126
	notFound      = 127
)

// tested reads what a server's own configuration test said.
func tested(t kind.Tester, facts *check.ServerFacts, out *reach.Output, err error) {
	if err != nil {
		facts.Untested = err.Error()
		return
	}
	if out.Exit == 0 {
		return
	}
	message, at := t.Refusal(out.Text)
	message = clipText(message)
	switch {
	case out.Exit == cannotExecute || out.Exit == notFound || message == "":
		facts.Untested = fmt.Sprintf("it ended with %d and said %q", out.Exit, message)
	case strings.Contains(message, "Permission denied"):
		facts.Untested = fmt.Sprintf("the user who runs it lacks a right: %s", message)
	default:
		facts.Refused, facts.RefusedAt = message, at
	}
}

// clipText bounds what a server's own test says, in bytes of valid text.
func clipText(s string) string {
	const most = 400
	s = strings.ToValidUTF8(s, "?")
	if len(s) > most {
		s = strings.ToValidUTF8(s[:most], "") + "..."
	}
	return s
}

// factsOf gathers what the rules about a server need.
func factsOf(facts *check.ServerFacts, r *kind.Reading, e *estate.Estate, server *estate.Server) {
	for i := range r.Problems {
		p := &r.Problems[i]
		text := p.Message
		if p.Expected != "" {
			text += "; expected " + p.Expected
		}
		facts.Problems = append(facts.Problems, check.Problem{Effect: check.Effect(p.Effect), At: p.Place, Text: text})
	}
	facts.Lying = lying(r)
	check.SortOut(facts.Lying, time.Now().UTC())
	for i := range facts.Lying {
		l := &facts.Lying[i]
		key := check.OpenKey{Placed: check.Placed{Name: l.Path}, Mode: fmt.Sprintf("%04o", l.Mode), Closed: !l.Open()}
		if o := r.Material[l.Path].Owner; o != nil {
			key.Owner = o.String()
		}
		if usual := r.Foreign(l.Path); usual != nil {
			key.Usual = usual.String()
		}
		if key.Closed && (key.Usual == "" || len(l.Used) == 0) {
			continue
		}
		if len(l.Used) > 0 {
			key.At = l.Used[0]
		}
		facts.Keys = append(facts.Keys, key)
	}
	facts.Unwanted = unwanted(r, e, server)
	if !facts.RefusedAt.Known() {
		facts.RefusedAt = namedIn(facts.Refused, r)
	}
}

// namedIn finds the line that names the file a refusal speaks of.
func namedIn(refusal string, r *kind.Reading) kind.Place {
	if refusal == "" {
		return kind.Place{}
	}
	for i := range r.Sites {
		for _, p := range r.Sites[i].Pairs {
			switch {
			case p.Key != "" && strings.Contains(refusal, `"`+p.Key+`"`):
				return p.KeyPlace
			case strings.Contains(refusal, `"`+p.Certificate+`"`):
				return p.Place
			}
		}
	}
	return kind.Place{}
}

// unwanted lists the names a server has TLS sites for and the estate does not
// want there.
func unwanted(r *kind.Reading, e *estate.Estate, server *estate.Server) (out []check.Unlisted) {
	wanted := map[string]bool{}
	for _, host := range hostsAt(e, server) {
		wanted[host] = true
	}
	met := map[string]bool{}
	for _, l := range r.Listeners {
		if !l.TLS {
			continue
		}
		for _, i := range l.Sites {
			for _, n := range r.Sites[i].Names {
				host, err := names.Host(n.Host())
				if err != nil || n.Host() == "" || n.Ignored || !strings.Contains(host, ".") || wanted[host] || met[host] {
					continue
				}
				met[host] = true
				out = append(out, check.Unlisted{Placed: check.Placed{Name: host, At: n.Place}})
			}
		}
	}
	return out
}

// hostsAt are the hosts the estate wants at a server.
func hostsAt(e *estate.Estate, server *estate.Server) (out []string) {
	for i := range e.Hosts {
		if slices.ContainsFunc(e.Hosts[i].At, func(ref estate.Ref) bool { return ref.Server == server.Name }) {
			out = append(out, e.Hosts[i].Name)
		}
	}
	return out
}

// storedReading makes a reading fit for the store.
func storedReading(r *kind.Reading) (*store.Reading, error) {
	loaded := r.Loaded
	r.Loaded = time.Time{} // told apart from what was read
	for i := range r.Files {
		r.Files[i].Text = veil.Text(r.Files[i].Text, registry.Kinds.Plain)
	}
	for _, list := range [][]kind.Site{r.Sites, r.Idle} {
		for i := range list {
			veilSite(&list[i])
		}
	}
	for i := range r.Problems {
		r.Problems[i].Message = veil.Text(r.Problems[i].Message, registry.Kinds.Plain)
	}
	plain, err := json.Marshal(r)
	if err != nil {
		return nil, err
	}
	var packed bytes.Buffer
	zip := gzip.NewWriter(&packed)
	if _, err := zip.Write(plain); err != nil {
		return nil, err
	}
	if err := zip.Close(); err != nil {
		return nil, err
	}
	out := &store.Reading{Digest: sha256.Sum256(plain), Document: packed.Bytes(), Main: r.Main, Files: len(r.Files),
		Sites: len(r.Sites), Listeners: len(r.Listeners),
		Certificates: len(r.Certificates), Problems: len(r.Problems)}
	if !loaded.IsZero() {
		out.Loaded = &loaded
	}
	for _, der := range r.Certificates {
		if c, err := certs.Parse(der); err == nil {
			out.Material = append(out.Material, c)
		}
	}
	out.Placements, out.Keys = placements(r), keysLying(r)
	return out, nil
}

// veilSite hides them in the addresses a site leads to.
func veilSite(s *kind.Site) {
	for i := range s.Plain {
		for _, step := range []*kind.Step{&s.Plain[i].Front, &s.Plain[i].WellKnown, &s.Plain[i].Other} {
			step.To = veil.Address(step.To)
		}
	}
	for i := range s.Hops {
		s.Hops[i].To = veil.Address(s.Hops[i].To)
	}
}

// placements lists where certificates lie, as named by sites in force or
// beside them.
func placements(r *kind.Reading) (out []store.Placement) {
	leafOf := func(path string) []byte {
		if m := r.Material[path]; m != nil && len(m.Chain) > 0 {
			if f, err := certs.ParseFingerprint(m.Chain[0]); err == nil {
				return f[:]
			}
		}
		return nil
	}
	named := map[string]bool{}
	for i := range r.Sites {
		for _, p := range r.Sites[i].Pairs {
			if leaf := leafOf(p.Certificate); leaf != nil {
				named[p.Certificate] = true
				out = append(out, store.Placement{Path: p.Certificate, At: p.Place, Site: r.Sites[i].MainName(), Leaf: leaf})
			}
		}
	}
	for path := range r.Material {
		if leaf := leafOf(path); leaf != nil && !named[path] {
			out = append(out, store.Placement{Path: path, Leaf: leaf})
		}
	}
	return out
}

// readDocument unpacks a stored reading.
func readDocument(packed []byte) (*kind.Reading, error) {
	zip, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return nil, err
	}
	plain, err := io.ReadAll(zip)
	if err != nil {
		return nil, err
	}
	var r kind.Reading
	return &r, json.Unmarshal(plain, &r)
}

// listed says numbers of things in words, at most a few of them.
func listed(list []string, most int) string {
	if len(list) > most {
		return strings.Join(list[:most], ", ") + " and " + strconv.Itoa(len(list)-most) + " more"
	}
	return strings.Join(list, ", ")
}
