package main

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// The people of the demo, one for each role.
const admin = "marit"

// others are the people beside the admin, with their roles.
var others = [][2]string{{"tove", "operator"}, {"jens", "viewer"}}

// peopleDir holds a file with each one's passphrase; configDir what signing in
// keeps.
const peopleDir, configDir = "people", "sign-ins"

// said collects what the service prints.
type said struct {
	mu   sync.Mutex
	text strings.Builder
}

// Write lets the service's output be read while it still writes.
func (s *said) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.Write(p)
}

// link gives the first one-time link, if one was printed.
func (s *said) link() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	for line := range strings.Lines(s.text.String()) {
		if strings.Contains(line, "/set-up#") {
			return strings.TrimSpace(line)
		}
	}
	return ""
}

// passphraseOf gives the file with somebody's passphrase, made at first.
func (s *running) passphraseOf(name string) (string, error) {
	path := filepath.Join(s.dir, peopleDir, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return "", err
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return path, nil
	} else if err != nil {
		return "", err
	}
	_, err = fmt.Fprintf(f, "%s\n", rand.Text())
	return path, errors.Join(err, f.Close())
}

// command makes one of the program, run as one of the people.
func (s *running) command(ctx context.Context, as string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, s.program, append(args, "--service", "http://"+s.address)...)
	config, err := filepath.Abs(filepath.Join(s.dir, configDir, as))
	if err != nil {
		config = filepath.Join(s.dir, configDir, as)
	}
	cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+config, "INSEGNA_TOKEN=")
	return cmd
}

// people sets up the three people with the three roles, or signs the admin in
// where that was done before.
func (s *running) people(ctx context.Context) error {
	file, err := s.passphraseOf(admin)
	if err != nil {
		return err
	}
	link := s.said.link()
	for try := 1; link == ""; try++ { // what the service prints may come a little after it answers
		err := s.quietly(ctx, admin, "sign-in", admin, "--passphrase-file", file)
		if err == nil {
			return nil
		}
		time.Sleep(time.Duration(try) * time.Second)
		if link = s.said.link(); link == "" && try == 5 {
			return err
		}
	}
	if err := s.quietly(ctx, admin, "set-up", link, "--name", admin, "--passphrase-file", file); err != nil {
		return err
	}
	for _, p := range others {
		out, err := s.command(ctx, admin, "person", "add", p[0], "--role", p[1], "-o", "json").Output()
		if err != nil {
			return fmt.Errorf("adding %s: %w", p[0], err)
		}
		var i struct{ Code string }
		if err := json.Unmarshal(out, &i); err != nil {
			return err
		}
		file, err := s.passphraseOf(p[0])
		if err != nil {
			return err
		}
		if err := s.quietly(ctx, p[0], "set-up", "http://"+s.address+"/set-up#"+i.Code, "--passphrase-file",
			file); err != nil {
			return err
		}
	}
	return nil
}

// quietly runs a command and shows what it said only when it failed.
func (s *running) quietly(ctx context.Context, as string, args ...string) error {
	if out, err := s.command(ctx, as, args...).CombinedOutput(); err != nil {
		return fmt.Errorf("insegna %s: %s", args[0], strings.TrimSpace(string(out)))
	}
	return nil
}
