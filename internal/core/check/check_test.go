package check_test

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/binding"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/chain"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/trust"
	"insegna.example/internal/pkitest"
)

const host = "a.lantern.example"

type world struct {
	root, ca, sub, crew *pkitest.Entity
	judge               *check.Judge
}

func newWorld() world {
	w := world{root: pkitest.CA("Harbour Root", nil)}
	w.ca = pkitest.CA("Harbour CA", w.root)
	w.sub = pkitest.CA("Harbour Issuing", w.ca)
	w.judge = check.NewJudge([]*trust.Audience{trust.NewAudience("browsers", true, pkitest.List(w.root))},
		chain.NewKnown(w.sub.Certificate, w.ca.Certificate))
	return w
}

func seen(list ...*pkitest.Entity) *binding.Observation {
	return &binding.Observation{Outcome: binding.Connected, Served: pkitest.DER(list...), Version: 0x0304}
}

func codes(list []check.Finding) (out []check.Code) {
	for _, f := range list {
		out = append(out, f.Code)
	}
	return out
}

var target = check.Target{Host: host, Endpoint: netip.MustParseAddrPort("127.20.0.10:8443"), Server: "quay",
	Audiences: []string{"browsers"}}

// TestEveryRule makes each finding of the catalogue occur, alone, and in time.
func TestEveryRule(t *testing.T) {
	w := newWorld()
	weak, err := rsa.GenerateKey(rand.Reader, 1024)
	require.NoError(t, err)
	leaf := func(change ...func(*x509.Certificate)) *pkitest.Entity { return pkitest.Leaf(w.sub, host, change...) }
	ended := pkitest.CA("Harbour Old", w.root, pkitest.Valid(-300*24*time.Hour, -time.Hour))
	other := pkitest.Leaf(w.sub, "b.lantern.example")
	want := func(e estate.Wanted) check.Target { t := target; t.Wanted = e; return t }
	outcome := func(o binding.Outcome) *binding.Observation {
		return &binding.Observation{Outcome: o, Alert: 112, Detail: "what was seen"}
	}
	extension := func(id asn1.ObjectIdentifier, value ...byte) func(*x509.Certificate) {
		return func(t *x509.Certificate) { t.ExtraExtensions = []pkix.Extension{{Id: id, Value: value}} }
	}
	orphan := leaf()
	cases := []struct {
		code   check.Code
		target check.Target
		seen   *binding.Observation
		around check.Around
		cause  string
	}{
		{"", target, seen(leaf(), w.sub, w.ca), check.Around{}, ""},
		{"nothing-listens", target, outcome(binding.Refused), check.Around{}, "nothing listens at 127.20.0.10:8443"},
		{"no-answer", target, outcome(binding.Filtered), check.Around{}, "no answer"},
		{"no-route", target, outcome(binding.Unreachable), check.Around{}, "no way"},
		{"connection-reset", target, outcome(binding.Reset), check.Around{}, "tears"},
		{"connection-closed", target, outcome(binding.Closed), check.Around{}, "ends the connection"},
		{"silent", target, outcome(binding.Silent), check.Around{}, "says nothing"},
		{"silent", target, outcome(binding.Slow), check.Around{}, "too slowly"},
		{"plain-http", target, outcome(binding.PlainHTTP), check.Around{}, "speaks http"},
		{"not-tls", target, outcome(binding.NotTLS), check.Around{}, "something else"},
		{"tls-refused", target, outcome(binding.Alert), check.Around{}, "unrecognized_name (112)"},
		{"tls-malformed", target, outcome(binding.Malformed), check.Around{}, "breaks the rules"},
		{"tls-malformed", target, &binding.Observation{Outcome: binding.Connected, Served: [][]byte{{1, 2}}}, check.Around{},
			"cannot be read"},
		{"tls-too-large", target, outcome(binding.TooLarge), check.Around{}, "more certificate material"},
		{"suite-weak", target, &binding.Observation{Outcome: binding.Connected, Served: seen(leaf(), w.sub, w.ca).Served,
			Version: 0x0303, Suite: 0x000A}, check.Around{}, "TLS_RSA_WITH_3DES_EDE_CBC_SHA: 3DES has"},
		{"tls-old", target, &binding.Observation{Outcome: binding.Connected, Served: seen(leaf(), w.sub, w.ca).Served,
			Version: 0x0301}, check.Around{}, "TLS 1.0 at best"},
		{"name-not-covered", target, seen(other, w.sub, w.ca), check.Around{}, "it is made for b.lantern.example"},
		{"name-not-covered", target, seen(other, w.sub, w.ca),
			check.Around{Default: other.Fingerprint, Hosts: []string{host}}, "it is made for b.lantern.example"},
		{"other-site-answers", target, seen(other, w.sub, w.ca),
			check.Around{Default: other.Fingerprint, Hosts: []string{host, "b.lantern.example"}}, "another site answers"},
		{"name-not-covered", target, seen(other, w.sub, w.ca), // its own site shows what the default shows
			check.Around{Default: other.Fingerprint, Hosts: []string{host, "b.lantern.example"}, Configured: &binding.Configured{Named: true, TLS: true,
				Listener: "*:443", Pairs: []binding.Pair{{Chain: pkitest.List(other, w.sub, w.ca)}}}}, "it is made for b.lantern.example"},
		{"expired", target, seen(leaf(pkitest.Valid(-90*24*time.Hour, -49*time.Hour)), w.sub, w.ca), check.Around{},
			"ended 2 days ago"},
		{"not-yet-valid", target, seen(leaf(pkitest.Valid(3*time.Hour, 90*24*time.Hour)), w.sub, w.ca), check.Around{},
			"begins in 3 hours"},
		{"ends-soon", target, seen(leaf(pkitest.Valid(-80*24*time.Hour, 10*24*time.Hour+time.Hour)), w.sub, w.ca),
			check.Around{}, "ends in 10 days"},
		{"lifetime-over-limit", target, seen(leaf(pkitest.Valid(-24*time.Hour, 199*24*time.Hour)), w.sub, w.ca),
			check.Around{}, "valid for 200 days and 1 second; public certificates issued on"},
		{"lifetime-over-limit", target, seen(leaf(pkitest.Valid(-24*time.Hour, 200*24*time.Hour)), w.sub, w.ca),
			check.Around{}, "valid for 201 days; public certificates issued on"},
		{"self-signed", target, seen(pkitest.Leaf(nil, host)), check.Around{}, "signed itself"},
		{"chain-incomplete", target, seen(leaf(), w.ca), check.Around{}, "does not send the intermediate Harbour Issuing"},
		{"chain-ended", target, seen(pkitest.Leaf(ended, host), ended), check.Around{}, "Harbour Old: ended on"},
		{"chain-disordered", target, seen(leaf(), w.ca, w.sub), check.Around{}, "Harbour CA stands before"},
		{"chain-stray", target, seen(leaf(), w.sub, w.ca, pkitest.CA("Stray", pkitest.CA("x", nil))), check.Around{},
			"Stray belongs to no path"},
		{"chain-duplicate", target, seen(leaf(), w.sub, w.ca, w.sub), check.Around{},
			"Harbour Issuing is sent more than once"},
		{"chain-root-sent", target, seen(leaf(), w.sub, w.ca, w.root), check.Around{}, "Harbour Root is sent along"},
		{"key-weak", target, seen(pkitest.Issue(&x509.Certificate{DNSNames: []string{host}}, w.sub, weak), w.sub, w.ca),
			check.Around{}, "RSA 1024"},
		{"staple-missing", target,
			seen(leaf(extension(asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 1, 24}, 0x30, 3, 2, 1, 5)), w.sub, w.ca),
			check.Around{}, "stapled"},
		{"staple-missing", target, func() *binding.Observation {
			o := seen(leaf(extension(asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 1, 24}, 0x30, 3, 2, 1, 5)), w.sub, w.ca)
			o.Stapled = []byte{0x30, 3, 0x0a, 1, 3}
			return o
		}(), check.Around{}, "the responder's error tryLater"},
		{"other-issuer", want(estate.Wanted{Issuer: "Crew CA"}), seen(leaf(), w.sub, w.ca), check.Around{},
			"comes from Harbour Issuing, wanted is Crew CA"},
		{"other-certificate", want(estate.Wanted{Certificate: w.root.Fingerprint.String()}), seen(leaf(), w.sub, w.ca),
			check.Around{}, "another certificate"},
		{"not-renewed", target, seen(orphan, w.sub, w.ca), check.Around{Orphans: map[certs.Fingerprint]check.Orphan{
			orphan.Fingerprint: {Mandate: "deck", Removed: pkitest.Now}}},
			"the mandate deck, which renewed the certificate, was removed on"},
	}
	// these have tests of their own, and so have those of the table
	met := map[check.Code]bool{"differs-from-siblings": true, "chain-unreadable": true, "chain-too-long": true}
	for _, c := range w.judgements(t) {
		met[c.code] = true
	}
	for _, c := range cases {
		met[c.code] = true
		t.Run(string(c.code), func(t *testing.T) {
			j := w.judge.Judge(c.target, c.seen, pkitest.Now, c.around)
			if c.code == "" {
				assert.Empty(t, j.Findings)
				assert.Equal(t, binding.Agreed, j.Verdict)
				assert.Equal(t, binding.Unread, j.Faces.Configured, "what was not read is never shown as agreeing")
				return
			}
			require.Equal(t, []check.Code{c.code}, codes(j.Findings))
			f := j.Findings[0]
			assert.Contains(t, f.Cause, c.cause)
			assert.NotEmpty(t, f.Remedy)
			assert.Equal(t, f.Severity == check.Broken, j.Verdict == binding.Broken)
		})
	}
	_, configured := configuredCases(w)
	for _, c := range configured {
		met[c.code] = true
	}
	for _, c := range serverCases {
		met[c.code] = true
	}
	for _, r := range check.Rules {
		if r.Speaks == check.OfService || r.Speaks == check.OfRhythm { // no one look makes them
			continue
		}
		assert.True(t, met[r.Code], "no case for %s", r.Code)
	}
}

