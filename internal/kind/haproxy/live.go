package haproxy

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"insegna.example/internal/install"
	"insegna.example/internal/kind"
	"insegna.example/internal/kind/source"
	"insegna.example/internal/reach"
)

// askLimit is how long the runtime socket may take for one command.
const askLimit = 20 * time.Second

// live exchanges certificates over the runtime socket ("stats socket" with level
// admin).
type live struct{}

// lively is what TakeIn needs of a plan.
type lively struct {
	Network string      `json:"network"` // of the socket: unix or tcp
	Socket  string      `json:"socket"`
	Loads   []kind.Load `json:"loads"`
}

// Plan implements files.Live: certificates the server knows by their path, and
// further ones of lists and folders, go live; other lines need a reload.
func (live) Plan(r *kind.Reading, edits *kind.Edits) (json.RawMessage, string) {
	network, socket := socketOf(r)
	if socket == "" || len(edits.Loads) == 0 {
		return nil, ""
	}
	for _, f := range edits.Files {
		if !slices.ContainsFunc(edits.Loads, func(l kind.Load) bool { return l.Into == f.Path && l.Line != "" }) {
			return nil, ""
		}
	}
	for _, x := range edits.Links { // what lay beside a certificate stays with the running server
		if x.To == "" {
			return nil, ""
		}
	}
	own, err := json.Marshal(lively{network, socket, edits.Loads})
	if err != nil {
		return nil, ""
	}
	words := "through the runtime socket " + socket + ":"
	for i, l := range edits.Loads {
		if i > 0 {
			words += ","
		}
		if words += " set ssl cert " + l.Path; l.Into != "" {
			words += " and add ssl crt-list " + l.Into
		}
	}
	return own, words
}

// socketOf finds a runtime socket that takes commands that change something.
func socketOf(r *kind.Reading) (network, address string) {
	for _, s := range treeOf(r).sections {
		if s.kind != "global" {
			continue
		}
		for _, o := range s.list {
			if o.arg(0) != "stats" || o.arg(1) != "socket" {
				continue
			}
			if i := slices.Index(o.args(0), "level"); i < 0 || o.arg(i+1) != "admin" {
				continue
			}
			family, rest, has := strings.Cut(o.arg(2), "@")
			switch {
			case !has && strings.HasPrefix(o.arg(2), "/"):
				return "unix", o.arg(2)
			case family == "unix":
				return "unix", rest
			case family == "ipv4" || family == "ipv6" || !has && strings.Contains(o.arg(2), ":"):
				if !has {
					rest = o.arg(2)
				}
				if strings.HasPrefix(rest, ":") || strings.HasPrefix(rest, "*:") {
					rest = "127.0.0.1" + rest[strings.IndexByte(rest, ':'):]
				}
				return "tcp", rest
			}
		}
	}
	return "", ""
}

// TakeIn implements files.Live.
func (live) TakeIn(ctx context.Context, over reach.Connection, own json.RawMessage) (string, error) {
	var l lively
	if err := json.Unmarshal(own, &l); err != nil {
		return "", fmt.Errorf("the plan of an installation cannot be read: %w", err)
	}
	c := &runtime{ctx: ctx, over: over, lively: l}
	if err := c.know(); err != nil {
		return "", err
	}
	for i := range l.Loads {
		if err := c.load(&l.Loads[i]); err != nil {
			return "", err
		}
	}
	return "the running server took it through " + l.Socket, nil
}

// runtime speaks to a running server.
type runtime struct {
	lively
	ctx   context.Context //nolint:containedctx // of one act
	over  reach.Connection
	known []string // files of certificates, as the server names them
}

// say says one command and gives the answer.
func (c *runtime) say(command string) (string, error) {
	out, err := reach.Ask(c.ctx, c.over, c.Network, c.Socket, []byte(command+"\n"), askLimit)
	return strings.TrimSpace(string(out)), err
}

// know asks which certificates there are.
func (c *runtime) know() error {
	said, err := c.say("show ssl cert")
	if err != nil {
		return err
	}
	if !strings.HasPrefix(said, "# ") {
		return fmt.Errorf("%s answers %s to show ssl cert", c.Socket, firstLine(said))
	}
	for line := range strings.SplitSeq(said, "\n") {
		if line = strings.TrimPrefix(strings.TrimSpace(line), "*"); strings.HasPrefix(line, "/") {
			c.known = append(c.known, line)
		}
	}
	return nil
}

