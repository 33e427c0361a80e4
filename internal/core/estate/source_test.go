package estate_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/estate"
)

// own declares a CA of each kind that is not asked over ACME.
const own = `cas:
  - name: crew
    by: private
    publish: http://insegna.test.example:7480/
    profiles:
      - {name: server, names: ["*.crew.example", crew.example, 10.20.3.4/16], keys: [ecdsa-p256]}
      - {name: any, days: 10, usages: [server, client], at_least: admin, subject: true}
  - {name: desk, by: hand, to: certificates desk, reply_days: 5}
`

// TestOtherSourcesAreDeclared reads CAs that are asked otherwise than over ACME, and
// what is always there.
func TestOtherSourcesAreDeclared(t *testing.T) {
	e, err := estate.Parse("e.yaml", []byte(before+own+`mandates:
  - {name: a, names: [a.crew.example, 10.20.9.9], ca: crew}
  - {name: b, names: [printer, "*.lab.example", ops@lab.example, "https://lab.example/x"], ca: self-signed, key: ed25519, must_staple: true, reuse_key: true, keep: 7}
  - {name: c, names: [bücher.example], ca: desk, subject: {common_name: x, organization: Ferries, unit: Crew, country: NO, province: Vestland, locality: Bergen}}
  - {name: d, names: [d.example], ca: by-hand}
  - {name: e, names: [e.example], ca: crew, profile: any, key: rsa-4096}
  - {name: f, names: [f.crew.example], ca: crew, key_on: pier-1, install: [pier-1, "pier-1:8443"]}
`), kinds, withRoot)
	require.NoError(t, err)
	crew := e.CA("crew")
	assert.Nil(t, crew.ACME)
	assert.Equal(t, uint16(80), crew.PlainPort())
	assert.Equal(t, "http://insegna.test.example:7480", crew.Private.Publish)
	first, other := crew.Private.Profile(""), crew.Private.Profile("any")
	assert.Equal(t, estate.Profile{Name: "server", Days: 90, Names: []string{"*.crew.example", "crew.example", "10.20.0.0/16"}, Usages: []string{"server"},
		AtLeast: "operator", Keys: []string{"ecdsa-p256"}}, *first)
	assert.Equal(t, estate.Profile{Name: "any", Days: 10, Usages: []string{"server", "client"}, AtLeast: "admin", Subject: true}, *other)
	assert.Nil(t, crew.Private.Profile("tug"))
	assert.Equal(t, estate.Hand{To: "certificates desk", Days: 5}, *e.CA("desk").Hand)
	assert.Equal(t, estate.BySelf, e.CA("self-signed").By)
	assert.Equal(t, estate.ByHand, e.CA("by-hand").By)
	assert.Equal(t, []string{"xn--bcher-kva.example"}, e.Mandates[2].Names)
	for name, allowed := range map[string]bool{"a.crew.example": true, "a.b.crew.example": true, "*.crew.example": true, "crew.example": true,
		"xcrew.example": false, "example": false, "10.20.255.1": true, "10.21.0.1": false, "ops@a.crew.example": true, "ops@other.example": false,
		"https://a.crew.example/x": true, "https://other.example/a.crew.example": false, "::1": false} {
		assert.Equal(t, allowed, first.Allows(name), name)
		assert.True(t, other.Allows(name))
	}
	bare, err := estate.Parse("e.yaml", []byte(before+"cas:\n  - {name: crew, by: private}\n"), kinds, withRoot)
	require.NoError(t, err)
	assert.Equal(t, estate.Profile{Name: "server", Days: 90, Usages: []string{"server"}, AtLeast: "operator"}, bare.CA("crew").Private.Profiles[0])

	for i := range e.Mandates {
		text, err := estate.MandateText(&e.Mandates[i])
		require.NoError(t, err)
		back, err := estate.ParseMandate(text, e)
		require.NoError(t, err, string(text))
		back[0].Place = e.Mandates[i].Place
		assert.Equal(t, e.Mandates[i:i+1], back, "what is exported is what is read")
	}
	changed := *e
	changed.CAs = append([]estate.CA{}, e.CAs...)
	changed.CAs[0].Private = &estate.Private{Profiles: crew.Private.Profiles[:1]}
	changed.Mandates = append([]estate.Mandate{}, e.Mandates...)
	changed.Mandates[1].Staple, changed.Mandates[2].Subject.Country, changed.Mandates[5].KeyOn = false, "SE", ""
	var told []string
	for _, c := range estate.Diff(e, &changed) {
		told = append(told, c.Kind+" "+c.Name)
	}
	assert.Equal(t, []string{"CA crew", "mandate b", "mandate c", "mandate f"}, told)
}

