package estate_test

import (
	"encoding/json"
	"errors"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/pkitest"
)

var root = certs.PEM(pkitest.CA("root", nil).Raw)

func open(path string) ([]byte, error) {
	switch path {
	case "root.pem":
		return root, nil
	case "broken.pem":
		return []byte("-----BEGIN CERTIFICATE-----\nx\n"), nil
	}
	return nil, errors.New("no such file")
}

// kinds are what a program with one kind that can be reached declares.
var kinds = estate.Kinds{
	{Name: "nginx", Reached: true, Main: "/etc/nginx/nginx.conf", Commands: []estate.Command{
		{Key: "test", Meaning: "Command that tests the configuration.",
			Usual: func(main string) string { return "/usr/sbin/nginx -c " + main + " -t" }},
		{Key: "reload", Meaning: "Command that takes it in.",
			Usual: func(main string) string { return "/usr/sbin/nginx -c " + main + " -s reload" }},
	}},
	{Name: "httpd"}, {Name: "haproxy"}, {Name: "edge"}, {Name: "windows"}, {Name: "ingress"}, {Name: "other"},
}

const good = `estate: Ferries
audiences:
  - name: browsers
    public: true
    roots: [root.pem]
  - name: in-house
    roots: [root.pem]
servers:
  - name: quay
    kind: haproxy
    addresses: [127.20.0.10, "::1"]
    ports: [8443, 9000-9002]
  - name: pier
    addresses: [127.20.0.11]
    without_sni: false
  - name: node
    kind: nginx
    addresses: [127.20.0.12]
    reach: {by: ssh, user: watch, key: /etc/watch.key}
hosts:
  - name: Booking.Lantern.example
    at: [quay:8443, pier]
    wanted: {issuer: Harbour}
  - name: fähre.lantern.example
    at: [quay]
    audiences: [in-house]
mending:
  - {codes: [not-reloaded, key-open], hours: "22:00-05:30", servers: [node]}
`

func TestParse(t *testing.T) {
	e, err := estate.Parse("estate.yaml", []byte(good), kinds, open)
	require.NoError(t, err)
	booking := e.Host("booking.lantern.example")
	require.NotNil(t, booking)
	assert.Equal(t, []string{"browsers"}, booking.Audiences, "the first audience is the default")
	assert.Equal(t, 21, booking.Place.Line)
	var at []string
	for ep := range e.Endpoints(booking) {
		at = append(at, ep.String())
	}
	assert.Equal(t, []string{"127.20.0.10:8443", "[::1]:8443", "127.20.0.11:443"}, at)
	ferry := e.Host("xn--fhre-loa.lantern.example")
	require.NotNil(t, ferry)
	assert.Equal(t, 8, len(slices.Collect(e.Endpoints(ferry))))
	assert.False(t, e.Server("pier").WithoutSNI)
	assert.Nil(t, e.Server("pier").Reach)
	assert.Equal(t,
		&estate.Reach{By: "ssh", Address: "127.20.0.12:22", User: "watch", Key: "/etc/watch.key",
			Configuration: "/etc/nginx/nginx.conf",
			Commands: map[string]string{"test": "/usr/sbin/nginx -c /etc/nginx/nginx.conf -t",
				"reload": "/usr/sbin/nginx -c /etc/nginx/nginx.conf -s reload"}}, e.Server("node").Reach,
		"the rest follows from kind and address")
}

