package check_test

import (
	"crypto/x509"
	"testing"

	"github.com/stretchr/testify/assert"

	"insegna.example/internal/core/binding"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/check"
	"insegna.example/internal/pkitest"
)

// TestHowALastHopIsJudged holds what a front asks against what is shown to it: what it
// looks at decides, and what it does not is told as unwatched.
func TestHowALastHopIsJudged(t *testing.T) {
	root := pkitest.CA("root", nil)
	middle := pkitest.CA("middle", root)
	good := pkitest.Leaf(middle, host)
	ended := pkitest.Leaf(middle, host, pkitest.Valid(-90*day, -day))
	early := pkitest.Leaf(middle, host, pkitest.Valid(day, 90*day))
	other := pkitest.Leaf(middle, "b.lantern.example")
	common := pkitest.Leaf(middle, host, func(c *x509.Certificate) { c.DNSNames = nil })
	address := pkitest.Leaf(middle, "192.0.2.1")
	roots := pkitest.List(root)
	verified := binding.Hop{TLS: true, Checked: true, Dates: true, Trust: "/ca"}
	named := verified
	named.Sends, named.Name = host, host
	sends := binding.Hop{TLS: true, Sends: host}
	for name, c := range map[string]struct {
		hop    binding.Hop
		chain  []*certs.Certificate
		trust  []*certs.Certificate
		fault  binding.HopFault
		why    string
		unseen string
	}{
		"all is well":                {named, pkitest.List(good, middle), roots, "", "", ""},
		"nothing is looked at":       {binding.Hop{TLS: true}, pkitest.List(good), nil, "", "", ""},
		"ended":                      {verified, pkitest.List(ended, middle), roots, binding.HopDates, "its certificate ended on", ""},
		"not begun":                  {verified, pkitest.List(early, middle), roots, binding.HopDates, "its certificate begins on", ""},
		"ended, and nobody looks":    {sends, pkitest.List(ended, middle), nil, "", "", "its certificate ended on"},
		"dates without a chain":      {binding.Hop{TLS: true, Dates: true}, pkitest.List(ended), nil, binding.HopDates, "ended on", ""},
		"another name":               {named, pkitest.List(other, middle), roots, binding.HopName, "its certificate is for b.lantern.example, and " + host + " is expected", ""},
		"another, and nobody looks":  {sends, pkitest.List(other), nil, "", "", "is for b.lantern.example and not for " + host},
		"the common name alone":      {named, pkitest.List(common, middle), roots, "", "", ""},
		"an address is text":         {binding.Hop{TLS: true, Name: "192.0.2.1"}, pkitest.List(address), nil, "", "", ""},
		"the issuer was not sent":    {verified, pkitest.List(good), roots, binding.HopChain, "its certificate is not trusted", ""},
		"the list has it":            {verified, pkitest.List(good), pkitest.List(middle, root), "", "", ""},
		"no root is in the list":     {verified, pkitest.List(good, middle), pkitest.List(middle), binding.HopChain, "no root is in /ca", ""},
		"nothing is in the list":     {verified, pkitest.List(good, middle), nil, binding.HopChain, "no root is in /ca", ""},
		"a path that is too long":    {func() binding.Hop { h := verified; h.Depth = 2; return h }(), pkitest.List(good, middle), roots, binding.HopChain, "its path has 3 certificates, and the front follows no more than 2", ""},
		"a path that is just enough": {func() binding.Hop { h := verified; h.Depth = 3; return h }(), pkitest.List(good, middle), roots, "", "", ""},
	} {
		h := c.hop
		check.JudgeHop(&h, &binding.Behind{Chain: c.chain, Trusted: c.trust, At: pkitest.Now})
		assert.Equal(t, c.fault, h.Fault, "%s: %s", name, h.Why)
		assert.Contains(t, h.Why, c.why, name)
		assert.Contains(t, h.Unseen, c.unseen, name)
		assert.Equal(t, c.unseen == "", h.Unseen == "", "%s: %s", name, h.Unseen)
		assert.Equal(t, c.chain[0].Fingerprint.String(), h.Leaf, name)
		assert.NotEmpty(t, h.Shown, name)
	}
	unread := named
	check.JudgeHop(&unread, &binding.Behind{Chain: pkitest.List(good, middle), NoTrust: "permission denied", At: pkitest.Now})
	assert.Empty(t, unread.Fault, "what cannot be read is no fault")
	assert.Equal(t, "permission denied", unread.Unknown)
	rubbish, unverified, plain := named, sends, binding.Hop{}
	for _, h := range []*binding.Hop{&rubbish, &unverified, &plain} {
		check.JudgeHop(h, &binding.Behind{At: pkitest.Now})
	}
	assert.Equal(t, binding.HopChain, rubbish.Fault, "what cannot be read is not taken")
	assert.NotEmpty(t, unverified.Unknown, "nor called fine")
	assert.Equal(t, binding.Hop{}, plain)
	for address, own := range map[string]bool{"unix:/run/x": true, "localhost:1": true, "127.0.0.1:80": true, "[::1]:80": true,
		"127.0.0.2:80": false, "192.0.2.1:80": false, "app.internal:80": false} {
		assert.Equal(t, own, (&binding.Hop{Address: address}).Own(), address)
	}
}
