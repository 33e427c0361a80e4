package check

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"insegna.example/internal/core/binding"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/chain"
	"insegna.example/internal/core/names"
	"insegna.example/internal/core/trust"
)

// JudgeHop says what the front makes of what was shown at a last hop that was
// reached: whether it takes it, and what is wrong there that it does not look at.
// Fronts verify as OpenSSL does: a path has to end at a root of their list, and
// what else the list holds counts as sent.
func JudgeHop(h *binding.Hop, b *binding.Behind) {
	switch {
	case len(b.Chain) > 0:
	case h.Checked:
		h.Fault, h.Why = binding.HopChain, "its certificate cannot be read"
		return
	default:
		if h.TLS {
			h.Unknown = "the certificate shown there cannot be read"
		}
		return
	}
	leaf := b.Chain[0]
	const day = "2 January 2006 15:04 UTC"
	h.Leaf, h.Shown = leaf.Fingerprint.String(),
		fmt.Sprintf("%s, by %s, until %s", leaf.CommonName(), leaf.IssuerName(), leaf.NotAfter.UTC().Format(day))
	fault := func(f binding.HopFault, why string) {
		if h.Fault == "" {
			h.Fault, h.Why = f, why
		}
	}
	dates := ""
	switch {
	case b.At.After(leaf.NotAfter):
		dates = "its certificate ended on " + leaf.NotAfter.UTC().Format(day)
	case b.At.Before(leaf.NotBefore):
		dates = "its certificate begins on " + leaf.NotBefore.UTC().Format(day)
	}
	if dates != "" && h.Dates {
		fault(binding.HopDates, dates)
		dates = ""
	}
	if h.Checked {
		if b.NoTrust != "" {
			h.Unknown = b.NoTrust
		} else if why := unverified(h, b); why != "" {
			fault(binding.HopChain, why)
		}
	}
	name := ""
	if h.Name != "" && !forHop(leaf, h.Name) {
		fault(binding.HopName, fmt.Sprintf("its certificate is for %s, and %s is expected", some(namesIn(leaf), 0), h.Name))
	} else if h.Sends != "" && !forHop(leaf, h.Sends) {
		name = fmt.Sprintf("its certificate is for %s and not for %s", some(namesIn(leaf), 0), h.Sends)
	}
	if h.Unseen = dates; dates == "" {
		h.Unseen = name
	}
}

// namesIn are a few names of a certificate, or its common name.
func namesIn(c *certs.Certificate) []string {
	const most = 4
	list := c.Names()
	if len(list) == 0 {
		return []string{c.CommonName()}
	}
	if n := len(list); n > most {
		return append(slices.Clone(list[:most]), fmt.Sprintf("%d more", n-most))
	}
	return list
}

// forHop compares names as servers do that pass on: the common name counts where no
// DNS name is listed, and addresses are compared as text.
func forHop(c *certs.Certificate, name string) bool {
	common := len(c.DNSNames) == 0 && strings.EqualFold(c.Subject.CommonName, name)
	if _, err := netip.ParseAddr(name); err == nil {
		return common || slices.Contains(c.DNSNames, name)
	}
	return common || names.Covers(c, strings.ToLower(name)).Covered
}

// unverified says why the front does not trust a list; "" when it does.
func unverified(h *binding.Hop, b *binding.Behind) string {
	var anchors []*certs.Certificate
	list := slices.Clone(b.Chain)
	for _, c := range b.Trusted {
		if c.SelfSigned() {
			anchors = append(anchors, c)
		} else {
			list = append(list, c)
		}
	}
	if len(anchors) == 0 {
		return fmt.Sprintf("no root is in %s", orNothing(h.Trust))
	}
	result := chain.Once(list, trust.NewAudience(h.Trust, false, anchors))
	best := result.Best(b.At)
	if best == nil {
		for _, f := range result.Why(b.At) {
			return "its certificate is not trusted: " + f.String()
		}
		return "its certificate is not trusted"
	}
	if h.Depth > 0 && len(best.Certs) > h.Depth {
		return fmt.Sprintf("its path has %d certificates, and the front follows no more than %d", len(best.Certs), h.Depth)
	}
	return ""
}

// orNothing names a file, or says that none is.
func orNothing(file string) string {
	if file == "" {
		return "what it trusts, which is not written"
	}
	return file
}

// behind tells of last hops that fail: the front may be as it should, and visitors
// get an error all the same.
func behind(s *Subject) {
	c := s.Around.Configured
	if c == nil || c.Unknown != "" {
		return
	}
	groups := map[string][]*binding.Hop{}
	var order []string
	for i := range c.Hops {
		h := &c.Hops[i]
		if h.For != "" && h.For != s.Host {
			continue
		}
		if groups[h.Group] == nil {
			order = append(order, h.Group)
		}
		groups[h.Group] = append(groups[h.Group], h)
	}
	for _, g := range order {
		group(s, c, groups[g])
	}
}

