package nginx

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
const name = "nginx"

// What is taken for it when an estate file does not say otherwise.
const (
	usualMain = "/etc/nginx/nginx.conf"
	program   = "/usr/sbin/nginx"
)

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
				Usual: func(main string) string { return with(main) + " -t" }},
			{Key: reloadKey, Meaning: "Command that takes the configuration in.",
				Usual: func(main string) string { return with(main) + " -s reload" }},
		},
	},
	Title: "nginx", Hops: 2, Plain: plain.MatchString,
	Words: &binding.Words{
		Listener: "listen directive", Plain: "has no ssl",
		Open: func(at netip.AddrPort, exact bool) string {
			if exact {
				return fmt.Sprintf("add \"listen %s ssl\"", at)
			}
			return fmt.Sprintf("add \"listen %d ssl\"", at.Port())
		},
		TLS:     "add ssl to it, name certificate and key in that site",
		KeepTLS: "put ssl back, or the next reload ends TLS here",
		Name: func(host string) string {
			return fmt.Sprintf("add %s to the server_name of the site that should answer, or a site for it", host)
		},
		Refuses:  "ssl_reject_handshake",
		Rule:     "location",
		FreePath: func(p string) string { return "add before it: location ^~ " + p + " { root FOLDER; }" },
		Unmove:   "move the redirect into location /",
	},
	Running: running,
	Reader:  configuration{},
	Tester:  tester{},
	Installs: func(over reach.Connection, s *estate.Server) install.Destination {
		way := s.Reach
		return &files.Destination{Over: over, Reader: configuration{}, Editor: editing{}, Verifies: verifies, Main: way.Configuration,
			Test: way.Commands[testKey], Reload: way.Commands[reloadKey]}
	},
}

// verifies are lines that name CAs for servers behind alone.
var verifies = regexp.MustCompile(`^\w+_ssl_trusted_certificate\s`)

// with is the program led to a main file.
func with(main string) string {
	if main == usualMain {
		return program
	}
	return program + " -c " + main
}

// configuration implements kind.Reader.
type configuration struct{}

// Read implements kind.Reader.
func (configuration) Read(fsys fs.FS, main string) (*kind.Reading, error) { return Read(fsys, main) }

// Answers implements kind.Reader.
func (configuration) Answers(r *kind.Reading) kind.Answers { return NewIndex(r) }

// editing implements kind.Editor.
type editing struct{}

// Edit implements kind.Editor.
func (editing) Edit(fsys fs.FS, main string, list []kind.Wanted) (*kind.Edits, error) {
	return Edit(fsys, main, list)
}

// Free implements kind.Editor.
func (editing) Free(fsys fs.FS, main string, list []kind.Freed) (*kind.Edits, error) {
	return Free(fsys, main, list)
}

// Copy implements kind.Editor.
func (editing) Copy(fsys fs.FS, main string, edits []install.File, words map[string]string) (*kind.Copy, error) {
	c, err := Copy(fsys, main, edits, words)
	if err != nil {
		return nil, err
	}
	return &kind.Copy{Text: c.Text, Translate: c.Translate}, nil
}

// OnFile implements kind.Editor.
func (editing) OnFile(command, main, other string) string {
	return kind.OnFile(command, main, other, "-c", "nginx")
}

// tester implements kind.Tester.
type tester struct{}

var (
	// messageHead is what the server puts before a message: time, level and
	// process, which change from run to run.
	messageHead = regexp.MustCompile(`^(nginx: )?(\d{4}/\d\d/\d\d \d\d:\d\d:\d\d )?\[(emerg|alert|crit|error)\] (\d+#\d+: )?`)
	// namedPlace is the place a message names at its end.
	namedPlace = regexp.MustCompile(` in (/[^\s:]+):([0-9]+)`)
)

// Command implements kind.Tester.
func (tester) Command(way *estate.Reach) string { return way.Commands[testKey] }

// TakeIn implements kind.Tester.
func (tester) TakeIn(way *estate.Reach) string { return way.Commands[reloadKey] }

// Refusal implements kind.Tester: the first message of weight counts, or else
// the first line.
func (tester) Refusal(said string) (message string, at kind.Place) {
	for line := range strings.SplitSeq(said, "\n") {
		if line = strings.TrimSpace(line); messageHead.MatchString(line) && !messageHead.MatchString(message) || message == "" {
			message = line
		}
	}
	message = messageHead.ReplaceAllString(message, "")
	if m := namedPlace.FindStringSubmatch(message); m != nil {
		line, _ := strconv.Atoi(m[2]) // digits
		at = kind.Place{File: m[1], Line: line}
	}
	return message, at
}
