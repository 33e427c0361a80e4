package check_test

import (
	"crypto/x509"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/binding"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/place"
	"insegna.example/internal/pkitest"
)

const day = 24 * time.Hour

// at reads a place as these tests write it: file:line.
func at(text string) place.Place {
	file, number, _ := strings.Cut(text, ":")
	line, _ := strconv.Atoi(number)
	return place.Place{File: file, Line: line}
}

// nginxWords are words of a kind of server, so that a test sees them used.
var nginxWords = &binding.Words{
	Listener: "listen directive", Plain: "has no ssl", TLS: "add ssl to it", KeepTLS: "put ssl back",
	Refuses: "ssl_reject_handshake",
	Open: func(e netip.AddrPort, exact bool) string {
		if exact {
			return fmt.Sprintf("add \"listen %s ssl\"", e)
		}
		return fmt.Sprintf("add \"listen %d ssl\"", e.Port())
	},
	Name: func(host string) string { return "add " + host + " to the server_name" },
}

// configuredCase is what is configured and what is seen, and what that must
// come to.
type configuredCase struct {
	code       check.Code // "" for none
	severity   check.Severity
	change     func(*binding.Configured)
	seen       *binding.Observation
	cause      string
	remedy     string
	source     string
	configured binding.Face
	served     binding.Face
}

