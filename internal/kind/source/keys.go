package source

import (
	"slices"
	"strings"
	"sync"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/kind"
)

// SuiteKinds are the kinds of key that can be used where TLS 1.3 is left out and
// suites are written one by one: from TLS 1.3 on suites say nothing of the key
// (RFC 8446 section 4.2.3), and words such as HIGH stand for suites of every kind.
// nil for all.
func SuiteKinds(suites string) (out []string) {
	for s := range strings.FieldsFuncSeq(suites, func(r rune) bool { return r == ':' || r == ',' || r == ' ' }) {
		of := "RSA"
		switch {
		case strings.Contains(s, "ECDSA"):
			of = "ECDSA"
		case !strings.Contains(s, "-") || strings.ContainsAny(s[:1], "!+-@"):
			return nil
		}
		if !slices.Contains(out, of) {
			out = append(out, of)
		}
	}
	return out
}

// Keys tells the kinds of key of a reading's certificates. Safe for concurrent
// use.
type Keys struct {
	reading *kind.Reading

	mu    sync.Mutex
	kinds map[string]string // by fingerprint of the certificate
}

// NewKeys prepares the answers for a reading.
func NewKeys(r *kind.Reading) *Keys { return &Keys{reading: r, kinds: map[string]string{}} }

// Usable leaves out the pairs for kinds of key that no suite of a site is for.
func (x *Keys) Usable(site *kind.Site, list []kind.Pair) []kind.Pair {
	if len(site.KeyKinds) == 0 {
		return list
	}
	return slices.DeleteFunc(slices.Clone(list), func(p kind.Pair) bool {
		of := x.Of(&p)
		return of != "" && !slices.Contains(site.KeyKinds, of)
	})
}

// Lasting leaves out the pairs that no visitor gets: of several for one kind of
// key servers keep the last.
func (x *Keys) Lasting(list []kind.Pair) []kind.Pair {
	if len(list) < 2 {
		return list
	}
	var out []kind.Pair
	for i := range list {
		of := x.Of(&list[i])
		if of != "" && slices.ContainsFunc(list[i+1:], func(p kind.Pair) bool { return x.Of(&p) == of }) {
			continue
		}
		out = append(out, list[i])
	}
	return out
}

// Of is the kind of key a pair's certificate is for; "" when it is not known.
func (x *Keys) Of(p *kind.Pair) string {
	m := x.reading.Material[p.Certificate]
	if p.AtRunTime || m == nil || len(m.Chain) == 0 {
		return ""
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	had, met := x.kinds[m.Chain[0]]
	if !met {
		if c, err := certs.Parse(x.reading.Certificates[m.Chain[0]]); err == nil {
			had = c.Key().Kind
		}
		x.kinds[m.Chain[0]] = had
	}
	return had
}
