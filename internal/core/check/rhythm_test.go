package check_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/check"
	"insegna.example/internal/core/lifetime"
	"insegna.example/internal/pkitest"
)

// TestAReplacementThatIsLate judges one certificate of ninety days by how those before it were
// replaced.
func TestAReplacementThatIsLate(t *testing.T) {
	now := time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC)
	begins := now.AddDate(0, 0, -70)
	leaf := pkitest.Leaf(nil, "a.lantern.example", pkitest.Valid(time.Until(begins), time.Until(begins.AddDate(0, 0, 90))))
	replaced := func(left int) lifetime.Replacement {
		end := begins.AddDate(0, 0, left)
		return lifetime.Replacement{NotBefore: end.AddDate(0, 0, -90), NotAfter: end, At: begins, Issuer: "Harbour CA", SameIssuer: true, NewKey: left%2 == 0}
	}
	for name, c := range map[string]struct {
		history []lifetime.Replacement
		late    bool
	}{
		"never":              {nil, false},
		"once":               {[]lifetime.Replacement{replaced(40)}, false},
		"always earlier":     {[]lifetime.Replacement{replaced(40), replaced(31)}, true},
		"as late as now":     {[]lifetime.Replacement{replaced(40), replaced(20)}, false},
		"later than now":     {[]lifetime.Replacement{replaced(40), replaced(3)}, false},
		"after the end once": {[]lifetime.Replacement{replaced(40), replaced(-1)}, false},
	} {
		f := check.Replaced("a.lantern.example", leaf.Certificate, c.history, now)
		assert.Equal(t, c.late, f != nil, name)
	}
	f := check.Replaced("a.lantern.example", leaf.Certificate, []lifetime.Replacement{replaced(40), replaced(31), replaced(33)}, now)
	require.NotNil(t, f)
	assert.Equal(t, check.ReplacementLate, f.Code)
	assert.Equal(t, check.Due, f.Severity)
	assert.Contains(t, f.Cause, "the certificate of a.lantern.example is usually replaced 33 days before its end, and ")
	assert.Equal(t, "3 times, last on "+begins.Format("2 January 2006"), f.Evidence[0].Value)
	assert.Equal(t, "another in 1 of 3", f.Evidence[2].Value)
	assert.Equal(t, leaf.Certificate.Fingerprint, f.Leaf)
	assert.Nil(t, check.Replaced("a", leaf.Certificate, []lifetime.Replacement{replaced(40), replaced(31)}, now.AddDate(0, 0, 15)), "what ends soon is said as that")
}

// TestWhatFolds has findings of one cause told as one: at an endpoint from two on, of a
// certificate or an issuer from five.
func TestWhatFolds(t *testing.T) {
	shared := func(code check.Code, n int) *check.Shared {
		s := &check.Shared{Server: "quay", Code: code, Key: "k", Cause: "the certificate ended 3 days ago", Remedy: "renew it"}
		for i := range n {
			s.Add("quay", string(rune('a'+i))+".lantern.example", "192.0.2.1:443", check.Broken, check.Finding{}.Source)
		}
		return s
	}
	for code, from := range map[check.Code]int{check.NothingListens: 2, check.Expired: 5, check.ChainEnded: 5} {
		assert.False(t, shared(code, from-1).Folds(), code)
		assert.True(t, shared(code, from).Folds(), code)
	}
	s := shared(check.Expired, 7)
	f := check.Together(s)
	assert.Equal(t, 7, s.Names)
	assert.Equal(t, "the certificate ended 3 days ago: the same at 7 bindings of quay", f.Cause)
	assert.Equal(t, "renew it", f.Remedy)
	assert.Equal(t, "a.lantern.example, b.lantern.example, c.lantern.example, d.lantern.example, e.lantern.example and 2 more", f.Evidence[0].Value)
	for _, on := range []string{"pier", "tug"} {
		s.Add(on, "z.lantern.example", "192.0.2.9:443", check.Broken, check.Finding{}.Source)
	}
	assert.Equal(t, "the certificate ended 3 days ago: the same at 9 bindings of quay, pier, tug", check.Together(s).Cause)
	assert.Equal(t, "renew it; and so for the others", check.Together(shared(check.ChainIncomplete, 5)).Remedy)
	for _, code := range []check.Code{check.NameNotCovered, check.OtherSiteAnswers, check.NotReloaded, check.StapleMissing} {
		assert.NotContains(t, check.Foldable(), code, "what a host has of its own is told by itself")
	}
}