// configuredCases makes each finding about the configured face occur, with the
// findings it stands for gone.
func configuredCases(w world) (good *pkitest.Entity, cases []configuredCase) {
	leaf := func(change ...func(*x509.Certificate)) *pkitest.Entity { return pkitest.Leaf(w.sub, host, change...) }
	good = leaf()
	old := leaf(pkitest.Valid(-89*day, 3*day))
	ended := leaf(pkitest.Valid(-89*day, -3*day))
	other := pkitest.Leaf(w.sub, "b.lantern.example")
	full := func(e *pkitest.Entity) []*certs.Certificate { return pkitest.List(e, w.sub, w.ca) }
	served := func(e *pkitest.Entity) *binding.Observation { return seen(e, w.sub, w.ca) }
	on := func(list []*certs.Certificate) func(*binding.Configured) {
		return func(c *binding.Configured) { c.Pairs[0].Chain = list }
	}
	both := func(list ...func(*binding.Configured)) func(*binding.Configured) {
		return func(c *binding.Configured) {
			for _, f := range list {
				f(c)
			}
		}
	}
	unnamed := func(c *binding.Configured) {
		c.Named, c.Site, c.SiteAt, c.Why = false, "b.lantern.example", at("/n/b:4"),
			"no site there has the name, and it is the first site"
	}
	idle := func(c *binding.Configured) {
		c.Idle = []binding.Idle{{At: at("/n/sites-available/a:1"),
			SwitchOn: "switch it on: ln -s /n/sites-available/a /n/sites-enabled/"}}
	}
	loaded := func(c *binding.Configured) { c.Loaded = pkitest.Now }
	closed := func(c *binding.Configured) { c.Listener, c.Opens = "", "/n/n.conf opens *:8080" }
	hops := func(list ...binding.Hop) func(*binding.Configured) {
		return func(c *binding.Configured) { c.Hops = list }
	}
	fine := binding.Hop{At: at("/n/a:8"), Address: "192.0.2.2:443"}
	down := binding.Hop{At: at("/n/a:9"), Address: "192.0.2.1:443", Origin: "node", Site: at("/m/a:3"),
		Fault: binding.HopDown, Why: "nothing listens there"}
	plainly := func(status int, to string) func(*binding.Configured) {
		return func(c *binding.Configured) {
			c.Plain = &binding.Plain{At: netip.MustParseAddrPort("192.0.2.1:80"), Place: at("/n/p:3"), Status: status, To: to}
		}
	}
	barred := func(c *binding.Configured) {
		plainly(301, "https://"+host+check.Kept)(c)
		c.Plain.Blocked = &binding.Blocked{Mandate: "menu", Place: at("/n/p:4"), Seen: "it is denied", Remedy: "free it"}
	}
	refused := &binding.Observation{Outcome: binding.Refused, Detail: "refused"}
	plain := &binding.Observation{Outcome: binding.PlainHTTP}
	agrees, differs, missing, unread := binding.Agrees, binding.Differs, binding.Missing, binding.Unread
	return good, []configuredCase{
		{"", "", nil, served(good), "", "", "", agrees, agrees},
		{"", "", func(c *binding.Configured) { c.RunTime, c.Pairs = true, nil }, served(good), "", "", "", unread, agrees},
		{"", "", func(c *binding.Configured) {
			c.Pairs[0] = binding.Pair{File: "/n/x", Fault: "permission denied", Hidden: true}
		}, served(good), "", "", "", unread, agrees},
		{"", "", func(c *binding.Configured) { *c = binding.Configured{Unknown: "not reached"} }, served(good), "", "", "",
			unread, agrees},
		{"nothing-listens", check.Broken, closed, refused, "no listen directive of quay opens it (/n/n.conf opens *:8080)",
			`add "listen 8443 ssl" to the site that should answer`, "", missing, missing},
		{"nothing-listens", check.Broken,
			both(closed, func(c *binding.Configured) { c.Elsewhere = []place.Place{at("/n/c:9")} }), refused, "opens it",
			`add "listen 8443 ssl" to the site at /n/c:9`, "/n/c:9", missing, missing},
		{"nothing-listens", check.Broken, nil, refused, "though /n/a:2 opens it: the server does not run",
			"start the server", "/n/a:2", agrees, missing},
		{"nothing-listens", check.Broken, loaded, refused, "the server runs and has not loaded that",
			"nginx -t && nginx -s reload", "/n/a:2", agrees, missing},
		{"site-not-enabled", check.Broken, both(closed, idle), refused,
			"written in /n/sites-available/a:1 and not switched on; nothing listens for it",
			"ln -s /n/sites-available/a /n/sites-enabled/, then nginx -t && nginx -s reload", "/n/sites-available/a:1",
			missing, missing},
		{"last-hop-fails", check.Broken, hops(down), served(good),
			"the front is fine, and the server behind it is not: node (192.0.2.1:443) at /n/a:9: nothing listens there; visitors",
			"start node (/m/a:3), or correct /n/a:9, then nginx -t && nginx -s reload", "/n/a:9", agrees, agrees},
		{"last-hop-fails", check.Weak, hops(fine, down), served(good), "1 of 2 servers behind are left", "start node", "/n/a:9",
			agrees, agrees},
		{"last-hop-fails", check.Weak, hops(binding.Hop{At: at("/n/a:7"), Unknown: "no time was left"}, down), served(good),
			"of the 1 others behind nothing is known", "start node", "/n/a:9", agrees, agrees},
		{"last-hop-fails", check.Broken, hops(down, down), served(good), "none of the 2 servers behind is left", "start node",
			"/n/a:9", agrees, agrees},
		{"", "", hops(binding.Hop{At: at("/n/a:9"), For: "other.example", Fault: binding.HopDown}), served(good), "", "", "",
			agrees, agrees},
		{"redirect-missing", check.Weak, plainly(0, ""), served(good), "visitors of http://" + host + " at 192.0.2.1:80 are not led to https",
			"answer with a permanent redirect (301 or 308) to https, then nginx -t && nginx -s reload", "/n/p:3", agrees, agrees},
		{"redirect-missing", check.Weak, plainly(301, "http://"+host+check.Kept), served(good), "are led to http://",
			"redirect to https, then", "/n/p:3", agrees, agrees},
		{"redirect-temporary", check.Note, plainly(302, "https://"+host+check.Kept), served(good), "for the time being (status 302)",
			"make it permanent", "/n/p:3", agrees, agrees},
		{"redirect-loses", check.Weak, plainly(301, "https://"+host+"/insegna-visit"), served(good), "and asked for " + host + check.Kept,
			"keep path and query", "/n/p:3", agrees, agrees},
		{"redirect-loses", check.Weak, plainly(301, "https://other.example"+check.Kept), served(good), "are led to https://other.example",
			"keep the host", "/n/p:3", agrees, agrees},
		{"", "", plainly(308, "https://"+strings.ToUpper(host)+":8443"+check.Kept), served(good), "", "", "", agrees, agrees},
		{"", "", both(plainly(0, ""), func(c *binding.Configured) { c.Plain.Unknown = true }), served(good), "", "", "", agrees, agrees},
		{"", "", both(plainly(0, ""), func(c *binding.Configured) { c.Plain.Closed = true }), served(good), "", "", "", agrees, agrees},
		{"", "", both(plainly(0, ""), func(c *binding.Configured) { c.Named = false }), served(good), "", "", "", agrees, agrees},
		{"challenge-blocked", check.Due, barred, served(good), "gets no answer, and the mandate menu is proved there: it is denied",
			"free it", "/n/p:4", agrees, agrees},
		{"last-hop-unwatched", check.Weak, hops(binding.Hop{At: at("/n/a:9"), Address: "192.0.2.1:443", Unseen: "it has ended"}),
			served(good), "it has ended, and the front does not look at that", "that is in its dates at 192.0.2.1:443", "/n/a:9",
			agrees, agrees},
		{"not-configured", check.Weak, closed, served(good),
			"127.20.0.10:8443 answers, and no listen directive of quay opens it", "which program owns the port", "",
			missing, agrees},
		{"plain-http", check.Broken, func(c *binding.Configured) { c.TLS = false }, plain,
			"the listen directive at /n/a:2 has no ssl", "add ssl to it", "/n/a:2", missing, missing},
		{"not-reloaded", check.Due, func(c *binding.Configured) { c.TLS = false }, served(good),
			"has no ssl, and the server still speaks TLS", "put ssl back", "/n/a:2", missing, differs},
		{"other-site-answers", check.Broken, both(unnamed, on(full(other))), served(other),
			"b.lantern.example (/n/b:4), because no site there has the name", "add a.lantern.example to the server_name",
			"/n/b:4", missing, differs},
		{"other-site-answers", check.Broken,
			both(unnamed, on(full(other)), func(c *binding.Configured) { c.Elsewhere = []place.Place{at("/n/c:9")} }),
			served(other), "another site",
			`the site at /n/c:9 has this name and listens elsewhere: add "listen 127.20.0.10:8443 ssl"`, "/n/b:4",
			missing, differs},
		{"site-not-enabled", check.Broken, both(unnamed, idle, on(full(other))), served(other),
			"b.lantern.example (/n/b:4) answers instead", "ln -s", "/n/sites-available/a:1", missing, differs},
		{"site-not-enabled", check.Weak, both(unnamed, func(c *binding.Configured) {
			c.Idle = []binding.Idle{{At: at("/n/a.off:1"), SwitchOn: "give /n/a.off a name that is included"}}
		}), served(good), "not switched on", "give /n/a.off a name that is included", "/n/a.off:1", missing, agrees},
		{"not-reloaded", check.Due, nil, served(old), "/n/a.pem holds the certificate of", "nginx -t && nginx -s reload",
			"/n/a:3", agrees, differs},
		{"not-reloaded", check.Broken, nil, served(ended), "it has not been reloaded; the certificate ended 3 days ago",
			"nginx -t && nginx -s reload", "/n/a:3", agrees, differs},
		{"served-from-elsewhere", check.Weak,
			both(loaded, func(c *binding.Configured) { c.Pairs[0].Changed = pkitest.Now.Add(-time.Hour) }), served(leaf()),
			"though the server has loaded its configuration since", "find out what else answers at 127.20.0.10:8443", "/n/a:3",
			agrees, differs},
		{"wrong-file", check.Due,
			both(on(full(old)), func(c *binding.Configured) {
				c.Beside = &binding.Beside{File: "/n/new.pem", Leaf: good.Certificate}
			}), served(old), "/n/a:3 names /n/a.pem; the newer certificate for a.lantern.example, of",
			"name /n/new.pem and its key there", "/n/a:3", differs, differs},
		{"ends-soon", check.Due, both(on(full(old)), func(c *binding.Configured) {
			c.Beside = &binding.Beside{File: "/n/snake.pem", Leaf: pkitest.Leaf(nil, host).Certificate}
		}), served(old), "ends in 3 days", "", "/n/a:3", agrees, agrees},
		{"chain-incomplete", check.Broken, on(pkitest.List(good)), seen(good), "does not send the intermediate",
			"to /n/a.pem (named at /n/a:3), after the leaf", "/n/a:3", agrees, agrees},
		{"chain-missing-on-disk", check.Due, on(pkitest.List(good)), served(good),
			"/n/a.pem, named at /n/a:3, has lost the intermediate Harbour", "to /n/a.pem, after the leaf", "/n/a:3",
			differs, agrees},
		{"key-of-another-certificate", check.Due, func(c *binding.Configured) { c.Pairs[0].OtherKey = true }, served(good),
			"the key /n/a.key, named at /n/a:4, belongs to another certificate than /n/a.pem", "in the place of /n/a.key",
			"/n/a:4", differs, agrees},
		{"key-file-bad", check.Due, func(c *binding.Configured) { c.Pairs[0].KeyFault = "no such file" }, served(good),
			"/n/a.key, named at /n/a:4, cannot be used: no such file", "put the key there", "/n/a:4", agrees, agrees},
		{"certificate-file-bad", check.Due, func(c *binding.Configured) {
			c.Pairs[0].Chain, c.Pairs[0].Fault = nil, "no such file"
		}, served(good), "/n/a.pem, named at /n/a:3, cannot be used", "put the certificate there", "/n/a:3", missing, agrees},
		{"tls-refused", check.Broken, func(c *binding.Configured) { c.Refuses, c.Pairs = true, nil },
			&binding.Observation{Outcome: binding.Alert, Alert: 112}, "refuses every handshake", "add a site", "/n/a:1",
			missing, missing},
	}
}

