package cli_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/servicetest"
	"insegna.example/internal/standin/sink"
)

// TestWhoIsToldAtTheTerminal goes through owners, messages, silences, what is let be, the
// calendar, a report and an export.
func TestWhoIsToldAtTheTerminal(t *testing.T) {
	dir := fixture(t)
	s, err := sink.Start(sink.Config{Mail: "127.0.0.1:0", Page: "127.0.0.1:0", Refuse: "lost"})
	require.NoError(t, err)
	t.Cleanup(s.Stop)
	svc := servicetest.Start(t).URL
	run := func(args ...string) result { return insegna(t, dir, svc, args...) }
	assert.Contains(t, run("notice", "owners").err, "no estate has been applied yet")
	assert.Contains(t, run("report").err, "no estate has been applied yet")
	file, err := os.ReadFile(filepath.Join(dir, "estate.yaml"))
	require.NoError(t, err)
	text := strings.ReplaceAll(string(file), "at: ['quay:1']}", "at: ['quay:1'], group: doors, tags: [old]}")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "estate.yaml"), []byte(text), 0o600))
	assert.Contains(t, run("estate", "check", "estate.yaml").err, `host gone.lantern.example is in an unknown group "doors"; expected a group declared under groups`)
	text += "groups:\n  - {name: doors}\nowner: desk\nowners:\n  - {name: desk, mail: [desk@lantern.example, lost@lantern.example]}\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "estate.yaml"), []byte(text), 0o600))
	require.Contains(t, run("estate", "apply", "estate.yaml").out, "Applied")
	assert.Contains(t, run("notice", "owners").out, "Nobody is told: the estate declares no notices.")
	assert.Contains(t, run("notice", "test", "desk").err, "the estate tells nobody")
	text += "notices:\n  mail: {server: \"" + s.Mail() + "\", security: none, from: insegna@lantern.example}\n  digest: 07:00\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "estate.yaml"), []byte(text), 0o600))
	require.Contains(t, run("estate", "apply", "estate.yaml").out, "Applied")
	run("survey", "start")

	assert.Contains(t, run("notice", "owners").out, "Each gets at most one message in 15m, and a digest each day at 07:00.")
	test := run("notice", "test", "desk")
	assert.Equal(t, 1, test.code)
	assert.Contains(t, test.out, "Delivered to desk@lantern.example.")
	assert.Contains(t, test.out, "Not delivered to lost@lantern.example: "+s.Mail()+" says: ")
	assert.Contains(t, test.err, "1 of 2 tests did not arrive")
	assert.Contains(t, run("notice", "list", "--state", "undelivered").out, "nobody here is called lost@lantern.example")
	assert.Contains(t, run("notice", "show", "1").out, "Messages about Ferries come to desk")
	assert.Contains(t, run("notice", "preview", "desk").out, "gone.lantern.example at quay 127.0.0.1:1")
	assert.Contains(t, run("notice", "preview", "desk", "--digest").out, "2 bindings are watched.")
	assert.Contains(t, run("notice", "preview", "nobody").err, `there is no owner "nobody"; see: insegna notice owners`)
	require.Eventually(t, func() bool {
		return strings.Contains(run("finding", "list", "--code", "notice-undelivered").out, "messages to desk do not arrive at lost@lantern.example")
	}, time.Minute, 200*time.Millisecond)
	s.Set(func(c *sink.Config) { c.Refuse = "" })
	assert.Contains(t, run("notice", "again").out, "tried again. See what comes of it")
	assert.Contains(t, run("notice", "silence", "--for", "2h").err, "a reason is needed")
	assert.Contains(t, run("notice", "silence", "desk", "--for", "2h", "--reason", "moving").out, "desk is told nothing until ")
	assert.Contains(t, run("notice", "owners").out, "desk hears nothing until ")
	assert.Contains(t, run("notice", "silence", "--end", "1").out, "The silence has ended.")
	assert.Contains(t, run("notice", "silence").out, "Everybody is told.")

	var found []struct{ Id int64 }
	require.NoError(t, json.Unmarshal([]byte(run("finding", "list", "--tag", "old", "-o", "json").out), &found))
	require.Len(t, found, 1)
	id := fmt.Sprint(found[0].Id)
	for _, args := range [][]string{{"finding", "accept", id}, {"finding", "accept", id, "--until", "someday", "--reason", "x"},
		{"finding", "accept", id, "--end", "--reason", "x"}, {"finding", "accept", "x", "--until", "2027-01-01", "--reason", "because"}} {
		assert.Equal(t, 2, run(args...).code, args)
	}
	assert.Contains(t, run("finding", "accept", id, "--until", "2020-01-01", "--reason", "because").err, "has passed")
	later := "2027-01-31"
	assert.Contains(t, run("finding", "accept", id, "--until", later, "--reason", "taken down in January").out, "is accepted until "+later)
	assert.Equal(t, 0, run("finding", "list", "--group", "doors", "--fail-at", "note").code, "what is accepted fails nothing")
	assert.Contains(t, run("finding", "list", "--state", "accepted").out, "by keeper: taken down in January")
	assert.Contains(t, run("finding", "show", id).out, "group doors; owner desk; tags old")
	assert.Contains(t, run("journal", "list", "--query", "finding.accept").out, "taken down in January")
	assert.Contains(t, run("binding", "list", "--tag", "old").out, "gone.lantern.example")
	assert.NotContains(t, run("binding", "list", "--tag", "old").out, "a.lantern.example")
	assert.Contains(t, run("survey", "start", "--group", "doors").out, "(group doors) looked at 2 targets")

	at := strings.Fields(run("calendar", "add", "the wall").out)[0]
	resp, err := (&http.Transport{}).RoundTrip(mustRequest(t, at))
	require.NoError(t, err)
	calendar, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	require.NoError(t, resp.Body.Close())
	assert.Contains(t, string(calendar), "is accepted until now")
	assert.Contains(t, run("calendar", "list").out, "the wall")
	assert.Contains(t, run("calendar", "revoke", "1").out, "The address is revoked.")
	assert.Contains(t, run("finding", "accept", id, "--end").out, "is open again")

	assert.Contains(t, run("report").out, "1 broken")
	assert.Contains(t, run("report", "--format", "html", "--out", "r.html").err, "Written: r.html")
	page, err := os.ReadFile(filepath.Join(dir, "r.html"))
	require.NoError(t, err)
	assert.Contains(t, string(page), "gone.lantern.example")
	assert.Contains(t, run("report", "-o", "csv", "--part", "due").out, "ends,days left,certificate")
	assert.Contains(t, run("report", "--day", "tomorrow").err, "expected one such as 2026-11-01")
	assert.Contains(t, run("estate", "export").out, "group: doors")
	assert.Contains(t, run("estate", "export", "--out", "copy").out, "Written: copy/estate.yaml")
	assert.Contains(t, run("estate", "check", "copy/estate.yaml").out, "is fine")
	assert.Contains(t, run("estate", "export", "--out", "copy").err, "is there already")

	for _, args := range [][]string{{"notice", "owners"}, {"notice", "list"}, {"report"}, {"calendar", "list"}, {"finding", "list", "--state", "all"}} {
		for _, columns := range []int{80, 120} {
			for line := range strings.SplitSeq(terminal(t, columns, dir, svc, args...), "\n") {
				assert.LessOrEqual(t, utf8.RuneCountInString(line), columns, "%v: %s", args, line)
			}
		}
	}
}

func mustRequest(t *testing.T, at string) *http.Request {
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, at, nil)
	require.NoError(t, err)
	return r
}
