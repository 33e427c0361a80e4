package chain

import (
	"crypto/x509"
	"slices"

	"insegna.example/internal/core/certs"
)

// anyPolicy stands for every policy (RFC 5280 section 4.2.1.4).
const anyPolicy = "2.5.29.32.0"

// policyState carries the variables of RFC 5280 section 6.1.2 that decide
// whether a path stands when any policy is acceptable to the client: the set
// of policies still expected (in the terms of the next certificate down), and
// the three counters.
type policyState struct {
	expected                    map[string]bool // holds anyPolicy while all are open
	explicit, inhibit, mappings int             // certificates left until the rule bites
}

// checkPolicies walks from the anchor to the leaf. Only a path on which some
// CA requires explicit policies can fail.
func checkPolicies(path []*certs.Certificate) *Failure {
	n := len(path)
	s := policyState{expected: map[string]bool{anyPolicy: true}, explicit: n + 1, inhibit: n + 1, mappings: n + 1}
	for i := n - 2; i >= 0; i-- {
		c := path[i]
		s.apply(c, i == 0)
		if i > 0 {
			if mapsAny(c) {
				return &Failure{Reason: ReasonPolicy, Cert: c, Detail: "maps a certificate policy to or from anyPolicy"}
			}
			s.prepare(c)
		} else {
			s.wrapUp(c)
		}
		if s.explicit == 0 && len(s.expected) == 0 {
			return &Failure{Reason: ReasonPolicy, Cert: c,
				Detail: "no certificate policy is left that the whole path allows, and a CA requires one"}
		}
	}
	return nil
}

// mapsAny says whether a CA maps anyPolicy or to it, which no CA may (RFC 5280
// section 6.1.4 (a)).
func mapsAny(c *certs.Certificate) bool {
	return slices.ContainsFunc(c.PolicyMappings, func(m x509.PolicyMapping) bool {
		return m.IssuerDomainPolicy.String() == anyPolicy || m.SubjectDomainPolicy.String() == anyPolicy
	})
}

// apply keeps the policies this certificate names (section 6.1.3 (d), (e)).
func (s *policyState) apply(c *certs.Certificate, leaf bool) {
	next := map[string]bool{}
	for _, p := range c.Policies {
		id := p.String()
		switch {
		case id != anyPolicy && (s.expected[id] || s.expected[anyPolicy]):
			next[id] = true
		case id == anyPolicy && (s.inhibit > 0 || !leaf && c.SelfIssued()):
			for e := range s.expected {
				next[e] = true
			}
		}
	}
	s.expected = next
}

// prepare maps policies and counts down for the next certificate (section
// 6.1.4 (a), (b), (h) to (j)).
func (s *policyState) prepare(c *certs.Certificate) {
	s.mapPolicies(c)
	if !c.SelfIssued() {
		s.explicit, s.inhibit, s.mappings = max(s.explicit-1, 0), max(s.inhibit-1, 0), max(s.mappings-1, 0)
	}
	lower(&s.explicit, c.RequireExplicitPolicy, c.RequireExplicitPolicyZero)
	lower(&s.mappings, c.InhibitPolicyMapping, c.InhibitPolicyMappingZero)
	lower(&s.inhibit, c.InhibitAnyPolicy, c.InhibitAnyPolicyZero)
}

// mapPolicies follows a CA's mappings from policies of its issuer to its own;
// where mapping is inhibited, a mapped policy is lost instead (RFC 5280 section
// 6.1.4 b).
func (s *policyState) mapPolicies(c *certs.Certificate) {
	mapped, gone := map[string]bool{}, map[string]bool{}
	for _, m := range c.PolicyMappings {
		from := m.IssuerDomainPolicy.String()
		if !s.expected[from] && !s.expected[anyPolicy] {
			continue
		}
		gone[from] = true
		if s.mappings > 0 {
			mapped[m.SubjectDomainPolicy.String()] = true
		}
	}
	for p := range gone {
		delete(s.expected, p)
	}
	for p := range mapped {
		s.expected[p] = true
	}
}

// lower moves a counter down to a certificate's value (RFC 5280 section 6.1.4
// i). The extension leaves 0 and absent apart by a flag, which is zero.
func lower(counter *int, value int, zero bool) {
	if value > 0 || zero {
		*counter = min(*counter, value)
	}
}

// wrapUp does the last counting on the leaf (section 6.1.5 (a), (b)).
func (s *policyState) wrapUp(leaf *certs.Certificate) {
	s.explicit = max(s.explicit-1, 0)
	if leaf.RequireExplicitPolicyZero {
		s.explicit = 0
	}
}