func TestEveryRuleOfTheConfiguredFace(t *testing.T) {
	w := newWorld()
	good, cases := configuredCases(w)
	for i, c := range cases {
		t.Run(fmt.Sprintf("%d %s", i, c.code), func(t *testing.T) {
			conf := &binding.Configured{Listener: "*:8443", ListenerAt: at("/n/a:2"), TLS: true, Site: host,
				SiteAt: at("/n/a:1"), Named: true, Test: "nginx -t", TakeIn: "nginx -s reload", Words: nginxWords,
				Pairs: []binding.Pair{{File: "/n/a.pem", FileAt: at("/n/a:3"), Key: "/n/a.key", KeyAt: at("/n/a:4"),
					Chain: pkitest.List(good, w.sub, w.ca)}}}
			if c.change != nil {
				c.change(conf)
			}
			j := w.judge.Judge(target, c.seen, pkitest.Now, check.Around{Configured: conf})
			assert.Equal(t, c.configured, j.Faces.Configured, "configured")
			assert.Equal(t, c.served, j.Faces.Served, "served")
			if c.code == "" {
				assert.Empty(t, j.Findings)
				return
			}
			require.Equal(t, []check.Code{c.code}, codes(j.Findings))
			f := j.Findings[0]
			assert.Equal(t, c.severity, f.Severity)
			assert.Contains(t, f.Cause, c.cause)
			assert.Contains(t, f.Remedy, c.remedy)
			assert.Equal(t, c.source, f.Source.String())
		})
	}
}

