package proof

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/miekg/dns"
)

// What a program or an HTTP call is asked to do with a record.
const (
	Publish  = "publish"  // put it up beside what is there
	Withdraw = "withdraw" // take it down, and no other; it may be gone already
)

// Handed puts TXT records up by means of somebody else's: a program or an HTTP call.
// That they do what they say is looked at from the name servers.
type Handed struct {
	Zones Updates // finds where a record belongs, and waits for it; its key is not used
	// Do carries one act out: Publish or Withdraw of a value at a record, a name without
	// the dot at its end
	Do func(ctx context.Context, act, record, value string) error
}

// each does an act with every record.
func (h *Handed) each(ctx context.Context, act string, list []Publication) error {
	var all []error
	for _, p := range list {
		t, err := h.Zones.record(ctx, p.Name)
		if err != nil {
			// whoever keeps the zone may know it though its name servers are not found from here
			t.name = dns.Fqdn(Label + p.Name)
		}
		record := strings.TrimSuffix(t.name, ".")
		if err := h.Do(ctx, act, record, p.Content); err != nil {
			all = append(all, &PublishError{act + " the TXT record", record, err})
			if act == Publish {
				break
			}
		}
	}
	return errors.Join(all...)
}

// Publish implements Prover.
func (h *Handed) Publish(ctx context.Context, list []Publication) error {
	return h.each(ctx, Publish, list)
}

// Withdraw implements Prover.
func (h *Handed) Withdraw(ctx context.Context, list []Publication) error {
	return h.each(ctx, Withdraw, list)
}

// Await implements Prover: what was said to be done is done.
func (h *Handed) Await(ctx context.Context, list []Publication) error {
	return h.Zones.Await(ctx, list)
}

// Bounds of what is handed to others.
const (
	// HandedTime is how long one act may take.
	HandedTime   = 2 * time.Minute
	handedOutput = 4096 // bytes kept of what it says
)

