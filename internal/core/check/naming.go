package check

import (
	"fmt"
	"slices"
	"strings"

	"insegna.example/internal/core/binding"
	"insegna.example/internal/core/names"
)

// naming tells whether the certificate is for this host at all.
func naming(s *Subject) {
	if len(s.Chain) == 0 || s.Coverage.Covered {
		return
	}
	listed := Fact{"names in the certificate", namesOf(s)}
	if s.Around.Default == s.leaf().Fingerprint && s.madeForNeighbour() && !s.ownSite() {
		s.add(OtherSiteAnswers,
			fmt.Sprintf("another site answers for %s: the certificate is the endpoint's default, made for %s", s.Host,
				mainName(s)),
			fmt.Sprintf("add a site for %s to %s, or correct the name of the site that should answer", s.Host, s.Server),
			listed, Fact{"served without SNI", "the same certificate"})
		return
	}
	cause := fmt.Sprintf("the certificate does not cover %s", s.Host)
	if at := s.ownAt(); at > 0 && names.Covers(s.Chain[at], s.Host).Covered {
		s.add(NameNotCovered,
			fmt.Sprintf("%s; the one that does is sent at place %d, and clients take the first", cause, at+1),
			"put the host's certificate first in the file", listed)
		return
	}
	if s.Coverage.Near != "" {
		cause += ": " + s.Coverage.Near
	} else {
		cause += "; it is made for " + mainName(s)
	}
	s.add(NameNotCovered, cause, fmt.Sprintf("serve a certificate that lists %s", s.Host), listed)
}

// ownSite says whether the host has a site there that names the very certificate served.
func (s *Subject) ownSite() bool {
	c := s.Around.Configured
	return c != nil && c.Named && slices.ContainsFunc(c.Pairs, func(p binding.Pair) bool {
		return len(p.Chain) > 0 && p.Chain[0].Fingerprint == s.leaf().Fingerprint
	})
}

// madeForNeighbour says whether the certificate covers another host that is
// wanted at the same endpoint.
func (s *Subject) madeForNeighbour() bool {
	for _, host := range s.Around.Hosts {
		if host != s.Host && names.Covers(s.leaf(), host).Covered {
			return true
		}
	}
	return false
}

// namesOf lists what the certificate covers, eight names at most.
func namesOf(s *Subject) string {
	list := s.leaf().Names()
	switch {
	case len(list) == 0:
		return "none"
	case len(list) > 8:
		return strings.Join(list[:8], ", ") + fmt.Sprintf(" and %d more", len(list)-8)
	}
	return strings.Join(list, ", ")
}

// mainName is the name a certificate is told by in a sentence.
func mainName(s *Subject) string {
	if list := s.leaf().Names(); len(list) > 0 {
		return list[0]
	}
	return s.leaf().CommonName()
}