// serverCases makes each finding about a server as a whole occur.
var serverCases = []struct {
	code  check.Code
	facts check.ServerFacts
	cause string
}{
	{"configuration-refused", check.ServerFacts{Refused: "key values mismatch", RefusedAt: at("/n/a:3"),
		Problems: []check.Problem{{"refused", at("/n/a:3"), "the same"}}},
		"refuses its configuration and can neither reload nor start: key values mismatch"},
	{"configuration-refused", check.ServerFacts{Refused: "another key", RefusedAt: at("/n/a:3"), Passed: true},
		"a reload would end pier, although its own test passes: another key"},
	{"configuration-suspect",
		check.ServerFacts{Problems: []check.Problem{{"refused", at("/n/a:3"), "what its test takes"},
			{"suspect", at("/n/a:4"), "odd"}}}, "odd"},
	{"configuration-unread", check.ServerFacts{Problems: []check.Problem{{"unread", at("/n/a:4"), "permission denied"}}},
		"permission denied"},
	{"key-open", check.ServerFacts{Keys: []check.OpenKey{{Placed: check.Placed{"/n/a.key", at("/n/a:4")}, Mode: "0644"}}},
		"/n/a.key may be read by other users (mode 0644)"},
	{"key-open", check.ServerFacts{Keys: []check.OpenKey{{check.Placed{"/n/a.key", at("/n/a:4")}, "0644", "marit:staff", "root:root", false}}},
		"(mode 0644, and belongs to marit:staff, as no other key of pier does)"},
	{"key-open", check.ServerFacts{Keys: []check.OpenKey{{check.Placed{"/n/a.key", at("/n/a:4")}, "0600", "marit:staff", "root:ssl-cert", true}}},
		"/n/a.key belongs to marit, who may read and change it; the other keys of pier belong to root:ssl-cert"},
	{"not-in-estate", check.ServerFacts{Unwanted: []check.Unlisted{{Placed: check.Placed{"old.test", at("/n/a:2")}}}}, "has a site for old.test"},
	{"not-in-estate", check.ServerFacts{Unwanted: []check.Unlisted{{Placed: check.Placed{"old.test", at("/n/a:2")}, Looked: "192.0.2.1:443",
		Found: []check.Finding{{Code: check.Expired, Severity: check.Broken, Cause: "it ended", Remedy: "renew it"}}}}}, "want it there; found there: it ended"},
	{check.HostKeyChanged,
		check.ServerFacts{Trouble: &check.Trouble{Code: check.HostKeyChanged, Text: "x"}, Refused: "left out"},
		"the configuration of pier was not read: x"},
	{check.HostKeyUnknown, check.ServerFacts{Trouble: &check.Trouble{Code: check.HostKeyUnknown}}, "not read"},
	{check.LoginRefused, check.ServerFacts{Trouble: &check.Trouble{Code: check.LoginRefused}}, "not read"},
	{check.ConnectionLost, check.ServerFacts{Trouble: &check.Trouble{Code: check.ConnectionLost}}, "not read"},
	{check.NotReached, check.ServerFacts{Trouble: &check.Trouble{Code: check.NotReached}}, "not read"},
	{"test-not-run", check.ServerFacts{Untested: "it hangs"}, "could not be run: it hangs"},
	{"left-over", check.ServerFacts{Lying: []check.Lying{{Path: "/n/x.pem", State: check.Spare}, {Path: "/n/y.key", State: check.Stray},
		{Path: "/n/n.pem", State: check.Newer}, {Path: "/n/a.pem", State: check.InUse}, {Path: "/n/i.pem", State: check.ForIdle}}},
		"2 files with certificates or keys lie on pier that nothing uses: /n/x.pem, /n/y.key"},
	{"last-hop-plain", check.ServerFacts{Hops: []binding.Hop{{Address: "192.0.2.1:80"}, {Address: "192.0.2.1:80"},
		{Address: "unix:/run/x"}, {Address: "127.0.0.1:80"}, {Address: "localhost:80"}}},
		"without TLS to 192.0.2.1:80"},
	{"last-hop-unchecked", check.ServerFacts{Hops: []binding.Hop{{Address: "192.0.2.1:443", TLS: true},
		{Address: "192.0.2.2:443", TLS: true, Checked: true}, {Address: "[::1]:443", TLS: true}}}, "TLS to 192.0.2.1:443"},
}