func TestAPrivateCAIsNotHeldToPublicLimits(t *testing.T) {
	w := newWorld()
	long := pkitest.Leaf(w.sub, host, pkitest.Valid(-24*time.Hour, 2000*24*time.Hour))
	j := check.NewJudge([]*trust.Audience{trust.NewAudience("in-house", false, pkitest.List(w.root))}, chain.NewKnown())
	assert.Empty(t,
		j.Judge(check.Target{Host: host, Audiences: []string{"in-house"}}, seen(long, w.sub, w.ca), pkitest.Now,
			check.Around{}).Findings)
}

// TestOneAudienceMayTrustWhatAnotherDoesNot also holds that a result that is
// remembered follows the clock.
func TestOneAudienceMayTrustWhatAnotherDoesNot(t *testing.T) {
	w := newWorld()
	crew := pkitest.CA("Crew Root", nil)
	judge := check.NewJudge([]*trust.Audience{trust.NewAudience("browsers", true, pkitest.List(w.root)),
		trust.NewAudience("in-house", false, pkitest.List(crew))}, chain.NewKnown())
	leaf := pkitest.Leaf(crew, host)
	both := check.Target{Host: host, Audiences: []string{"browsers", "in-house"}}
	j := judge.Judge(both, seen(leaf), pkitest.Now, check.Around{})
	require.Equal(t, []check.Code{"chain-untrusted"}, codes(j.Findings), "it is known to be a root, and not theirs")
	assert.Equal(t, "browsers", j.Findings[0].Evidence[0].Value)
	both.Audiences = []string{"in-house"}
	assert.Empty(t, judge.Judge(both, seen(leaf), pkitest.Now, check.Around{}).Findings)
	assert.Equal(t, []check.Code{"expired"},
		codes(judge.Judge(both, seen(leaf), pkitest.Now.AddDate(0, 3, 0), check.Around{}).Findings))
}

