package names_test

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"math/rand/v2"
	"net"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/names"
	"insegna.example/internal/pkitest"
)

func TestCovers(t *testing.T) {
	for _, c := range []struct {
		listed, host string
		covered      bool
		near         string
	}{
		{"booking.lantern.example", "booking.lantern.example", true, ""},
		{"Booking.LANTERN.example", "booking.lantern.example", true, ""},
		{"*.lantern.example", "booking.lantern.example", true, ""},
		{"*.lantern.example", "lantern.example", false,
			"the wildcard *.lantern.example does not cover lantern.example itself"},
		{"*.lantern.example", "a.booking.lantern.example", false, "the wildcard *.lantern.example covers one label only"},
		{"b*.lantern.example", "booking.lantern.example", false, ""},
		{"*.example", "lantern.example", false,
			"the wildcard *.example stands directly under a top-level domain, which no client accepts"},
		{"booking.*.example", "booking.lantern.example", false, ""},
		{"lantern.example", "www.lantern.example", false, "lantern.example is listed, www.lantern.example is not"},
		{"www.lantern.example", "lantern.example", false,
			"www.lantern.example is listed, lantern.example without www is not"},
		{"xn--fhre-loa.lantern.example", "fähre.lantern.example", true, ""},
		{"a_b.lantern.example", "a_b.lantern.example", true, ""},
		{"other.test", "booking.lantern.example", false, ""},
	} {
		t.Run(c.listed+" "+c.host, func(t *testing.T) {
			host, err := names.Host(c.host)
			require.NoError(t, err)
			got := names.Covers(pkitest.Leaf(nil, c.listed).Certificate, host)
			assert.Equal(t, c.covered, got.Covered)
			assert.Equal(t, c.near, got.Near)
		})
	}
}

func TestTheCommonNameNeverCountsAndAddressesMatchAddressesOnly(t *testing.T) {
	bare := pkitest.Leaf(nil, "", func(t *x509.Certificate) {
		t.DNSNames, t.Subject = nil, pkix.Name{CommonName: "a.lantern.example"}
	})
	got := names.Covers(bare.Certificate, "a.lantern.example")
	assert.False(t, got.Covered)
	assert.Contains(t, got.Near, "common name only")

	address := pkitest.Leaf(nil, "192.0.2.1", func(t *x509.Certificate) {
		t.IPAddresses = []net.IP{net.ParseIP("2001:db8::1")}
	})
	host, err := names.Host("[2001:DB8:0::1]")
	require.NoError(t, err)
	assert.True(t, names.Covers(address.Certificate, host).Covered)
	asName := names.Covers(address.Certificate, "192.0.2.1")
	assert.False(t, asName.Covered)
	assert.Contains(t, asName.Near, "must be an IP address entry")
}

// TestEveryAnswerAgainstTheStandardLibrary compares with crypto/x509 for names
// that both take for names.
func TestEveryAnswerAgainstTheStandardLibrary(t *testing.T) {
	parts := []string{"a", "b-1", "*", "www", "lantern", "example", "test", "xn--fhre-loa"}
	r := rand.New(rand.NewPCG(3, 4))
	name := func() string {
		labels := make([]string, 2+r.IntN(3))
		for i := range labels {
			labels[i] = parts[r.IntN(len(parts))]
		}
		return strings.Join(labels, ".")
	}
	covered := 0
	for range 3000 {
		host, err := names.Host(strings.ReplaceAll(name(), "*", "star"))
		require.NoError(t, err)
		c := pkitest.Leaf(shared, "x", func(t *x509.Certificate) {
			t.DNSNames = []string{name(), name(), "*." + strings.SplitN(host, ".", 2)[1]}[r.IntN(3):]
		})
		theirs := c.X509().VerifyHostname(host) == nil
		if rest, wild := strings.CutPrefix(c.DNSNames[0], "*."); wild && len(c.DNSNames) == 1 &&
			!strings.Contains(rest, ".") {
			theirs = false // a wildcard directly under a top-level domain: stricter than the library
		}
		if !skip(c.DNSNames) {
			assert.Equal(t, theirs, names.Covers(c.Certificate, host).Covered, "%s for %s", c.DNSNames, host)
		}
		if theirs {
			covered++
		}
	}
	assert.Greater(t, covered, 300)
}

var shared = pkitest.CA("ca", nil)

// skip leaves out lists in which a wildcard under a top-level domain stands
// with other names.
func skip(list []string) bool {
	for _, n := range list {
		if rest, wild := strings.CutPrefix(n, "*."); wild && !strings.Contains(rest, ".") && len(list) > 1 {
			return true
		}
	}
	return false
}

func TestHostSaysWhyATextIsNoHostName(t *testing.T) {
	for text, want := range map[string]string{
		"": "it is empty", "a..b": "empty label", "-a.example": "hyphen", "a b.example": "character ' ' is not allowed",
		"*.a.example":   "character '*'",
		"a\x00.example": "not allowed", "https://a.example": "character ':'",
	} {
		_, err := names.Host(text)
		assert.ErrorContains(t, err, want, text)
	}
	for _, long := range []string{strings.Repeat("ä", 150_000), strings.Repeat("a.", 150_000),
		strings.Repeat("ä.", 200) + "example"} {
		_, err := names.Host(long)
		require.ErrorContains(t, err, "longer than 253 bytes")
		assert.Less(t, len(err.Error()), 400, "what is repeated of it is bounded")
	}
	widest := strings.Repeat(strings.Repeat("a", 63)+".", 3) + strings.Repeat("a", 61)
	for _, fits := range []string{widest, widest + "."} {
		host, err := names.Host(fits)
		require.NoError(t, err)
		assert.Equal(t, widest, host)
	}
	_, err := names.Host(widest + "a")
	require.ErrorContains(t, err, "longer than 253 bytes")
	same, err := names.Host("Booking.Lantern.Example.")
	require.NoError(t, err)
	assert.Equal(t, "booking.lantern.example", same)
}