func TestEveryRuleOfAServer(t *testing.T) {
	for _, c := range serverCases {
		c.facts.Server, c.facts.Test = "pier", "nginx -t"
		list := check.Server(&c.facts)
		require.Len(t, list, 1, c.code)
		assert.Equal(t, c.code, list[0].Code)
		assert.Contains(t, list[0].Cause, c.cause)
		assert.NotEmpty(t, list[0].Remedy)
	}
	refused := check.Server(&check.ServerFacts{Refused: "unexpected end",
		Problems: []check.Problem{{"refused", at("/n/a:1"), "the quote opened here is never closed"}}})
	assert.Contains(t, refused[0].Evidence,
		check.Fact{Label: "read at /n/a:1", Value: "the quote opened here is never closed"})
	untested := check.Server(&check.ServerFacts{Untested: "x",
		Problems: []check.Problem{{"refused", at("/n/a:3"), "unclosed"}}})
	assert.Equal(t, check.ConfigurationRefused, untested[1].Code, "without the server's own test the reader's word counts")
	many := check.Server(&check.ServerFacts{Unwanted: make([]check.Unlisted, 10_000)})
	require.Len(t, many, 50)
	assert.Contains(t, many[49].Cause, "and 9950 more of this kind")
	list := make([]check.Unlisted, 100)
	list[99] = check.Unlisted{Placed: check.Placed{Name: "worst.test"}, Found: []check.Finding{{Code: check.Expired, Severity: check.Broken, Cause: "it ended", Remedy: "renew it"}}}
	worst := check.Server(&check.ServerFacts{Unwanted: list})[0]
	assert.Equal(t, check.Broken, worst.Severity, "as bad as what visitors meet, and told first")
	assert.Contains(t, worst.Remedy, "for what was found: renew it")
	assert.Contains(t, worst.Evidence, check.Fact{Label: "expired", Value: "it ended"})
}

