package check

import (
	"fmt"
	"time"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/lifetime"
)

// Replaced judges whether a certificate should have been replaced by the rhythm of those
// before it at one endpoint, also where nobody here renews it. nil is none: what ends soon is
// said as that.
func Replaced(host string, c *certs.Certificate, history []lifetime.Replacement, at time.Time) *Found {
	r, ok := lifetime.RhythmOf(history)
	if !ok || c.NotAfter.Sub(at) < lifetime.DueWindow(c.NotBefore, c.NotAfter) {
		return nil
	}
	since, late := r.Late(c.NotBefore, c.NotAfter, at)
	if !late {
		return nil
	}
	return &Found{Leaf: c.Fingerprint, Finding: Finding{Code: ReplacementLate, Severity: RuleOf(ReplacementLate).Severity,
		Cause: fmt.Sprintf("the certificate of %s is usually replaced %s before its end, and %s are left", host,
			span(r.Before(c.NotBefore, c.NotAfter)), span(c.NotAfter.Sub(at))),
		Remedy: "see why its replacement did not come, or give it a mandate, before " + c.NotAfter.UTC().Format(dayFormat),
		Evidence: []Fact{{"replaced", fmt.Sprintf("%d times, last on %s", r.Times, r.Last.UTC().Format(dayFormat))}, {"last issuer", r.Issuer},
			{"key", KeyHabit(&r)}, {"expected before", moment(since)}, {"ends", moment(c.NotAfter)}}}}
}

// KeyHabit says whether the key changes with the certificate.
func KeyHabit(r *lifetime.Rhythm) string {
	switch r.NewKeys {
	case 0:
		return "the same each time"
	case r.Times:
		return "another each time"
	}
	return fmt.Sprintf("another in %d of %d", r.NewKeys, r.Times)
}
