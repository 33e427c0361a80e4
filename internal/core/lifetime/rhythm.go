package lifetime

import (
	"slices"
	"time"
)

// Replacement is a certificate that was replaced by another.
type Replacement struct {
	NotBefore, NotAfter time.Time // of the one that was replaced
	At                  time.Time // the other was seen first
	Issuer              string    // of the other
	SameIssuer, NewKey  bool      // as the one before
}

// Rhythm is how certificates of one place are usually replaced.
type Rhythm struct {
	Times   int       // they were
	Usual   float64   // share of the life that was left: the median
	Least   float64   // and the least
	Last    time.Time // replacement
	Issuer  string    // of the last
	Issuers int       // replacements that came from another issuer than before
	NewKeys int       // replacements with another key
}

// rhythmOf is how many replacements make a rhythm.
const rhythmOf = 2

// RhythmOf finds the rhythm of replacements, oldest first; false where there are too few.
func RhythmOf(list []Replacement) (r Rhythm, ok bool) {
	shares := make([]float64, 0, len(list))
	for i := range list {
		p := &list[i]
		life := Validity(p.NotBefore, p.NotAfter)
		if life <= 0 {
			continue
		}
		shares = append(shares, float64(p.NotAfter.Sub(p.At))/float64(life))
		if r.Times++; !p.SameIssuer {
			r.Issuers++
		}
		if p.NewKey {
			r.NewKeys++
		}
		r.Last, r.Issuer = p.At, p.Issuer
	}
	if r.Times < rhythmOf {
		return Rhythm{}, false
	}
	slices.Sort(shares)
	r.Least, r.Usual = shares[0], shares[len(shares)/2]
	return r, true
}

// Before is how long before its end a certificate is usually replaced by the rhythm; negative
// for after it.
func (r *Rhythm) Before(notBefore, notAfter time.Time) time.Duration {
	return time.Duration(r.Usual * float64(Validity(notBefore, notAfter)))
}

// Late says from when on a certificate should have been replaced by the rhythm, and whether
// that has passed. It counts from the latest that ever was, and a twentieth of the life, a day
// at least, on top; who always comes after the end is never late.
func (r *Rhythm) Late(notBefore, notAfter, now time.Time) (since time.Time, late bool) {
	life := Validity(notBefore, notAfter)
	lead := time.Duration(r.Least * float64(life))
	since = notAfter.Add(-lead + max(Day, life/20))
	return since, lead > 0 && since.Before(notAfter) && now.After(since)
}