// TestAFileWrittenWhileTheServerStarts holds the two seconds by which moments of
// processes may be wrong: within them a file counts as not loaded, for telling a
// person to reload is harmless and accusing another program is not.
func TestAFileWrittenWhileTheServerStarts(t *testing.T) {
	w := newWorld()
	good, _ := configuredCases(w)
	for before, want := range map[time.Duration]check.Code{
		-time.Minute:                check.NotReloaded, // written after the start
		0:                           check.NotReloaded,
		1900 * time.Millisecond:     check.NotReloaded,
		2 * time.Second:             check.ServedFromElsewhere,
		2*time.Second + time.Minute: check.ServedFromElsewhere,
	} {
		conf := &binding.Configured{Listener: "*:8443", ListenerAt: at("/n/a:2"), TLS: true, Site: host,
			SiteAt: at("/n/a:1"), Named: true, Test: "nginx -t", TakeIn: "nginx -s reload", Words: nginxWords,
			Loaded: pkitest.Now, Pairs: []binding.Pair{{File: "/n/a.pem", FileAt: at("/n/a:3"), Key: "/n/a.key",
				KeyAt: at("/n/a:4"), Chain: pkitest.List(good, w.sub, w.ca), Changed: pkitest.Now.Add(-before)}}}
		served := seen(pkitest.Leaf(w.sub, host), w.sub, w.ca)
		j := w.judge.Judge(target, served, pkitest.Now, check.Around{Configured: conf})
		require.Len(t, j.Findings, 1, before)
		assert.Equal(t, want, j.Findings[0].Code, "written %s before the server took its configuration in", before)
		assert.Equal(t, binding.Differs, j.Faces.Served)
	}
}

