package haproxy

import (
	"fmt"
	"io/fs"
	"net/netip"
	"regexp"
	"strconv"
	"strings"

	"insegna.example/internal/core/binding"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/install"
	"insegna.example/internal/install/files"
	"insegna.example/internal/kind"
	"insegna.example/internal/reach"
)

// name is what an estate file calls this kind of server.
const name = "haproxy"

// usualMain is the main file as Debian and Red Hat lay it.
const usualMain = "/etc/haproxy/haproxy.cfg"

// Keys of its commands in an estate file.
const (
	testKey   = "test"
	reloadKey = "reload"
)

// Kind is everything this kind of server brings.
var Kind = &kind.Kind{
	Declared: estate.Kind{
		Name: name, Reached: true, Main: usualMain,
		Commands: []estate.Command{
			{Key: testKey, Meaning: "Command that tests the configuration.",
				Usual: func(main string) string { return "/usr/sbin/haproxy -c -f " + main }},
			{Key: reloadKey, Meaning: "Command that takes the configuration in.",
				Usual: func(string) string { return "systemctl reload haproxy" }},
		},
	},
	Title: "HAProxy", Hops: 1, Plain: plain.MatchString,
	Words: &binding.Words{
		Listener: "bind line", Plain: "it has no ssl",
		Open: func(at netip.AddrPort, exact bool) string {
			if exact {
				return fmt.Sprintf("add \"bind %s ssl crt FILE\" to the frontend", at)
			}
			return fmt.Sprintf("add \"bind :%d ssl crt FILE\" to the frontend", at.Port())
		},
		TLS:     "add \"ssl crt FILE\" to it, with certificate and key in the file",
		KeepTLS: "add ssl to it again, or the next reload ends TLS here",
		Name: func(host string) string {
			return fmt.Sprintf("load a certificate that lists %s: a file more in its folder, or a line more in its crt-list", host)
		},
		Refuses: "strict-sni",
		Rule:    "rule",
		FreePath: func(p string) string {
			return "add before it: use_backend PROOFS if { path_beg " + p + " }, with a backend that serves the path"
		},
		Unmove: "take the path out of it: unless { path_beg /.well-known/acme-challenge/ }",
	},
	Running: running,
	Reader:  configuration{},
	Tester:  tester{},
	Installs: func(over reach.Connection, s *estate.Server) install.Destination {
		way := s.Reach
		return &files.Destination{Over: over, Reader: configuration{}, Editor: editing{}, Verifies: verifies, Combined: true, Live: live{},
			Main: way.Configuration, Test: way.Commands[testKey], Reload: way.Commands[reloadKey]}
	},
}

// verifies are lines that name CAs for servers behind alone.
var verifies = regexp.MustCompile(`^(server|server-template|default-server)\s`)

// configuration implements kind.Reader.
type configuration struct{}

// Read implements kind.Reader.
func (configuration) Read(fsys fs.FS, main string) (*kind.Reading, error) { return Read(fsys, main) }

// Answers implements kind.Reader.
func (configuration) Answers(r *kind.Reading) kind.Answers { return NewIndex(r) }

// tester implements kind.Tester.
type tester struct{}

var (
	// messageHead is what the server puts before a message: level, process and part.
	messageHead = regexp.MustCompile(`^\[[A-Z]+\] +\(\d+\) : (config : )?`)
	// saidPlace is the place a message names at its beginning.
	saidPlace = regexp.MustCompile(`[Pp]arsing \[([^\]\n]+):(\d+)\] ?: `)
)

// Command implements kind.Tester.
func (tester) Command(way *estate.Reach) string { return way.Commands[testKey] }

// TakeIn implements kind.Tester.
func (tester) TakeIn(way *estate.Reach) string { return way.Commands[reloadKey] }

// Refusal implements kind.Tester: the first alert that says what is wrong counts.
func (tester) Refusal(said string) (message string, at kind.Place) {
	first := ""
	for line := range strings.SplitSeq(said, "\n") {
		line = strings.TrimSpace(line)
		text := messageHead.ReplaceAllString(line, "")
		switch {
		case strings.HasPrefix(line, "[NOTICE]"), strings.HasPrefix(line, "[WARNING]"), text == "",
			strings.HasPrefix(text, "Error(s) found"), strings.HasPrefix(text, "Fatal errors found"):
			continue
		}
		if m := saidPlace.FindStringSubmatchIndex(text); m != nil {
			n, _ := strconv.Atoi(text[m[4]:m[5]]) // digits
			return strings.TrimSpace(text[m[1]:]), kind.Place{File: text[m[2]:m[3]], Line: n}
		}
		if first == "" {
			first = text
		}
	}
	return first, at
}
