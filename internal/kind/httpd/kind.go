package httpd

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
const name = "httpd"

// Main files as Debian and Red Hat lay them.
const (
	debianMain = "/etc/apache2/apache2.conf"
	redHatMain = "/etc/httpd/conf/httpd.conf"
)

// Keys of its commands in an estate file.
const (
	testKey   = "test"
	reloadKey = "reload"
)

// Kind is everything this kind of server brings.
var Kind = &kind.Kind{
	Declared: estate.Kind{
		Name: name, Reached: true, Main: debianMain,
		Commands: []estate.Command{
			{Key: testKey, Meaning: "Command that tests the configuration.",
				Usual: func(main string) string { return with(main) + " -t" }},
			{Key: reloadKey, Meaning: "Command that takes the configuration in.",
				Usual: func(main string) string { return with(main) + " -k graceful" }},
		},
	},
	Title: "Apache httpd", Hops: 2, Plain: plain.MatchString,
	Words: &binding.Words{
		Listener: "Listen directive", Plain: "its first virtual host has no SSLEngine on",
		Open: func(at netip.AddrPort, exact bool) string {
			if exact {
				return fmt.Sprintf("add \"Listen %s\" and a <VirtualHost %[1]s> with SSLEngine on", at)
			}
			return fmt.Sprintf("add \"Listen %d\" and a <VirtualHost *:%[1]d> with SSLEngine on", at.Port())
		},
		TLS:     "set SSLEngine on in it, and name SSLCertificateFile and SSLCertificateKeyFile",
		KeepTLS: "set SSLEngine on again, or the next reload ends TLS here",
		Name: func(host string) string {
			return fmt.Sprintf("add \"ServerAlias %s\" to the virtual host that should answer, or a virtual host for it", host)
		},
		Refuses: "SSLStrictSNIVHostCheck",
		Rule:    "section",
		FreePath: func(p string) string {
			return "add: Alias " + p + " FOLDER, and take the path out of redirects"
		},
		Unmove: "take the path out of it: RewriteCond %{REQUEST_URI} !^/\\.well-known/acme-challenge/",
	},
	Mains:   []string{redHatMain},
	Running: running,
	Reader:  configuration{},
	Tester:  tester{}, Lenient: true,
	Installs: func(over reach.Connection, s *estate.Server) install.Destination {
		way := s.Reach
		return &files.Destination{Over: over, Reader: configuration{}, Editor: editing{}, Verifies: verifies, Lenient: true,
			Main: way.Configuration,
			Test: way.Commands[testKey], Reload: way.Commands[reloadKey]}
	},
}

// verifies are lines that name CAs for servers behind alone.
var verifies = regexp.MustCompile(`(?i)^SSLProxyCACertificateFile\s`)

// with is the program led to a main file.
func with(main string) string {
	switch main {
	case debianMain:
		return "/usr/sbin/apache2ctl"
	case redHatMain:
		return "/usr/sbin/apachectl"
	}
	return "/usr/sbin/apache2 -f " + main
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
	return Copy(fsys, main, edits, words)
}

// OnFile implements kind.Editor.
func (editing) OnFile(command, main, other string) string { return OnFile(command, main, other) }

// tester implements kind.Tester.
type tester struct{}

var (
	// messageHead is what the server puts before a message: time, level, process
	// and number.
	messageHead = regexp.MustCompile(`^(\[[^\]]*\] )*(AH\d{5}: )?([a-z0-9]*(apache2|httpd): )?`)
	// saidPlace is the place a message names at its beginning.
	saidPlace = regexp.MustCompile(`[Ss]yntax error on line (\d+) of (/[^:\n]+):`)
)

// Command implements kind.Tester.
func (tester) Command(way *estate.Reach) string { return way.Commands[testKey] }

// TakeIn implements kind.Tester.
func (tester) TakeIn(way *estate.Reach) string { return way.Commands[reloadKey] }

// Refusal implements kind.Tester: what is said behind the innermost place counts,
// or else the first line that is no mere remark.
func (tester) Refusal(said string) (message string, at kind.Place) {
	if all := saidPlace.FindAllStringSubmatchIndex(said, -1); len(all) > 0 {
		m := all[len(all)-1]
		line, _ := strconv.Atoi(said[m[2]:m[3]]) // digits
		at = kind.Place{File: said[m[4]:m[5]], Line: line}
		rest := strings.TrimSpace(said[m[1]:])
		message, _, _ = strings.Cut(rest, "\n")
		return strings.TrimSpace(message), at
	}
	for line := range strings.SplitSeq(said, "\n") {
		line = messageHead.ReplaceAllString(strings.TrimSpace(line), "")
		if line != "" && !strings.HasPrefix(line, "Could not reliably determine") && line != "Syntax OK" &&
			!strings.HasPrefix(line, "Action '") && !strings.HasPrefix(line, "The Apache error log") {
			return line, at
		}
	}
	return "", at
}
