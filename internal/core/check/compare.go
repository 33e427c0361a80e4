package check

import (
	"slices"

	"insegna.example/internal/core/certs"
)

// Found is a finding with what tells it apart from others of its code at the
// same target or server.
type Found struct {
	Finding
	Subject string            // of several about one server
	Leaf    certs.Fingerprint // served when it was found; zero when that is not the matter
}

// Open is a finding that is open in the records.
type Open struct {
	ID int64 // of the stored row
	Found
}

// identity is what makes an open and a found finding the same one: about
// another certificate it is another one.
type identity struct {
	code    Code              // of the rule
	subject string            // what the finding is about beside its target
	leaf    certs.Fingerprint // the certificate concerned, zero for none
}

// identity is what makes a finding the same one from look to look, whatever its
// words say today.
func (f *Found) identity() identity { return identity{f.Code, f.Subject, f.Leaf} }

// Comparison is what has to be done to the records.
type Comparison struct {
	Opened   []Found // not there before
	Reworded []Open  // kept, with the new words in them
	Closed   []int64 // by number
	Kept     []Code  // codes of all that stay open, reworded or not
}

// Compare sets what is open for one target or server against what was found
// there. Findings are kept, reworded where cause, remedy, source, severity or
// evidence have changed, opened, or closed; one that speaks of what was not
// judged this time stays as it is.
func Compare(open []Open, found []Found, judged ...Speaks) Comparison {
	var out Comparison
	is := map[identity]*Found{}
	for i := range found {
		is[found[i].identity()] = &found[i]
	}
	there := map[identity]bool{}
	for _, o := range open {
		now := is[o.identity()]
		switch {
		case now != nil:
			there[o.identity()] = true
			if !sameWords(&o.Finding, &now.Finding) {
				o.Finding = now.Finding
				out.Reworded = append(out.Reworded, o)
			}
		case slices.Contains(judged, RuleOf(o.Code).Speaks):
			out.Closed = append(out.Closed, o.ID)
			continue
		}
		out.Kept = append(out.Kept, o.Code)
	}
	for i := range found {
		if id := found[i].identity(); !there[id] {
			there[id] = true // the same found twice is opened once
			out.Opened = append(out.Opened, found[i])
		}
	}
	return out
}

// SameAs says whether a finding tells the same: as bad, with the same evidence. Its words may
// count days.
func (f *Finding) SameAs(other *Finding) bool {
	return f.Severity == other.Severity && slices.Equal(f.Evidence, other.Evidence)
}

// sameWords compares everything a person reads of a finding: when it differs,
// the stored one is reworded and stays open.
func sameWords(a, b *Finding) bool {
	return a.Severity == b.Severity && a.Cause == b.Cause && a.Remedy == b.Remedy &&
		a.Source.AtLine() == b.Source.AtLine() && slices.Equal(a.Evidence, b.Evidence)
}