// faults are wrong files, made of the good one by replacing a text, with where
// and how the fault must be told. Those marked are beyond a JSON Schema.
var faults = []struct {
	name, old, new, want string
	beyondSchema         bool
}{
	{name: "unknown key", old: "kind: haproxy", new: "colour: red",
		want: `estate.yaml:10:5: unknown key "colour" in a server; expected one of name, kind,`},
	{name: "key twice", old: "estate: Ferries\n", new: "estate: Ferries\nestate: Trains\n",
		want: `estate.yaml:2:1: key "estate" stands twice in an estate`, beyondSchema: true},
	{name: "missing key", old: "estate: Ferries\n", new: "", want: "an estate has no estate; expected the key estate"},
	{name: "unknown way", old: "by: ssh", new: "by: boat",
		want: `estate.yaml:19:17: unknown way "boat"; expected local or ssh`},
	{name: "ssh without user", old: "user: watch, ", new: "",
		want: "estate.yaml:19:12: reach by ssh has no user; expected the key user", beyondSchema: true},
	{name: "local with user", old: "by: ssh", new: "by: local",
		want: "address, user, key and known_hosts belong to reach by ssh", beyondSchema: true},
	{name: "relative key", old: "/etc/watch.key", new: "watch.key",
		want: `estate.yaml:19:40: found "watch.key"; expected an absolute path`},
	{name: "command of two lines", old: "key: /etc/watch.key", new: `test: "a\nb"`,
		want: `found "a b"; expected one line of command`, beyondSchema: true},
	{name: "bad ssh address", old: "key: /etc/watch.key", new: `address: "x:0"`,
		want: `bad address "x:0"; expected host:port`, beyondSchema: true},
	{name: "reach of another kind", old: "kind: haproxy", new: "kind: haproxy\n    reach: {by: local}",
		want: "server quay has reach, and the configuration of kind haproxy cannot be read yet; expected a server of kind " +
			"nginx", beyondSchema: true},
	{name: "bad kind", old: "haproxy", new: "steam",
		want: `estate.yaml:10:11: unknown kind "steam"; expected one of nginx, httpd`},
	{name: "bad address", old: "127.20.0.11]", new: "127.20.0.311]",
		want: `estate.yaml:14:17: bad address "127.20.0.311"; expected an IPv4 or IPv6 address`},
	{name: "address of nobody", old: "127.20.0.11]", new: "0.0.0.0]", want: "0.0.0.0 is no machine's address",
		beyondSchema: true},
	{name: "bad port", old: "9000-9002", new: "9002-9000",
		want: `bad port "9002-9000"; expected a port from 1 to 65535 or a range`, beyondSchema: true},
	{name: "port too high", old: "[8443,", new: "[84430,", want: `estate.yaml:12:13: bad port "84430"`},
	{name: "unknown server", old: "pier]\n    wanted", new: "pear]\n    wanted",
		want:         `host booking.lantern.example is wanted at an unknown server "pear"; expected one of node, pier, quay`,
		beyondSchema: true},
	{name: "port a server lacks", old: "quay:8443,", new: "quay:8444,",
		want: "is wanted at quay:8444, but server quay (line 9) has no port 8444", beyondSchema: true},
	{name: "unknown audience", old: "audiences: [in-house]", new: "audiences: [martians]",
		want: `names an unknown audience "martians"; expected one of browsers, in-house`, beyondSchema: true},
	{name: "host twice", old: "fähre.lantern.example", new: "booking.lantern.example",
		want: `estate.yaml:24:5: host "booking.lantern.example" is declared again; first in line 21`, beyondSchema: true},
	{name: "endpoint of two servers", old: "[127.20.0.11]", new: "[127.20.0.10]\n    ports: [9001]",
		want: "127.20.0.10:9001 belongs to server quay (line 9) already", beyondSchema: true},
	{name: "no host name", old: "fähre.lantern.example", new: "ferry lantern",
		want: `"ferry lantern" is not a host name: character ' ' is not allowed; expected a DNS name`, beyondSchema: true},
	{name: "missing file", old: "    roots: [root.pem]\nservers", new: "    roots: [lost.pem]\nservers",
		want: "estate.yaml:7:13: cannot read lost.pem: no such file", beyondSchema: true},
	{name: "broken certificate", old: "    roots: [root.pem]\nservers", new: "    roots: [broken.pem]\nservers",
		want: "estate.yaml:7:13: broken.pem: line 1: a PEM block that does not end", beyondSchema: true},
	{name: "a list for a mapping", old: "{issuer: Harbour}", new: "[Harbour]",
		want: "found a list; expected wanted as a mapping with the keys issuer, certificate"},
	{name: "bad fingerprint", old: "{issuer: Harbour}", new: "{certificate: abc}",
		want: `bad fingerprint "abc"; expected 64 hexadecimal digits`},
	{name: "yes for true", old: "public: true", new: "public: maybe",
		want: `estate.yaml:4:13: found "maybe"; expected true or false`},
	{name: "alias", old: "estate: Ferries", new: "estate: &a Ferries\nintermediates: *a",
		want: "found an alias (*a), which estate files do not use", beyondSchema: true},
	{name: "no YAML", old: "servers:", new: "servers: [", want: "expected YAML", beyondSchema: true},
	{name: "bad hours", old: "22:00-05:30", new: "22:00",
		want: `estate.yaml:28:46: bad hours "22:00"; expected hours such as 01:00-05:00`},
	{name: "hours of no day", old: "22:00-05:30", new: "22:00-25:30", want: `bad hours "22:00-25:30"`, beyondSchema: true},
	{name: "mends on an unknown server", old: "servers: [node]", new: "servers: [nobody]",
		want: `estate.yaml:28:5: no server "nobody" is declared; expected servers of this file`, beyondSchema: true},
	{name: "mends at no hours", old: ", hours: \"22:00-05:30\"", new: "", want: "mending has no hours; expected the key hours"},
	{name: "a code twice", old: "not-reloaded, key-open", new: "key-open, key-open", want: `"key-open" stands twice`},
	{name: "too many endpoints", old: "9000-9002",
		new:  "1-8000, 9000-65000]\n  - name: sea\n    addresses: [" + manyAddresses() + "]\n    ports: [1-60000",
		want: "endpoints; expected at most 1000000", beyondSchema: true},
}

func manyAddresses() string {
	list := make([]string, 20)
	for i := range list {
		list[i] = "127.30.0." + string(rune('1'+i%9)) + string(rune('0'+i/9))
	}
	return strings.Join(list, ", ")
}