// TestOtherSourcesRefuse holds every key to the way it belongs to, and mandates to
// what their CA takes.
func TestOtherSourcesRefuse(t *testing.T) {
	const ca = "cas:\n  - {name: harbour, directory: https://ca.example/d}\n"
	mandate := func(text string) string { return own + "mandates:\n  - {name: m, " + text + "}\n" }
	for text, says := range map[string]string{
		"cas:\n  - {name: c, by: private, directory: https://ca.example/d}\n":                                   "the key directory belongs to by: acme",
		"cas:\n  - {name: c, by: hand, profiles: [{name: x}]}\n":                                                "the key profiles belongs to by: private",
		"cas:\n  - {name: c, by: acme, directory: https://ca.example/d, reply_days: 3}\n":                       "the key reply_days belongs to by: hand",
		"cas:\n  - {name: self-signed, by: hand}\n":                                                             "is there without being declared",
		"cas:\n  - {name: c, by: private, publish: ftp://x}\n":                                                  "an address of this service",
		"cas:\n  - {name: c, by: private, publish: http://x/y}\n":                                               "an address of this service",
		"cas:\n  - {name: c, by: private, profiles: [{name: x}, {name: x}]}\n":                                  "the profile x stands twice",
		"cas:\n  - {name: c, by: private, profiles: [{name: x, names: [ops@a.example]}]}\n":                     "a range of addresses such as 10.20.0.0/16",
		"cas:\n  - {name: c, by: private, profiles: [{name: x, usages: [mail]}]}\n":                             `unknown usage "mail"`,
		"cas:\n  - {name: c, by: private, profiles: [{name: x, at_least: viewer}]}\n":                           `unknown role "viewer"`,
		"cas:\n  - {name: c, by: private, profiles: [{name: x, days: 4000}]}\n":                                 "a whole number from 1 to 3650",
		mandate("names: [booking.example], ca: crew, key: ecdsa-p256"):                                          "the profile server of crew does not allow",
		mandate("names: [a.crew.example], ca: crew, key: rsa-2048"):                                             "a key of the kind rsa-2048, which the profile server",
		mandate("names: [a.crew.example], ca: crew, profile: tug"):                                              `unknown profile "tug"`,
		mandate("names: [a.example], ca: desk, profile: server"):                                                "names a profile, and desk has none",
		mandate("names: [a.example], ca: desk, proof: {by: listener}"):                                          "proves its names, which nobody asks for",
		mandate("names: [a.example], ca: nobody"):                                                               "one of crew, desk, self-signed, by-hand",
		mandate("names: [\"*.10.1.2.3\"], ca: desk"):                                                            "a wildcard over an address",
		mandate("names: [\"a b@lab.example\"], ca: desk"):                                                       "no e-mail address",
		mandate("names: [a.example], ca: desk, subject: {country: Norway}"):                                     "a country in two letters",
		mandate("names: [a.example], ca: desk, subject: {common_name: " + strings.Repeat("x", 65) + "}"):        "at most 64 characters",
		mandate("names: [a.example], ca: desk, key_on: tug"):                                                    `its key made on an unknown server "tug"`,
		mandate("names: [a.example], ca: desk, key_on: edge"):                                                   "made on edge, and there is no way to it",
		mandate("names: [a.example], ca: desk, key_on: pier-1, reuse_key: true"):                                "one of key_on and reuse_key",
		mandate("names: [a.example], ca: self-signed, key_on: pier-1"):                                          "for which its key has to be in the safe",
		mandate("names: [a.example], ca: desk, key_on: pier-1, install: [edge]"):                                "installed on edge, and its key stays on pier-1",
		mandate("names: [a.example], ca: desk, keep: 0"):                                                        "a whole number from 1 to 100",
		ca + "mandates:\n  - {name: m, names: [a@b.example], ca: harbour, proof: {by: listener}}\n":             "is not a name to order a certificate for over ACME",
		ca + "mandates:\n  - {name: m, names: [a.example], ca: harbour, proof: {by: listener}, key: ed25519}\n": "no CA that browsers trust takes a key",
	} {
		_, err := estate.Parse("e.yaml", []byte(before+text), kinds, withRoot)
		if assert.Error(t, err, text) {
			assert.Contains(t, err.Error(), says, text)
		}
	}
}