// TestSiblings holds that a rotation under way is a note until the older
// certificate is due, and that no remedy names a day that is over.
func TestSiblings(t *testing.T) {
	at := func(port uint16) netip.AddrPort { return netip.AddrPortFrom(target.Endpoint.Addr(), port) }
	old := check.Sibling{Server: "pier-2", Endpoint: at(1), Leaf: certs.Fingerprint{1},
		Begins: pkitest.Now.AddDate(0, 0, -60), Ends: pkitest.Now.AddDate(0, 0, 30)}
	fresh := check.Sibling{Server: "pier-1", Endpoint: at(2), Leaf: certs.Fingerprint{2}, Begins: pkitest.Now,
		Ends: pkitest.Now.AddDate(0, 3, 0)}
	ahead := fresh
	ahead.Leaf, ahead.Begins = certs.Fingerprint{3}, pkitest.Now.Add(24*time.Hour)
	for when, c := range map[time.Duration]struct {
		severity check.Severity
		remedy   string
	}{
		0:                                {check.Note, ", before " + old.Ends.Format("2 January 2006")},
		16*24*time.Hour - time.Minute:    {check.Note, ", before "},
		16*24*time.Hour + 2*time.Minute:  {check.Due, ", before "},
		30*24*time.Hour + 10*time.Minute: {check.Due, ", now: the older one ended on "},
	} {
		found := check.Siblings(host, []check.Sibling{fresh, old, fresh}, pkitest.Now.Add(when))
		require.Len(t, found, 1)
		assert.Contains(t, found[1].Cause, "pier-2 (127.20.0.10:1) serves the certificate of "+
			old.Begins.Format("2 January 2006")+" for a.lantern.example; its sibling pier-1 (127.20.0.10:2) serves")
		assert.Equal(t, c.severity, found[1].Severity, when)
		assert.Contains(t, found[1].Remedy, c.remedy, when)
	}
	assert.Empty(t, check.Siblings(host, []check.Sibling{fresh, fresh}, pkitest.Now))
	assert.Empty(t, check.Siblings(host, []check.Sibling{fresh, ahead}, pkitest.Now),
		"one that has not begun is not what the others should serve")
}

