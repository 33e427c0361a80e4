// Package lifetime knows how long a certificate may live and how long it still
// has. Times are arguments; nothing here reads a clock.
package lifetime

import "time"

// Day is the unit lifetimes are counted in.
const Day = 24 * time.Hour

// Validity is how long a certificate is valid; both end seconds count
// (RFC 5280 section 4.1.2.5), hence one second more than the difference.
func Validity(notBefore, notAfter time.Time) time.Duration {
	return notAfter.Sub(notBefore) + time.Second
}

// publicLimits are the longest lives of public certificates by the day of
// issue, latest first, as the CA/Browser Forum's ballot SC-081 sets them.
var publicLimits = []struct {
	from  time.Time
	limit time.Duration
}{
	{time.Date(2029, 3, 15, 0, 0, 0, 0, time.UTC), 47 * Day},
	{time.Date(2027, 3, 15, 0, 0, 0, 0, time.UTC), 100 * Day},
	{time.Date(2026, 3, 15, 0, 0, 0, 0, time.UTC), 200 * Day},
	{time.Time{}, 398 * Day},
}

// PublicLimit is the longest validity a public CA may give a TLS certificate
// issued at that time (CA/Browser Forum baseline requirements, section 6.3.2).
// It does not apply to private CAs.
func PublicLimit(issued time.Time) time.Duration {
	for _, l := range publicLimits {
		if !issued.Before(l.from) {
			return l.limit
		}
	}
	return 0
}

// DaysLeft counts whole days until the end, rounded down. Once it is over it
// is minus the days since, and at least -1.
func DaysLeft(notAfter, at time.Time) int {
	left := notAfter.Sub(at)
	if left < 0 {
		return min(int(left/Day), -1)
	}
	return int(left / Day)
}

// DueWindow is how long before its end a certificate needs attention: a third
// of its validity, at most 14 days. A renewal that works takes place earlier.
func DueWindow(notBefore, notAfter time.Time) time.Duration {
	return min(Validity(notBefore, notAfter)/3, 14*Day)
}

// LastMoments is how long before its end a certificate no longer counts as one
// that is in order: a twentieth of its validity, at most a day. Whoever still
// serves it then has missed every chance to renew it in time.
func LastMoments(notBefore, notAfter time.Time) time.Duration {
	return min(Validity(notBefore, notAfter)/20, Day)
}
