package check

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/names"
	"insegna.example/internal/core/place"
)

// Lying is a file on a server that holds a certificate, a private key, or both.
type Lying struct {
	Path   string
	Mode   uint32             // permission bits
	Leaf   *certs.Certificate // the first certificate in it; nil when it holds a key alone
	Public string             // SHA-256 of the public half of the private key in it, "" for none
	Used   []place.Place      // lines of sites in force that name it
	Idle   []place.Place      // lines of sites that are not
	Hidden bool               // it may not be looked into

	State Use    // as Sort out gives it
	Why   string // that in words
}

// Use says what a file is good for where it lies.
type Use string

// What a file may be good for.
const (
	InUse      Use = "used"       // a site in force names it
	ForIdle    Use = "idle"       // only a site that is not in force names it
	Newer      Use = "newer"      // it is newer than the one a site names for these names
	Copied     Use = "copy"       // the same lies in a file that is used
	Superseded Use = "superseded" // one that is used covers its names for longer
	Over       Use = "ended"      // it has ended
	Spare      Use = "unused"     // nothing names it
	Stray      Use = "stray"      // a key that fits no certificate here
	Needed     Use = "needed"     // a key whose certificate is used, and that no site names
	OfCA       Use = "ca"         // a CA's certificate
)

// CanGo says whether nothing is lost with it.
func (u Use) CanGo() bool { return u == Copied || u == Superseded || u == Over }

// LeftOver says whether it lies there for nothing.
func (u Use) LeftOver() bool { return u.CanGo() || u == Spare || u == Stray }

// others are the permission bits that let everybody read a file, or change it.
const others = 0o006

// Open says whether everybody on the machine may read a private key, or put another in its
// place.
func (l *Lying) Open() bool { return l.Public != "" && l.Mode&others != 0 }

// SortOut says of every file of a server what it is good for.
func SortOut(list []Lying, at time.Time) {
	used, spare := byName{}, byName{}
	var open []*Lying
	for i := range list {
		switch l := &list[i]; {
		case l.State != "":
			used.add(l)
		case len(l.Used) > 0:
			l.State, l.Why = InUse, "named at "+l.Used[0].String()
			if n := len(l.Used); n > 1 {
				l.Why += fmt.Sprintf(" and %d more", n-1)
			}
			used.add(l)
		case len(l.Idle) > 0:
			l.State, l.Why = ForIdle, "named at "+l.Idle[0].String()+", which is not in force"
		case l.Leaf != nil:
			spare.add(l)
			open = append(open, l)
		}
	}
	for _, l := range open {
		l.judge(used, spare, at)
	}
	fits, keys := map[string][]*Lying{}, map[string]bool{}
	for i := range list {
		if l := &list[i]; l.Leaf != nil {
			fits[l.Leaf.Public().String()] = append(fits[l.Leaf.Public().String()], l)
		}
		if l := &list[i]; len(l.Used) > 0 && l.Public != "" {
			keys[l.Public] = true
		}
	}
	for i := range list {
		if l := &list[i]; l.State == "" {
			l.judgeKey(fits[l.Public], keys[l.Public])
		}
	}
}

// byName finds files by the names in their certificates, and by what stands behind
// the first dot of these, so that a wildcard is found for its hosts and they for it.
type byName map[string][]*Lying

// add files one under all its names.
func (n byName) add(l *Lying) {
	for _, key := range keysOf(l) {
		n[key] = append(n[key], l)
	}
}

// near are the files that may share a name with one, each once, in their order.
func (n byName) near(l *Lying) (out []*Lying) {
	met := map[*Lying]bool{l: true}
	for _, key := range keysOf(l) {
		for _, o := range n[key] {
			if !met[o] {
				met[o] = true
				out = append(out, o)
			}
		}
	}
	slices.SortFunc(out, func(a, b *Lying) int { return strings.Compare(a.Path, b.Path) })
	return out
}