func TestFacesAsText(t *testing.T) {
	f := binding.Faces{Wanted: binding.Agrees, Configured: binding.Agrees, Served: binding.Differs}
	assert.Equal(t, "wanted and configured agree, served differs", f.Text())
	assert.Equal(t, binding.AtOdds, binding.Judge(f, false))
	assert.Equal(t, binding.Unknown,
		binding.Judge(binding.Faces{Wanted: binding.Agrees, Configured: binding.Unread, Served: binding.Unread}, false))
}

// TestFilesAreJudgedLikeServedLists inspects what lies in a file.
func TestFilesAreJudgedLikeServedLists(t *testing.T) {
	w := newWorld()
	leaf := pkitest.Leaf(w.sub, host)
	assert.Empty(t, w.judge.Inspect(pkitest.DER(leaf, w.sub, w.ca), host, pkitest.Now).Findings)
	assert.Empty(t, w.judge.Inspect(pkitest.DER(leaf, w.sub, w.ca), "", pkitest.Now).Findings,
		"no host, no question of names")
	assert.Equal(t, []check.Code{"name-not-covered", "chain-disordered"},
		codes(w.judge.Inspect(pkitest.DER(leaf, w.ca, w.sub), "b.lantern.example", pkitest.Now).Findings))
	alone := check.NewJudge(nil, chain.NewKnown())
	assert.Empty(t, alone.Inspect(pkitest.DER(leaf), host, pkitest.Now).Findings, "without roots trust is not in question")
	assert.Equal(t, []check.Code{"tls-malformed"}, codes(alone.Inspect([][]byte{{1}}, host, pkitest.Now).Findings))
}

// TestHostileListsAreBounded judges a list of thousands and one with rubbish
// among good certificates.
func TestHostileListsAreBounded(t *testing.T) {
	w := newWorld()
	leaf := pkitest.Leaf(w.sub, host)
	long := seen(leaf, w.sub, w.ca)
	for range 5000 {
		long.Served = append(long.Served, w.root.Raw)
	}
	j := w.judge.Judge(target, long, pkitest.Now, check.Around{})
	assert.Len(t, j.Chain, 50)
	assert.True(t, j.Has(check.ChainTooLong), "a judgement of a part says so")
	for _, f := range j.Findings {
		assert.Less(t, len(f.Cause)+len(f.Remedy), 2000)
	}
	mixed := seen(leaf, w.sub, w.ca)
	mixed.Served = append([][]byte{mixed.Served[0], []byte("rubbish")}, mixed.Served[1:]...)
	assert.Equal(t, []check.Code{"chain-unreadable"},
		codes(w.judge.Judge(target, mixed, pkitest.Now, check.Around{}).Findings), "what no path needs breaks no path")
}

// TestTheLookWithoutSNIIsInventoryOnly gives no findings: hardly a visitor
// comes without a name.
func TestTheLookWithoutSNIIsInventoryOnly(t *testing.T) {
	w := newWorld()
	bare := target
	bare.Host = ""
	for _, o := range []*binding.Observation{seen(pkitest.Leaf(nil, "x.test")), {Outcome: binding.Alert, Alert: 112},
		{Outcome: binding.Refused}} {
		assert.Empty(t, w.judge.Judge(bare, o, pkitest.Now, check.Around{}).Findings)
	}
}

// TestAskingEveryAudience gives one view for each, in the order declared.
func TestAskingEveryAudience(t *testing.T) {
	w := newWorld()
	crew := pkitest.CA("Crew Root", nil)
	judge := check.NewJudge([]*trust.Audience{trust.NewAudience("in-house", false, pkitest.List(crew, crew)),
		trust.NewAudience("browsers", true, pkitest.List(w.root))}, chain.NewKnown())
	views := judge.Ask(pkitest.DER(pkitest.Leaf(w.sub, host), w.sub, w.ca))
	require.Len(t, views, 2)
	assert.Equal(t, []string{"in-house", "browsers"}, []string{views[0].Audience.Name, views[1].Audience.Name})
	assert.Len(t, views[0].Audience.Anchors, 1, "the same anchor twice counts once")
	assert.Nil(t, views[0].Result.Best(pkitest.Now))
	assert.NotNil(t, views[1].Result.Best(pkitest.Now))
	assert.Nil(t, judge.Ask([][]byte{{1, 2, 3}}))
}
