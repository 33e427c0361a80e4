package check_test

import (
	"crypto/x509"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"insegna.example/internal/core/check"
	"insegna.example/internal/core/place"
	"insegna.example/internal/pkitest"
)

// TestWhatLiesOnAServerIsSortedOut lays every kind of file beside what is used.
func TestWhatLiesOnAServerIsSortedOut(t *testing.T) {
	ca := pkitest.CA("ca", nil)
	names := func(list ...string) func(*x509.Certificate) {
		return func(c *x509.Certificate) { c.DNSNames = list }
	}
	now := pkitest.Leaf(ca, host)
	both := names(host, "www."+host)
	line := []place.Place{at("/n/a:3")}
	lie := func(e *pkitest.Entity) check.Lying { return check.Lying{Leaf: e.Certificate} }
	key := func(e *pkitest.Entity) check.Lying { return check.Lying{Public: e.Public().String(), Mode: 0o600} }
	older := pkitest.Leaf(ca, host, pkitest.Valid(-80*day, 10*day))
	newer := pkitest.Leaf(ca, host, pkitest.Valid(-time.Hour, 89*day))
	wide := pkitest.Leaf(ca, host, both, pkitest.Valid(-80*day, 10*day))
	alone, alone2 := pkitest.Leaf(ca, "b.lantern.example"), pkitest.Leaf(ca, "b.lantern.example", pkitest.Valid(-day, 70*day))
	ended := pkitest.Leaf(ca, "c.lantern.example", pkitest.Valid(-80*day, -day))
	wild := pkitest.Leaf(ca, "*.ferries.example")
	under := pkitest.Leaf(ca, "x.ferries.example", pkitest.Valid(-80*day, 10*day))
	set := func(l check.Lying, change func(*check.Lying)) check.Lying {
		change(&l)
		return l
	}
	cases := map[string]struct {
		file  check.Lying
		state check.Use
		why   string
		goes  bool
	}{
		"used":        {set(lie(now), func(l *check.Lying) { l.Used = line }), "used", "named at /n/a:3", false},
		"wild":        {set(lie(wild), func(l *check.Lying) { l.Used = line }), "used", "named at /n/a:3", false},
		"by variable": {check.Lying{State: check.InUse, Why: "chosen at run time"}, "used", "chosen at run time", false},
		"idle":        {set(lie(older), func(l *check.Lying) { l.Idle = line }), "idle", "which is not in force", false},
		"copy":        {lie(now), "copy", "the same certificate as in used", true},
		"older":       {lie(older), "superseded", "used, which is used, is for its names too", true},
		"newer":       {lie(newer), "newer", "newer than used", false},
		"wide":        {lie(wide), "unused", "no site names it", false},
		"under":       {lie(under), "superseded", "wild, which is used", true},
		"alone":       {lie(alone), "superseded", "alone 2 is for its names too", true},
		"alone 2":     {lie(alone2), "unused", "no site names it", false},
		"ended":       {lie(ended), "ended", "ended on", true},
		"ca":          {lie(ca), "ca", "a CA's certificate", false},
		"key used":    {set(key(now), func(l *check.Lying) { l.Used = line }), "used", "named at /n/a:3", false},
		"key copy":    {key(now), "copy", "whose site names another file of it", true},
		"key needed":  {key(wild), "needed", "the key of wild, and no file that a site names holds it", false},
		"key newer":   {key(newer), "newer", "the key of newer", false},
		"key stray":   {key(pkitest.Leaf(ca, host)), "stray", "fits no certificate", false},
		"hidden":      {check.Lying{Hidden: true}, "unused", "may not be looked into", false},
	}
	var list []check.Lying
	for path, c := range cases {
		c.file.Path = path
		list = append(list, c.file)
	}
	check.SortOut(list, pkitest.Now)
	for i := range list {
		c := cases[list[i].Path]
		assert.Equal(t, c.state, list[i].State, list[i].Path)
		assert.Contains(t, list[i].Why, c.why, list[i].Path)
		assert.Equal(t, c.goes, list[i].State.CanGo(), list[i].Path)
	}
	open := key(now)
	assert.False(t, open.Open())
	open.Mode = 0o604
	assert.True(t, open.Open())
}