// TestWhatIsConfiguredHasToFit makes the certificate on disk wrong in one way at
// a time: each alone keeps the configured face from agreeing, and one that is
// right in all of them agrees.
func TestWhatIsConfiguredHasToFit(t *testing.T) {
	w := newWorld()
	stranger := pkitest.CA("Harbour Other", w.ca)
	wanted := pkitest.Leaf(w.sub, host)
	for name, c := range map[string]struct {
		on     *pkitest.Entity
		by     *pkitest.Entity
		wanted estate.Wanted
		face   binding.Face
	}{
		"right":            {wanted, w.sub, estate.Wanted{Issuer: "Harbour Issuing"}, binding.Agrees},
		"the very one":     {wanted, w.sub, estate.Wanted{Certificate: wanted.Fingerprint.String()}, binding.Agrees},
		"for another host": {pkitest.Leaf(w.sub, "b.lantern.example"), w.sub, estate.Wanted{}, binding.Differs},
		"not valid yet": {
			pkitest.Leaf(w.sub, host, pkitest.Valid(time.Hour, 48*time.Hour)), w.sub, estate.Wanted{}, binding.Differs},
		"ended": {
			pkitest.Leaf(w.sub, host, pkitest.Valid(-48*time.Hour, -time.Hour)), w.sub, estate.Wanted{}, binding.Differs},
		"by another CA": {
			pkitest.Leaf(stranger, host), stranger, estate.Wanted{Issuer: "Harbour Issuing"}, binding.Differs},
		"another of this CA": {
			pkitest.Leaf(w.sub, host), w.sub, estate.Wanted{Certificate: wanted.Fingerprint.String()}, binding.Differs},
	} {
		conf := &binding.Configured{Listener: "*:8443", ListenerAt: at("/n/a:2"), TLS: true, Site: host, SiteAt: at("/n/a:1"),
			Named: true, Test: "nginx -t", TakeIn: "nginx -s reload", Words: nginxWords,
			Pairs: []binding.Pair{{File: "/n/a.pem", FileAt: at("/n/a:3"), Key: "/n/a.key", KeyAt: at("/n/a:4"),
				Chain: pkitest.List(c.on, c.by, w.ca)}}}
		of := target
		of.Wanted = c.wanted
		j := w.judge.Judge(of, seen(wanted, w.sub, w.ca), pkitest.Now, check.Around{Configured: conf})
		assert.Equal(t, c.face, j.Faces.Configured, name)
	}
}

// TestAJudgementDoesNotDependOnWhatWasMet judges one list before and after others
// were seen that would lend it an issuer, or one of the same name.
func TestAJudgementDoesNotDependOnWhatWasMet(t *testing.T) {
	w := newWorld()
	young, stranger := pkitest.CA("Harbour Young", w.ca), pkitest.CA("Harbour Young", pkitest.CA("Elsewhere", nil))
	alone := seen(pkitest.Leaf(young, host))
	before := w.judge.Judge(target, alone, pkitest.Now, check.Around{})
	assert.Equal(t, []check.Code{check.IssuerUnknown}, codes(before.Findings))
	for _, other := range []*binding.Observation{seen(pkitest.Leaf(young, host), young, w.ca),
		seen(pkitest.Leaf(stranger, "b.lantern.example"), stranger)} {
		w.judge.Judge(target, other, pkitest.Now, check.Around{})
		after := w.judge.Judge(target, alone, pkitest.Now, check.Around{})
		assert.Equal(t, before.Findings, after.Findings)
		assert.Equal(t, before.Verdict, after.Verdict)
	}
}