// keysOf are a file's names, of each wildcard and below each host what stands behind
// the first dot, and its certificate.
func keysOf(l *Lying) (out []string) {
	if l.Leaf == nil {
		return nil
	}
	out = []string{l.Leaf.Fingerprint.String()}
	add := func(key string) {
		if !slices.Contains(out, key) {
			out = append(out, key)
		}
	}
	for _, name := range l.Leaf.Names() {
		name = strings.ToLower(name)
		add(name)
		if _, parent, ok := strings.Cut(name, "."); ok {
			add("*." + parent)
		}
	}
	return out
}

// judge says what a certificate is good for that no site names.
func (l *Lying) judge(inUse, others byName, at time.Time) {
	used := inUse.near(l)
	set := func(u Use, why string) {
		if l.State == "" {
			l.State, l.Why = u, why
		}
	}
	if l.Leaf.IsCA {
		set(OfCA, "a CA's certificate")
	}
	for _, u := range used {
		if u.Leaf != nil && u.Leaf.Fingerprint == l.Leaf.Fingerprint {
			set(Copied, "the same certificate as in "+u.Path+", which is used")
		}
	}
	if at.After(l.Leaf.NotAfter) {
		set(Over, "ended on "+l.Leaf.NotAfter.UTC().Format(dayFormat))
	}
	for _, u := range used {
		if u.Leaf != nil && within(l.Leaf, u.Leaf) && !l.Leaf.NotAfter.After(u.Leaf.NotAfter) {
			set(Superseded, u.Path+", which is used, is for its names too, and lasts longer")
		}
	}
	for _, u := range used {
		if u.Leaf != nil && within(u.Leaf, l.Leaf) && l.Leaf.NotBefore.After(u.Leaf.NotBefore) {
			set(Newer, "newer than "+u.Path+", which is used")
		}
	}
	for _, o := range others.near(l) {
		if o.Leaf.NotAfter.After(l.Leaf.NotAfter) && within(l.Leaf, o.Leaf) {
			set(Superseded, o.Path+" is for its names too, and lasts longer; no site names either")
		}
	}
	set(Spare, "no site names it")
}

// judgeKey says what a private key is good for that no site names; fits are the
// files with a certificate for it, used says that a site names the same key elsewhere.
func (l *Lying) judgeKey(fits []*Lying, used bool) {
	if l.Hidden {
		l.State, l.Why = Spare, "no site names it, and it may not be looked into"
		return
	}
	l.State, l.Why = Stray, "it fits no certificate that lies beside it"
	for _, o := range fits {
		if l.State, l.Why = o.State, "the key of "+o.Path+": "+o.Why; o.State != InUse {
			continue
		}
		l.State, l.Why = Copied, "the key of "+o.Path+", whose site names another file of it"
		if !used {
			l.State, l.Why = Needed, "the key of "+o.Path+", and no file that a site names holds it"
		}
		return
	}
}

// within says whether another certificate is for every name of one.
func within(one, other *certs.Certificate) bool {
	list := one.Names()
	return len(list) > 0 && !slices.ContainsFunc(list, func(name string) bool {
		return !names.Covers(other, strings.ToLower(name)).Covered && !slices.Contains(other.Names(), name)
	})
}

// leftOvers is the one finding about all that lies on a server for nothing.
func leftOvers(f *ServerFacts, add func(string, Finding)) {
	var paths []string
	var evidence []Fact
	n := 0
	for i := range f.Lying {
		l := &f.Lying[i]
		if !l.State.LeftOver() {
			continue
		}
		if n++; len(paths) < sharedNamed {
			paths = append(paths, l.Path)
			evidence = append(evidence, Fact{l.Path, l.Why})
		}
	}
	if n == 0 {
		return
	}
	cause := fmt.Sprintf("%d files with certificates or keys lie on %s that nothing uses: %s", n, f.Server, some(paths, n))
	if n == 1 {
		cause = fmt.Sprintf("a file with a certificate or key lies on %s that nothing uses: %s", f.Server, paths[0])
	}
	add("", Finding{Code: LeftOver, Severity: Note, Cause: cause, Evidence: evidence,
		Remedy: "look through them: insegna server material " + f.Server + " --unused; take away what can go"})
}