func TestFaultsNameThePlaceAndWhatWasExpected(t *testing.T) {
	for _, f := range faults {
		t.Run(f.name, func(t *testing.T) {
			text := strings.Replace(good, f.old, f.new, 1)
			require.NotEqual(t, good, text)
			_, err := estate.Parse("estate.yaml", []byte(text), kinds, open)
			var all estate.Errors
			require.ErrorAs(t, err, &all)
			assert.Contains(t, err.Error(), f.want)
		})
	}
}

// TestTheSchemaAgreesWithTheParser holds the published JSON Schema against the
// same files.
func TestTheSchemaAgreesWithTheParser(t *testing.T) {
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(estate.Schema(kinds))))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	require.NoError(t, c.AddResource("estate.json", doc))
	schema, err := c.Compile("estate.json")
	require.NoError(t, err)
	valid := func(text string) error {
		var v any
		require.NoError(t, yaml.Unmarshal([]byte(text), &v))
		raw, err := json.Marshal(v)
		require.NoError(t, err)
		instance, err := jsonschema.UnmarshalJSON(strings.NewReader(string(raw)))
		require.NoError(t, err)
		return schema.Validate(instance)
	}
	assert.NoError(t, valid(good))
	for _, f := range faults {
		if !f.beyondSchema {
			assert.Error(t, valid(strings.Replace(good, f.old, f.new, 1)), f.name)
		}
	}
}

func TestNonsenseEndsQuicklyWithAnError(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	noise := make([]byte, 49<<20)
	for i := range noise {
		noise[i] = byte(r.Uint32())
	}
	_, err := estate.Parse("estate.yaml", noise, kinds, open)
	assert.ErrorContains(t, err, "estate.yaml: the file holds 51.4 MB; expected an estate file of at most 48 MB")
	for _, text := range []string{"", "null", strings.Repeat("[", 1<<20), strings.Repeat("a: ", 1<<19),
		string(noise[:1<<20]), "- - -", "estate: [\x00]"} {
		_, err := estate.Parse("estate.yaml", []byte(text), kinds, open)
		var all estate.Errors
		assert.ErrorAs(t, err, &all)
		assert.Less(t, len(all), 21)
	}
}

func TestDiff(t *testing.T) {
	before, err := estate.Parse("estate.yaml", []byte(good), kinds, open)
	require.NoError(t, err)
	assert.Empty(t, estate.Diff(before, before))
	text := strings.Replace(good, "at: [quay]", "at: [pier]", 1)
	text = strings.Replace(text, "fähre", "ferry", 1)
	text = strings.Replace(text, "issuer: Harbour", "issuer: Crew", 1)
	text = strings.Replace(text, "22:00-05:30", "22:00-06:00", 1)
	after, err := estate.Parse("estate.yaml", []byte(text), kinds, open)
	require.NoError(t, err)
	var got []string
	for _, c := range estate.Diff(before, after) {
		got = append(got, c.Is+" "+c.Kind+" "+c.Name+" "+strings.Join(c.Fields, "; "))
	}
	assert.Equal(t, []string{
		"changed host booking.lantern.example wanted issuer: Harbour → Crew",
		"new host ferry.lantern.example ",
		"gone host xn--fhre-loa.lantern.example ",
		"changed mending by itself not-reloaded, key-open hours: 22:00-05:30 → 22:00-06:00",
	}, got)
}

// TestWhenFindingsMendThemselves holds hours of a day, also such that end on the next.
func TestWhenFindingsMendThemselves(t *testing.T) {
	e, err := estate.Parse("estate.yaml", []byte(good), kinds, open)
	require.NoError(t, err)
	require.Len(t, e.Mending, 1)
	m := e.Mending[0]
	day := estate.MendingRule{From: 9 * time.Hour, To: 17 * time.Hour}
	always := estate.MendingRule{}
	for clock, want := range map[string][3]bool{"21:59": {false, false, true}, "22:00": {true, false, true},
		"00:00": {true, false, true}, "05:29": {true, false, true}, "05:30": {false, false, true}, "09:00": {false, true, true},
		"16:59": {false, true, true}, "17:00": {false, false, true}} {
		at, err := time.Parse("15:04", clock)
		require.NoError(t, err)
		assert.Equal(t, want, [3]bool{m.At(at), day.At(at), always.At(at)}, clock)
	}
	assert.True(t, m.Fits("key-open", "node"))
	assert.False(t, m.Fits("key-open", "pier"))
	assert.False(t, m.Fits("expired", "node"))
	assert.True(t, (&estate.MendingRule{Codes: []string{"key-open"}}).Fits("key-open", "pier"), "of any server")
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(good))
	for _, c := range faults[:18] {
		f.Add([]byte(strings.Replace(good, c.old, c.new, 1)))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		e, err := estate.Parse("estate.yaml", data, kinds, open)
		if err == nil && (e.Name == "" || len(e.Audiences) == 0) {
			t.Fatal("an estate without name or audience was taken")
		}
	})
}