// group judges hops that stand in for each other: visitors are hurt when all fail.
func group(s *Subject, c *binding.Configured, list []*binding.Hop) {
	failed := slices.DeleteFunc(slices.Clone(list), func(h *binding.Hop) bool { return h.Fault == "" })
	if len(failed) > 0 {
		h := failed[0]
		unknown := 0
		for _, o := range list {
			if o.Fault == "" && o.Unknown != "" {
				unknown++
			}
		}
		severity, rest := Broken, "visitors get an error"
		switch left := len(list) - len(failed) - unknown; {
		case left > 0:
			severity, rest = Weak, fmt.Sprintf("%d of %d servers behind are left", left, len(list))
		case unknown > 0:
			severity, rest = Weak, fmt.Sprintf("of the %d others behind nothing is known", unknown)
		case len(list) > 1:
			rest = fmt.Sprintf("none of the %d servers behind is left, and visitors get an error", len(list))
		}
		front := "the front is fine, and the server behind it is not"
		if len(s.findings) > 0 && s.worst().Rank() == 0 {
			front = "the server behind fails too"
		}
		if h.Fault == binding.HopNoWay {
			front = "the front cannot ask the server behind it"
		}
		s.addAsAt(h.At, LastHopFails, severity, fmt.Sprintf("%s: %s at %s: %s; %s", front, HopAt(h), h.At, h.Why, rest),
			HopRemedy(h, c), hopFacts(h, failed)...)
	}
	for _, h := range list {
		if h.Unseen != "" && h.Fault == "" {
			s.addAt(h.At, LastHopUnwatched,
				fmt.Sprintf("%s, asked because of %s: %s, and the front does not look at that", HopAt(h), h.At, h.Unseen),
				HopRemedy(h, c), hopFacts(h, nil)...)
			return
		}
	}
}

// worst is the worst severity found so far.
func (s *Subject) worst() Severity {
	worst := Note
	for i := range s.findings {
		if s.findings[i].Severity.Rank() < worst.Rank() {
			worst = s.findings[i].Severity
		}
	}
	return worst
}

// HopAt calls the server behind by its name and address.
func HopAt(h *binding.Hop) string {
	if h.Origin == "" {
		return h.Address
	}
	return fmt.Sprintf("%s (%s)", h.Origin, h.Address)
}

// origin is where the certificate of a last hop is written, as far as that is known.
func origin(h *binding.Hop) string {
	switch {
	case h.Origin == "":
		return h.Address
	case h.Site.Known():
		return fmt.Sprintf("%s (%s)", h.Origin, h.Site)
	}
	return h.Origin
}

// then is what has to follow a change of a configuration, where that is known.
func then(c *binding.Configured) string {
	if c.TakeIn == "" {
		return ""
	}
	return ", then " + takeIn(c)
}

// HopRemedy is what mends a last hop.
func HopRemedy(h *binding.Hop, c *binding.Configured) string {
	wanted := h.Name
	if wanted == "" {
		wanted = h.Sends
	}
	of := ""
	if wanted != "" {
		of = " for " + wanted
	}
	switch h.Fault {
	case binding.HopNoWay:
		return fmt.Sprintf("correct the site that holds %s%s", h.At, then(c))
	case binding.HopDown:
		return fmt.Sprintf("start %s, or correct %s%s", origin(h), h.At, then(c))
	case binding.HopName:
		return fmt.Sprintf("install a certificate%s at %s, or let %s expect a name it has%s", of, origin(h), h.At,
			then(c))
	case binding.HopChain:
		return fmt.Sprintf("install a certificate%s of a CA in %s at %s, or add its CA to that file%s", of,
			orNothing(h.Trust), origin(h), then(c))
	}
	return fmt.Sprintf("install a certificate%s that is in its dates at %s", of, origin(h))
}

// hopFacts is what was asked and seen at a last hop.
func hopFacts(h *binding.Hop, failed []*binding.Hop) []Fact {
	asked := h.Sends
	if asked == "" {
		asked = "no name"
	}
	out := []Fact{{"asked at", h.Address}}
	if h.TLS {
		out = append(out, Fact{"asked for", asked})
	}
	if h.Site.Known() {
		out = append(out, Fact{"origin", h.Origin + " " + h.Site.String()})
	}
	if h.Shown != "" {
		out = append(out, Fact{"shown", h.Shown})
	}
	if h.Checked && h.Trust != "" {
		out = append(out, Fact{"trusted there", h.Trust})
	}
	out = append(out, Fact{"looked", moment(h.Looked)})
	if len(failed) > 1 {
		var rest []string
		for _, o := range failed[1:] {
			rest = append(rest, o.Address)
		}
		out = append(out, Fact{"fails as well", some(rest[:min(len(rest), sharedNamed)], len(rest))})
	}
	return out
}

// hopsOfServer tells of last hops nobody guards: plain ones, and those whose
// certificate nobody verifies.
func hopsOfServer(list []binding.Hop, add func(string, Finding)) {
	met := map[string]bool{}
	var plain, unchecked []binding.Hop
	for _, h := range list {
		key := h.At.String() + " " + h.Address
		if h.Own() || met[key] || h.Fails != "" {
			continue
		}
		met[key] = true
		switch {
		case !h.TLS:
			plain = append(plain, h)
		case !h.Checked:
			unchecked = append(unchecked, h)
		}
	}
	several(len(plain), func(i int) (string, Finding) {
		h := plain[i]
		return h.At.String() + " " + h.Address, Finding{Code: LastHopPlain, Severity: Note, Source: h.At,
			Cause:  "requests go on without TLS to " + h.Address,
			Remedy: "speak TLS to it and verify its certificate, or see to it that nobody can listen in between"}
	}, add)
	several(len(unchecked), func(i int) (string, Finding) {
		h := unchecked[i]
		return h.At.String() + " " + h.Address, Finding{Code: LastHopUnchecked, Severity: Weak, Source: h.At,
			Cause:  fmt.Sprintf("requests go on over TLS to %s, and whose certificate that is nobody verifies", h.Address),
			Remedy: "let the server verify it: name the CAs it may come from there, and the name it has to be for"}
	}, add)
}
