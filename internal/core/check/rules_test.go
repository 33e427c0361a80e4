package check_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/check"
)

// TestWhatIsDerivedFromTheTable writes every derived list out: a code that falls
// out of one, or comes in, is seen.
func TestWhatIsDerivedFromTheTable(t *testing.T) {
	words := func(list []check.Code) string {
		out := make([]string, len(list))
		for i, c := range list {
			out[i] = string(c)
		}
		return strings.Join(out, " ")
	}
	stands := func(c check.Code) string { r := check.RuleOf(c); return words(r.Stands()) }
	const untrusted = "chain-untrusted issuer-unknown issuer-other issuer-no-ca issuer-may-not-sign path-length " +
		"name-constraint not-for-servers signature-weak critical-extension policy-missing path-too-long"
	const certificate = "name-not-covered other-site-answers expired not-yet-valid ends-soon lifetime-over-limit " +
		"self-signed " + untrusted + " chain-incomplete chain-ended chain-disordered chain-stray chain-duplicate " +
		"chain-root-sent " +
		"chain-unreadable chain-too-long key-weak key-usage-wrong serial-bad form-broken staple-missing other-issuer other-certificate not-renewed"
	for name, list := range map[string][2]string{
		"about the certificate": {certificate, words(check.With(check.AboutCertificate))},
		"served differs": {
			"other-issuer other-certificate differs-from-siblings not-reloaded wrong-file served-from-elsewhere",
			words(check.With(check.ServedDiffers))},
		"not its own": {
			"name-not-covered other-site-answers not-reloaded site-not-enabled wrong-file", words(check.With(check.NotItsOwn))},
		"at the next reload": {
			"not-reloaded key-of-another-certificate chain-missing-on-disk", words(check.With(check.AtNextReload))},
		"uncovered": {"name-not-covered other-site-answers", words(check.With(check.Uncovered))},
		"of the configuration": {
			"not-configured not-reloaded site-not-enabled wrong-file served-from-elsewhere certificate-file-bad key-file-bad " +
				"key-of-another-certificate chain-missing-on-disk redirect-missing redirect-temporary redirect-loses challenge-blocked last-hop-fails last-hop-unwatched",
			words(check.Of(check.OfConfigured))},
		"of siblings": {"differs-from-siblings", words(check.Of(check.OfSiblings))},
		"of a server": {
			"last-hop-unchecked last-hop-plain configuration-refused test-not-run configuration-unread configuration-suspect " +
				"key-open left-over not-in-estate",
			words(check.Of(check.OfServer))},
		"of the way": {
			"host-key-changed host-key-unknown login-refused connection-lost not-reached", words(check.Of(check.OfReach))},
		"of the rhythm":  {"replacement-late", words(check.Of(check.OfRhythm))},
		"of the service": {"notice-undelivered request-waits", words(check.Of(check.OfService))},
		"visit, tls":     {"tls-old suite-weak", words(check.At(check.StepTLS))},
		"visit, certificate": {
			"name-not-covered other-site-answers expired not-yet-valid ends-soon lifetime-over-limit key-weak " +
				"key-usage-wrong serial-bad form-broken staple-missing other-issuer other-certificate not-renewed",
			words(check.At(check.StepLeaf))},
		"visit, chain": {
			"chain-incomplete chain-disordered chain-stray chain-duplicate chain-root-sent chain-unreadable chain-too-long",
			words(check.At(check.StepList))},
		"visit, trust": {
			"expired not-yet-valid self-signed " + untrusted + " chain-ended", words(check.At(check.StepTrust))},
		"behind a site not on":    {"nothing-listens " + certificate, stands(check.SiteNotEnabled)},
		"behind another site":     {certificate, stands(check.OtherSiteAnswers)},
		"behind a missing reload": {certificate, stands(check.NotReloaded)},
		"behind a wrong file": {
			"name-not-covered expired ends-soon self-signed other-issuer other-certificate", stands(check.WrongFile)},
		"behind anything else": {"", stands(check.Expired)},
	} {
		assert.Equal(t, list[0], list[1], name)
	}
	assert.Len(t, check.Of(check.OfServed), len(check.Rules)-15-1-1-9-5-2)
	assert.Equal(t, check.Rule{}, check.RuleOf("no-such-rule"))
}

// TestOneComparison sets what is open against what was found.
func TestOneComparison(t *testing.T) {
	leaf, other := certs.Fingerprint{1}, certs.Fingerprint{2}
	found := func(code check.Code, cause string, leaf certs.Fingerprint) check.Found {
		return check.Found{Finding: check.Finding{Code: code, Severity: check.Weak, Cause: cause,
			Evidence: []check.Fact{{Label: "seen", Value: cause}}}, Leaf: leaf}
	}
	open := []check.Open{
		{ID: 1, Found: found(check.Expired, "ended", leaf)},
		{ID: 2, Found: found(check.NotReloaded, "old", leaf)},
		{ID: 3, Found: found(check.DiffersFromSiblings, "older", leaf)},
		{ID: 4, Found: found(check.KeyWeak, "short", leaf)},
	}
	evidence := found(check.Expired, "ended", leaf)
	evidence.Evidence = []check.Fact{{Label: "seen", Value: "something else"}}

	c := check.Compare(open, []check.Found{evidence, found(check.KeyWeak, "short", other),
		found(check.SelfSigned, "itself", leaf), found(check.SelfSigned, "itself", leaf)}, check.OfServed)
	if assert.Len(t, c.Reworded, 1, "evidence alone rewords") {
		assert.Equal(t, int64(1), c.Reworded[0].ID)
		assert.Equal(t, evidence.Evidence, c.Reworded[0].Evidence)
	}
	assert.Equal(t, []int64{4}, c.Closed, "about another certificate it is another finding; what was not judged stays")
	if assert.Len(t, c.Opened, 2, "the same found twice is opened once") {
		assert.Equal(t, other, c.Opened[0].Leaf)
		assert.Equal(t, check.SelfSigned, c.Opened[1].Code)
	}
	assert.Equal(t, []check.Code{check.Expired, check.NotReloaded, check.DiffersFromSiblings}, c.Kept)

	same := check.Compare(open[:1], []check.Found{open[0].Found}, check.OfServed, check.OfConfigured)
	assert.Empty(t, same.Reworded)
	assert.Empty(t, same.Opened)
	assert.Empty(t, same.Closed)
	for name, change := range map[string]func(*check.Found){
		"severity": func(f *check.Found) { f.Severity = check.Broken }, "cause": func(f *check.Found) { f.Cause = "x" },
		"remedy": func(f *check.Found) { f.Remedy = "x" }, "source": func(f *check.Found) { f.Source = at("/n:4") },
	} {
		f := open[0].Found
		change(&f)
		assert.Len(t, check.Compare(open[:1], []check.Found{f}, check.OfServed).Reworded, 1, name)
	}
	servers := []check.Open{{ID: 7, Found: check.Found{Subject: "a", Finding: check.Finding{Code: check.KeyOpen}}},
		{ID: 8, Found: check.Found{Finding: check.Finding{Code: check.NotReached}}}}
	assert.Equal(t, []int64{8}, check.Compare(servers, nil, check.OfReach).Closed, "what cannot be read is not mended")
	assert.Equal(t, []int64{7, 8}, check.Compare(servers, nil, check.OfReach, check.OfServer).Closed)
}