// Program gives an act carried out by a program of a folder: it is started with the
// act, the record and the value as arguments, has so much time, and exit code 0 means
// done. A name that leads out of the folder is refused.
func Program(folder, name string, patience time.Duration) func(ctx context.Context, act, record, value string) error {
	return func(ctx context.Context, act, record, value string) error {
		if folder == "" || name != filepath.Base(name) || name == "." || name == ".." {
			return fmt.Errorf("%q is no program of the folder of programs", name)
		}
		limited, cancel := context.WithTimeout(ctx, patience)
		defer cancel()
		c := exec.CommandContext(limited, filepath.Join(folder, name), act, record, value)
		said := &head{most: handedOutput}
		c.Stdout, c.Stderr, c.WaitDelay = said, said, time.Second
		c.Env = []string{"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "LANG=C.UTF-8"}
		c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // what it started ends with it
		c.Cancel = func() error { return syscall.Kill(-c.Process.Pid, syscall.SIGKILL) }
		err := c.Run()
		switch {
		case ctx.Err() == nil && limited.Err() != nil:
			return fmt.Errorf("the program %s did not end within %s", name, patience)
		case err != nil:
			return fmt.Errorf("the program %s: %w%s", name, err, said.words())
		}
		return nil
	}
}

// head keeps the beginning of what is written to it.
type head struct {
	kept bytes.Buffer
	most int
}

// Write implements io.Writer; what is too much is dropped.
func (h *head) Write(p []byte) (int, error) {
	h.kept.Write(p[:min(len(p), max(h.most-h.kept.Len(), 0))])
	return len(p), nil
}

// words gives what was said, for the end of an error.
func (h *head) words() string {
	text := strings.TrimSpace(strings.ToValidUTF8(h.kept.String(), "�"))
	if text == "" {
		return ""
	}
	return "; it said: " + text
}

// Call gives an act carried out by an HTTP request: a POST of a JSON document with
// act, record, type, value and ttl, with a bearer token when one is given (RFC 6750).
// Any 2xx means done. Redirects are not followed.
func Call(url string, token []byte, patience time.Duration) func(ctx context.Context, act, record, value string) error {
	client := &http.Client{Timeout: patience, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	return func(ctx context.Context, act, record, value string) error {
		body, err := json.Marshal(map[string]any{"act": act, "record": record, "type": "TXT", "value": value, "ttl": recordLife})
		if err != nil {
			return err
		}
		q, err := http.NewRequestWithContext(ctx, http.MethodPost, url, bytes.NewReader(body))
		if err != nil {
			return err
		}
		q.Header.Set("Content-Type", "application/json")
		if len(token) > 0 {
			q.Header.Set("Authorization", "Bearer "+string(token))
		}
		r, err := client.Do(q)
		if err != nil {
			return err
		}
		defer func() { _ = r.Body.Close() }()
		said := &head{most: handedOutput}
		_, _ = io.Copy(said, io.LimitReader(r.Body, handedOutput))
		const done = 2
		if r.StatusCode/100 != done {
			return fmt.Errorf("it answers %s%s", r.Status, said.words())
		}
		return nil
	}
}

// Held is one thing a means of somebody else's has to do, and whether it does.
type Held struct{ What, Wrong string }

// Conform tries with two values at a host's record what every order needs of a means
// of somebody else's: to put a record up, twice without harm; a second beside it, as a
// wildcard and its parent need; to take one down and leave the other; and to take down
// what is gone. It ends at the first that is not so, with what it put up taken down as
// far as that goes.
func (h *Handed) Conform(ctx context.Context, host, one, other string) (out []Held) {
	first := Publication{Kind: "dns-01", Name: host, Content: one}
	second := Publication{Kind: "dns-01", Name: host, Content: other}
	defer func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), HandedTime)
		defer cancel()
		_ = h.Withdraw(ctx, []Publication{first, second})
	}()
	for _, step := range []struct {
		what string
		do   func(context.Context, []Publication) error
		with Publication
		see  []Publication // afterwards
		gone []Publication
	}{
		{"puts a record up", h.Publish, first, []Publication{first}, nil},
		{"puts the same record up again without harm", h.Publish, first, []Publication{first}, nil},
		{"puts a second record up beside it", h.Publish, second, []Publication{first, second}, nil},
		{"takes one down and leaves the other", h.Withdraw, first, []Publication{second}, []Publication{first}},
		{"takes the other down", h.Withdraw, second, nil, []Publication{second}},
		{"has nothing against taking down what is gone", h.Withdraw, second, nil, nil},
	} {
		err := step.do(ctx, []Publication{step.with})
		if err == nil {
			err = h.Await(ctx, step.see)
		}
		if err == nil {
			err = h.Zones.gone(ctx, step.gone)
		}
		if err != nil {
			return append(out, Held{step.what, err.Error()})
		}
		out = append(out, Held{What: step.what})
	}
	return out
}

// gone waits until no name server shows any of the records.
func (u *Updates) gone(ctx context.Context, list []Publication) error {
	wait := u.Patience
	if wait == 0 {
		wait = usualWait
	}
	limited, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	for _, p := range list {
		t, err := u.record(ctx, p.Name)
		if err != nil {
			return err
		}
		servers, err := u.servers(ctx, t)
		if err != nil {
			return err
		}
		for len(servers) > 0 {
			r, err := ask(ctx, servers[0], t.name, dns.TypeTXT)
			if err == nil && !slices.ContainsFunc(r.Answer, func(rr dns.RR) bool { return shown(rr, p.Content) }) {
				servers = servers[1:]
				continue
			}
			select {
			case <-limited.Done():
				return fmt.Errorf("after %s the name server %s still shows the record of %s that was taken down", wait, servers[0], t.name)
			case <-time.After(time.Second):
			}
		}
	}
	return nil
}

// shown says whether a record holds a value.
func shown(rr dns.RR, value string) bool {
	txt, ok := rr.(*dns.TXT)
	return ok && strings.Join(txt.Txt, "") == value
}