// named is how the server names a file; "" when it has none of it.
func (c *runtime) named(p string) string {
	for _, k := range c.known {
		if path.Clean(k) == path.Clean(p) {
			return k
		}
	}
	return ""
}

// load brings what lies at a path to the running server.
func (c *runtime) load(l *kind.Load) error {
	const most = 1 << 20
	data, _, err := source.ReadFile(c.over.FS(), l.Path, most)
	switch {
	case kind.Lost(err):
		return err
	case err != nil && l.Into != "" && gone(c.over.FS(), l.Path):
		return c.unload(l)
	case err != nil:
		return fmt.Errorf("%s: %w", l.Path, err)
	}
	defer clear(data)
	name := c.named(l.Path)
	switch {
	case name == "" && l.Into == "":
		return fmt.Errorf("the running server does not know %s", l.Path)
	case name == "":
		name = l.Path
		if err := c.expect("new ssl cert "+name, "New empty certificate"); err != nil {
			return err
		}
	}
	const mostStaple = 64 << 10
	staple, _, err := source.ReadFile(c.over.FS(), l.Path+".ocsp", mostStaple)
	if kind.Lost(err) {
		return err
	}
	if err := c.exchange(name, data, staple); err != nil {
		return err
	}
	if l.Into == "" || c.inList(l, name) {
		return nil
	}
	add := "add ssl crt-list " + l.Into + " " + name
	if l.Line != "" {
		add = "add ssl crt-list " + l.Into + " <<\n" + l.Line + "\n"
	}
	return c.expect(add, "Success!")
}

// gone says whether nothing lies at a path.
func gone(fsys fs.FS, p string) bool {
	_, err := fs.Stat(fsys, source.InFS(p))
	return errors.Is(err, fs.ErrNotExist)
}

// unload takes a certificate away that was added.
func (c *runtime) unload(l *kind.Load) error {
	name := c.named(l.Path)
	if name == "" {
		return nil
	}
	if c.inList(l, name) {
		if err := c.expect("del ssl crt-list "+l.Into+" "+name, "deleted in crtlist"); err != nil {
			return err
		}
	}
	return c.expect("del ssl cert "+name, "deleted!")
}

// inList says whether a list or folder of the running server has a certificate.
func (c *runtime) inList(l *kind.Load, name string) bool {
	said, err := c.say("show ssl crt-list " + l.Into)
	if err != nil {
		return false
	}
	for line := range strings.SplitSeq(said, "\n") {
		first, _, _ := strings.Cut(strings.TrimSpace(line), " ")
		if at := strings.LastIndexByte(first, ':'); first == name || at > 0 && first[:at] == name {
			return true
		}
	}
	return false
}

// exchange puts other bytes in the place of a certificate's, with the CA's answer to send
// along where there is one: all take hold at once, or nothing.
func (c *runtime) exchange(name string, data, staple []byte) error {
	var pem strings.Builder
	for line := range strings.SplitSeq(string(data), "\n") { // an empty one would end it
		if line = strings.TrimSpace(line); line != "" {
			pem.WriteString(line + "\n")
		}
	}
	if err := c.expect("set ssl cert "+name+" <<\n"+pem.String(), "Transaction"); err != nil {
		return err
	}
	err := error(nil)
	if len(staple) > 0 {
		err = c.expect("set ssl cert "+name+".ocsp <<\n"+base64.StdEncoding.EncodeToString(staple)+"\n", "Transaction")
	}
	if err == nil {
		err = c.expect("commit ssl cert "+name, "Success!")
	}
	if err != nil {
		_, _ = c.say("abort ssl cert " + name) // the first error counts
	}
	return err
}

// expect says a command whose answer has to hold some words.
func (c *runtime) expect(command, words string) error {
	said, err := c.say(command)
	if err != nil {
		return err
	}
	if !strings.Contains(said, words) {
		what, _, _ := strings.Cut(command, " <<")
		return &install.FaultError{Words: fmt.Sprintf("%s answers to %s: %s", c.Socket, what, firstLine(said)),
			Advice: "see what the running server has against it"}
	}
	return nil
}

// firstLine is what a server said, in bounds.
func firstLine(said string) string {
	line, _, _ := strings.Cut(strings.TrimSpace(said), "\n")
	const most = 300
	if len(line) > most {
		line = line[:most] + "…"
	}
	if line == "" {
		return "nothing"
	}
	return strings.ToValidUTF8(line, "�")
}
