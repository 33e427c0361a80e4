package check_test

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"fmt"
	"math/big"
	"net"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/chain"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/trust"
	"insegna.example/internal/pkitest"
)

// judged is one row of the table: a list as it is served, and what has to be
// said of it. An empty code stands for a list nothing is wrong with.
type judged struct {
	name          string
	code          check.Code
	cause, remedy string // parts of them
	list          []*pkitest.Entity
}

type change = func(*x509.Certificate)

// critical adds a critical extension nobody knows.
func critical(t *x509.Certificate) {
	t.ExtraExtensions = append(t.ExtraExtensions, pkix.Extension{Id: asn1.ObjectIdentifier{1, 2, 3, 4}, Critical: true,
		Value: []byte{5, 0}})
}

// policy adds a certificate policy.
func policy(last uint64) change {
	return func(t *x509.Certificate) {
		id, _ := x509.OIDFromInts([]uint64{1, 2, 3, last})
		t.Policies = append(t.Policies, id)
	}
}

// explicitly requires a policy from this certificate on.
func explicitly(t *x509.Certificate) {
	t.ExtraExtensions = append(t.ExtraExtensions, pkix.Extension{Id: asn1.ObjectIdentifier{2, 5, 29, 36}, Critical: true,
		Value: []byte{0x30, 3, 0x80, 1, 0}})
}

// directories adds name constraints on directory names: permitted (0) or
// excluded (1).
func directories(kind byte, names ...pkix.Name) change {
	var trees []byte
	for _, n := range names {
		dir, err := asn1.Marshal(n.ToRDNSequence())
		if err != nil {
			panic(err)
		}
		general := append([]byte{0xA4, byte(len(dir))}, dir...)
		trees = append(append(trees, 0x30, byte(len(general))), general...)
	}
	value := append([]byte{0xA0 + kind, byte(len(trees))}, trees...)
	value = append([]byte{0x30, byte(len(value))}, value...)
	return func(t *x509.Certificate) {
		t.ExtraExtensions = append(t.ExtraExtensions,
			pkix.Extension{Id: asn1.ObjectIdentifier{2, 5, 29, 30}, Critical: true, Value: value})
	}
}

// judgements makes the table.
func (w *world) judgements(t *testing.T) (rows []judged) {
	row := func(name string, code check.Code, cause, remedy string, list ...*pkitest.Entity) {
		rows = append(rows, judged{name: name, code: code, cause: cause, remedy: remedy, list: list})
	}
	leaf := func(by *pkitest.Entity, change ...change) *pkitest.Entity { return pkitest.Leaf(by, host, change...) }
	good := func(change ...change) *pkitest.Entity { return leaf(w.sub, change...) }
	w.ofIssuers(row, leaf)
	w.ofConstraints(row, leaf)
	w.ofLeaves(t, row, good)
	w.ofForms(row)
	w.ofLists(row, good)
	return rows
}

type addRow = func(name string, code check.Code, cause, remedy string, list ...*pkitest.Entity)

// ofIssuers puts every fault an issuer can have at every place of a path: at the
// one that issued the leaf, and at the one above.
func (w *world) ofIssuers(row addRow, leaf func(*pkitest.Entity, ...change) *pkitest.Entity) {
	for _, c := range []struct {
		name          string
		code          check.Code
		cause, remedy string
		change        change
		noLower       bool // another rule speaks first, or none does, one step higher
	}{
		{"no CA", check.IssuerNoCA, "Faulty: is not a CA certificate", "issued by a CA; Faulty is none",
			func(t *x509.Certificate) { t.IsCA = false }, false},
		{"without basic constraints", check.IssuerNoCA, "Faulty: is not a CA certificate", "Faulty is none",
			func(t *x509.Certificate) { t.IsCA, t.BasicConstraintsValid = false, false }, false},
		{"may not sign", check.IssuerMayNotSign, "keyUsage lacks keyCertSign", "by a CA whose key may sign certificates",
			func(t *x509.Certificate) { t.KeyUsage = x509.KeyUsageCRLSign }, false},
		{"for clients only", check.NotForServers, "Faulty: is not allowed for TLS servers", "may issue for TLS servers",
			func(t *x509.Certificate) { t.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth} }, false},
		{"for any use", "", "", "", func(t *x509.Certificate) {
			t.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageAny}
		}, false},
		{"for servers among others", "", "", "", func(t *x509.Certificate) {
			t.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth, x509.ExtKeyUsageServerAuth}
		}, false},
		{"an unknown critical extension", check.CriticalExtension, "not understood (1.2.3.4)",
			"a CA whose own certificate clients understand", critical, false},
		{"path length 0", check.PathLength, "Faulty: allows 0 intermediates below it, the path has 1",
			"by a CA nearer to the root: below Faulty no further CA",
			func(t *x509.Certificate) { t.MaxPathLenZero = true }, true},
		{"path length 1", "", "", "", func(t *x509.Certificate) { t.MaxPathLen = 1 }, false},
		{"ended", check.ChainEnded, "Faulty: ended on", "serve the CA's current intermediate certificates",
			pkitest.Valid(-48*time.Hour, -time.Hour), false},
		{"not begun", check.ChainEnded, "Faulty: begins on", "that is in force now",
			pkitest.Valid(time.Hour, 48*time.Hour), false},
		{"asks for a policy nobody has", check.PolicyMissing, "no certificate policy is left", "under a policy that every CA",
			explicitly, false},
		{"mapping to anyPolicy", check.PolicyMissing, "maps a certificate policy to or from anyPolicy", "under a policy",
			func(t *x509.Certificate) {
				t.ExtraExtensions = append(t.ExtraExtensions, pkix.Extension{Id: asn1.ObjectIdentifier{2, 5, 29, 33},
					Critical: true, Value: []byte{0x30, 0x0D, 0x30, 0x0B, 6, 3, 0x2A, 3, 4, 6, 4, 0x55, 0x1D, 0x20, 0}})
			}, false},
	} {
		faulty := pkitest.CA("Faulty", w.root, c.change)
		below := pkitest.CA("Below", faulty)
		if !c.noLower {
			row("the issuer: "+c.name, c.code, c.cause, c.remedy, leaf(faulty), faulty)
		}
		row("above the issuer: "+c.name, c.code, c.cause, c.remedy, leaf(below), below, faulty)
		if c.code != "" && !c.noLower && c.code != check.ChainEnded && c.code != check.PolicyMissing &&
			c.code != check.NotForServers {
			lost := pkitest.CA("Faulty", pkitest.CA("Nobody", nil), c.change)
			code := check.IssuerUnknown
			if c.code == check.IssuerNoCA {
				code = c.code
			}
			row("below a root nobody has: "+c.name, code, "", "", leaf(lost), lost)
		}
	}
	stranger := pkitest.CA("Harbour Issuing", w.ca)
	namesake := pkitest.CA("Harbour CA", pkitest.CA("Harbour Root", nil))
	foreign := pkitest.CA("Foreign Root", nil)
	row("an issuer of the same name", check.IssuerOther,
		"its signature was not made by the key of Harbour Issuing: another "+
			"certificate of that name issued it (key identifier ", "put the certificate of Harbour Issuing that issued "+host,
		leaf(pkitest.CA("Harbour Issuing", nil)), w.sub, w.ca)
	row("two of that name, one is it", "", "", "", leaf(stranger), stranger, w.ca)
	row("a root of the same name", check.IssuerOther, "not made by the key of Harbour Root",
		"in the place of the other one",
		leaf(namesake), namesake)
	row("a root nobody here has", check.ChainUntrusted, "Foreign Root: is a root that browsers does not trust",
		"or add Foreign Root to the audience's roots", leaf(foreign), foreign)
	row("a root of another audience, not sent", check.ChainUntrusted, "Crew Root: is a root that browsers does not trust",
		"serve a certificate from a CA these clients trust", leaf(w.crew))
	row("an issuer nobody here has", check.IssuerUnknown, `its issuer "Foreign Root" was not sent and is not known`,
		"add the certificate of Foreign Root to the file", leaf(foreign))
	row("an issuer nobody here has, published", check.IssuerUnknown, "not sent", "published at http://ca.test/f.der,",
		leaf(foreign, func(t *x509.Certificate) { t.IssuingCertificateURL = []string{"http://ca.test/f.der"} }))
	row("signed by itself", check.SelfSigned, "signed itself", "from a CA that these clients trust", leaf(nil))
	row("of a CA's name, by nobody's key", check.IssuerOther, "was not made by the key",
		"put the certificate of Harbour Issuing",
		pkitest.Issue(&x509.Certificate{Subject: pkix.Name{CommonName: "Harbour Issuing"}, DNSNames: []string{host}},
			pkitest.CA("Harbour Issuing", nil), nil))
	old := pkitest.Forge(pkitest.CA("Faulty", w.root), w.root, func(b *pkitest.Body) { b.Version, b.Extensions = 0, nil })
	row("a CA of version 1", check.IssuerNoCA, "of version 1, which cannot say that it is a CA", "issued by a CA",
		leaf(old), old)
	last := w.root
	var long []*pkitest.Entity
	for i := range 9 {
		last = pkitest.CA(fmt.Sprintf("Link %d", i), last)
		long = append([]*pkitest.Entity{last}, long...)
	}
	row("a path too long", check.PathTooLong, "more paths than are tried", "the few certificates that lead to the root",
		append([]*pkitest.Entity{leaf(last)}, long...)...)
	row("another spelling of the issuer", "", "", "", respelt(leaf(w.sub), w.sub), w.sub, w.ca)
}

// respelt writes the issuer's name in another case, with more blanks and as
// another kind of string (RFC 5280 section 7.1).
func respelt(e, by *pkitest.Entity) *pkitest.Entity {
	return pkitest.Forge(e, by, func(b *pkitest.Body) {
		name, err := asn1.Marshal(pkix.RDNSequence{{{Type: asn1.ObjectIdentifier{2, 5, 4, 3},
			Value: asn1.RawValue{Tag: asn1.TagUTF8String, Bytes: []byte("  harbour   ISSUING ")}}}})
		if err != nil {
			panic(err)
		}
		b.Issuer = asn1.RawValue{FullBytes: name}
	})
}

// ofConstraints holds every form of name against a CA that permits or excludes
// it.
func (w *world) ofConstraints(row addRow, leaf func(*pkitest.Entity, ...change) *pkitest.Entity) {
	network := func(text string) []*net.IPNet {
		_, n, _ := net.ParseCIDR(text)
		return []*net.IPNet{n}
	}
	mail := func(list ...string) change { return func(t *x509.Certificate) { t.EmailAddresses = list } }
	uri := func(text string) change {
		return func(t *x509.Certificate) { u, _ := url.Parse(text); t.URIs = []*url.URL{u} }
	}
	subject := func(n pkix.Name) change { return func(t *x509.Certificate) { t.Subject = n } }
	dns := func(list ...string) change {
		return func(t *x509.Certificate) { t.DNSNames = append([]string{host}, list...) }
	}
	ferries, barges := pkix.Name{Organization: []string{"Ferries"}}, pkix.Name{Organization: []string{"Barges"}}
	mailed := pkix.Name{ExtraNames: []pkix.AttributeTypeAndValue{{Type: asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 1},
		Value: "harbour@trains.example"}}}
	alternative := func(t *x509.Certificate) {
		dir, _ := asn1.Marshal(pkix.Name{Organization: []string{"Trains"}}.ToRDNSequence())
		value := append([]byte{0x82, byte(len(host))}, host...)
		value = append(append(value, 0xA4, byte(len(dir))), dir...)
		t.Subject = pkix.Name{}
		t.ExtraExtensions = []pkix.Extension{{Id: asn1.ObjectIdentifier{2, 5, 29, 17},
			Value: append([]byte{0x30, byte(len(value))}, value...)}}
	}
	for name, c := range map[string]struct {
		ca, leaf change
		broken   string
	}{
		"DNS, within":         {func(t *x509.Certificate) { t.PermittedDNSDomains = []string{"lantern.example"} }, nil, ""},
		"DNS, case":           {func(t *x509.Certificate) { t.PermittedDNSDomains = []string{"LANTERN.example"} }, nil, ""},
		"DNS, below":          {func(t *x509.Certificate) { t.PermittedDNSDomains = []string{".lantern.example"} }, nil, ""},
		"DNS, outside":        {func(t *x509.Certificate) { t.PermittedDNSDomains = []string{"trains.example"} }, nil, host},
		"DNS, a longer label": {func(t *x509.Certificate) { t.PermittedDNSDomains = []string{"ntern.example"} }, nil, host},
		"DNS, excluded":       {func(t *x509.Certificate) { t.ExcludedDNSDomains = []string{"lantern.example"} }, nil, host},
		"DNS, excluded with a final dot": {
			func(t *x509.Certificate) { t.ExcludedDNSDomains = []string{"trains.example"} }, dns("b.trains.example."),
			"b.trains"},
		"DNS, a wildcard over what is excluded": {
			func(t *x509.Certificate) { t.ExcludedDNSDomains = []string{"b.trains.example"} }, dns("*.trains.example"),
			"*.trains"},
		"DNS, a wildcard beside it": {
			func(t *x509.Certificate) { t.ExcludedDNSDomains = []string{"b.c.trains.example"} }, dns("*.trains.example"), ""},
		"DNS, one of two outside": {
			func(t *x509.Certificate) { t.PermittedDNSDomains = []string{"lantern.example"} }, dns("b.trains.example"),
			"b.trains"},
		"address, within": {func(t *x509.Certificate) { t.PermittedIPRanges = network("192.0.2.0/24") },
			func(t *x509.Certificate) { t.IPAddresses = []net.IP{{192, 0, 2, 7}} }, ""},
		"address, outside": {func(t *x509.Certificate) { t.PermittedIPRanges = network("192.0.2.0/24") },
			func(t *x509.Certificate) { t.IPAddresses = []net.IP{{198, 51, 100, 7}} }, "198.51.100.7"},
		"address, of the other family": {func(t *x509.Certificate) { t.PermittedIPRanges = network("192.0.2.0/24") },
			func(t *x509.Certificate) { t.IPAddresses = []net.IP{net.ParseIP("2001:db8::1")} }, "2001:db8::1"},
		"address, excluded": {func(t *x509.Certificate) { t.ExcludedIPRanges = network("0.0.0.0/0") },
			func(t *x509.Certificate) { t.IPAddresses = []net.IP{{192, 0, 2, 7}} }, "192.0.2.7"},
		"e-mail, its host": {func(t *x509.Certificate) { t.PermittedEmailAddresses = []string{"ferries.example"} },
			mail("a@FERRIES.example"), ""},
		"e-mail, another host": {func(t *x509.Certificate) { t.PermittedEmailAddresses = []string{"ferries.example"} },
			mail("a@trains.example"), "a@trains.example"},
		"e-mail, a mailbox": {func(t *x509.Certificate) { t.ExcludedEmailAddresses = []string{"a@ferries.example"} },
			mail("a@ferries.example"), "a@ferries.example"},
		"e-mail, another mailbox": {func(t *x509.Certificate) { t.ExcludedEmailAddresses = []string{"a@ferries.example"} },
			mail("A@ferries.example"), ""},
		"e-mail, in the subject": {func(t *x509.Certificate) { t.ExcludedEmailAddresses = []string{"trains.example"} },
			subject(mailed), "harbour@trains.example"},
		"URI, within": {func(t *x509.Certificate) { t.PermittedURIDomains = []string{".ferries.example"} },
			uri("https://a.ferries.example/"), ""},
		"URI, the domain itself": {func(t *x509.Certificate) { t.PermittedURIDomains = []string{".ferries.example"} },
			uri("https://ferries.example/"), "ferries.example"},
		"URI, excluded": {func(t *x509.Certificate) { t.ExcludedURIDomains = []string{"ferries.example"} },
			uri("https://FERRIES.example/"), "FERRIES.example"},
		"URI, an address": {func(t *x509.Certificate) { t.ExcludedURIDomains = []string{"ferries.example"} },
			uri("https://192.0.2.1/"), "without a host name"},
		"URI, without a host": {func(t *x509.Certificate) { t.ExcludedURIDomains = []string{"ferries.example"} },
			uri("urn:ferries:1"), "without a host name"},
		"directory, within": {
			directories(0, ferries), subject(pkix.Name{Organization: []string{"ferries"}, CommonName: "x"}), ""},
		"directory, outside": {
			directories(0, ferries), subject(pkix.Name{Organization: []string{"Trains"}}), "directory name"},
		"directory, longer": {
			directories(0, ferries), subject(pkix.Name{Organization: []string{"Ferries2"}}), "directory name"},
		"directory, no subject": {directories(0, ferries), subject(pkix.Name{}), ""},
		"directory, excluded": {
			directories(1, barges), subject(pkix.Name{Organization: []string{"BARGES "}}), "directory name"},
		"directory, alternative":  {directories(0, ferries), alternative, "directory name"},
		"directory, not excluded": {directories(1, barges), alternative, ""},
	} {
		ca := pkitest.CA("Faulty", w.root, c.ca)
		below := pkitest.CA("Below", ca, func(t *x509.Certificate) { t.Subject.Organization = []string{"Ferries"} })
		changes := []change{}
		if c.leaf != nil {
			changes = append(changes, c.leaf)
		}
		code, remedy := check.Code(""), ""
		if c.broken != "" {
			code, remedy = check.NameConstraint, "issued without that name, or by a CA that may vouch for it"
		}
		row("constraint: "+name, code, c.broken, remedy, leaf(ca, changes...), ca)
		row("constraint, two below: "+name, code, c.broken, remedy, leaf(below, changes...), below, ca)
	}
}

// ofLeaves are the faults of the certificate itself: it is issued anew, and no
// other CA is asked for.
func (w *world) ofLeaves(t *testing.T, row addRow, good func(...change) *pkitest.Entity) {
	rest := []*pkitest.Entity{w.sub, w.ca}
	served := func(name string, code check.Code, cause, remedy string, change ...change) {
		row(name, code, cause, remedy, append([]*pkitest.Entity{good(change...)}, rest...)...)
	}
	usage := func(list ...x509.ExtKeyUsage) change { return func(t *x509.Certificate) { t.ExtKeyUsage = list } }
	served("for mail", check.NotForServers, host+": is not allowed", "issued anew for TLS servers",
		usage(x509.ExtKeyUsageEmailProtection))
	served("for clients", check.NotForServers, host+": is not allowed", "issued anew for TLS servers",
		usage(x509.ExtKeyUsageClientAuth))
	served("for both", "", "", "", usage(x509.ExtKeyUsageClientAuth, x509.ExtKeyUsageServerAuth))
	served("for what it likes", "", "", "", usage())
	served("a critical extension", check.CriticalExtension, "not understood (1.2.3.4)",
		"anew without that extension", critical)
	served("may not sign a handshake", check.KeyUsageWrong, "keyUsage lacks digitalSignature",
		"key usage digitalSignature",
		func(t *x509.Certificate) { t.KeyUsage = x509.KeyUsageKeyAgreement })
	served("a key usage not told", "", "", "", func(t *x509.Certificate) { t.KeyUsage = 0 })
	served("a policy", "", "", "", policy(7))
	served("a life too long", check.LifetimeOverLimit, "public certificates issued on", "with a shorter life",
		pkitest.Valid(-24*time.Hour, 199*24*time.Hour))
	served("ended a second ago", check.Expired, "ended 1 seconds ago", "renew it and install",
		pkitest.Valid(-24*time.Hour, -time.Second))
	served("ends this second", check.EndsSoon, "ends in 0 seconds", "renew it now", pkitest.Valid(-240*time.Hour, 0))
	served("ends within the hour", check.EndsSoon, "ends in 50 minutes", "renew it now",
		pkitest.Valid(-2400*time.Hour, 50*time.Minute))
	served("begins this second", "", "", "", pkitest.Valid(0, 24*80*time.Hour))
	served("begins in a while", check.NotYetValid, "begins in 5 hours", "check the clocks",
		pkitest.Valid(5*time.Hour, 240*time.Hour))
	served("another name", check.NameNotCovered, "does not cover", "a certificate that lists "+host,
		func(t *x509.Certificate) { t.DNSNames = []string{"b.lantern.example"} })
	served("a final dot", check.NameNotCovered, "listed with a final dot", "lists "+host,
		func(t *x509.Certificate) { t.DNSNames = []string{host + "."} })
	served("a wildcard", "", "", "", func(t *x509.Certificate) { t.DNSNames = []string{"*.lantern.example"} })
	key := func(name string, code check.Code, cause string, key crypto.Signer) {
		c := pkitest.Issue(&x509.Certificate{DNSNames: []string{host}, KeyUsage: x509.KeyUsageDigitalSignature}, w.sub, key)
		remedy := "anew with a key of ECDSA P-256"
		if code == "" {
			remedy = ""
		}
		row("key "+name, code, cause, remedy, append([]*pkitest.Entity{c}, rest...)...)
	}
	for bits, code := range map[int]check.Code{1024: check.KeyWeak, 2047: check.KeyWeak, 2048: ""} {
		k, err := rsa.GenerateKey(rand.Reader, bits)
		require.NoError(t, err)
		key(fmt.Sprint("RSA ", bits), code,
			map[bool]string{true: fmt.Sprint("RSA ", bits, "; clients expect")}[code != ""], k)
	}
	for curve, cause := range map[elliptic.Curve]string{elliptic.P224(): "a curve that no browser takes",
		elliptic.P256(): "",
		elliptic.P384(): "", elliptic.P521(): "some browsers do not take"} {
		k, err := ecdsa.GenerateKey(curve, rand.Reader)
		require.NoError(t, err)
		code := check.KeyWeak
		if cause == "" {
			code = ""
		}
		key(curve.Params().Name, code, cause, k)
	}
	_, ed, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	key("Ed25519", check.KeyWeak, "Ed25519, which browsers do not take", ed)
	old, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	ca := pkitest.Issue(&x509.Certificate{Subject: pkix.Name{CommonName: "Old Hash"}, IsCA: true,
		BasicConstraintsValid: true,
		KeyUsage:              x509.KeyUsageCertSign}, w.root, old)
	sha1 := pkitest.Leaf(ca, host, func(t *x509.Certificate) { t.SignatureAlgorithm = x509.SHA1WithRSA })
	row("signed over SHA-1", check.SignatureWeak, host+": is signed with SHA1-RSA",
		"issued anew with a signature over SHA-256", sha1, ca)
	above := pkitest.CA("Signed Of Old", ca, func(t *x509.Certificate) { t.SignatureAlgorithm = x509.SHA1WithRSA })
	row("an issuer signed over SHA-1", check.SignatureWeak, "Signed Of Old: is signed with SHA1-RSA",
		"serve the certificate of Signed Of Old that is signed over SHA-256", pkitest.Leaf(above, host), above, ca)
}

// ofForms are certificates crypto/x509 refuses to read: they are told as what
// they are, and judged all the same.
func (w *world) ofForms(row addRow) {
	forged := func(name string, code check.Code, cause string, change func(*pkitest.Body)) *pkitest.Entity {
		c := pkitest.Forge(pkitest.Leaf(w.sub, host), w.sub, change)
		row("form: "+name, code, cause, "issue the certificate anew", c, w.sub, w.ca)
		return c
	}
	extension := func(last int, critical bool, value ...byte) func(*pkitest.Body) {
		return func(b *pkitest.Body) {
			b.Extensions = append(b.Extensions, pkix.Extension{Id: asn1.ObjectIdentifier{2, 5, 29, last}, Critical: critical,
				Value: value})
		}
	}
	forged("serial negative", check.SerialBad, "not positive", func(b *pkitest.Body) { b.Serial = big.NewInt(-5) })
	forged("serial zero", check.SerialBad, "not positive", func(b *pkitest.Body) { b.Serial = big.NewInt(0) })
	forged("serial long", check.SerialBad, "is 21 octets long", func(b *pkitest.Body) {
		b.Serial = new(big.Int).Lsh(big.NewInt(1), 160)
	})
	forged("broken UTF-8", check.FormBroken, "a text in the name of its subject", func(b *pkitest.Body) {
		b.Subject = asn1.RawValue{FullBytes: []byte{0x30, 0x0E, 0x31, 0x0C, 0x30, 0x0A, 6, 3, 0x55, 4, 3, 0x0C, 3, 'f',
			0xFF, 'x'}}
	})
	forged("no version there is", check.FormBroken, "of version 4, and there is none",
		func(b *pkitest.Body) { b.Version = 3 })
	forged("an extension twice", check.FormBroken, "basicConstraints is in it twice", func(b *pkitest.Body) {
		for _, e := range b.Extensions {
			if e.Id.Equal(asn1.ObjectIdentifier{2, 5, 29, 19}) {
				b.Extensions = append(b.Extensions, e)
				return
			}
		}
	})
	forged("a CRL issuer relative to its name", check.FormBroken, "cRLDistributionPoints is not in the form",
		extension(31, false, 0x30, 0x13, 0x30, 0x11, 0xA0, 0x0F, 0xA1, 0x0D, 0x31, 0x0B, 0x30, 9, 6, 3, 0x55, 4, 3, 0x0C,
			2, 'x', 'y'))
	forged("rubbish for a CRL's place", check.FormBroken, "cRLDistributionPoints is not in the form",
		extension(31, false, 1, 2, 3))
	forged("a time with fractions", check.FormBroken, "the end of its validity", func(b *pkitest.Body) {
		from := pkitest.Now.Add(-time.Hour).Format("060102150405Z")
		until := pkitest.Now.AddDate(0, 2, 0).Format("20060102150405.5Z")
		body := append([]byte{0x17, byte(len(from))}, from...)
		body = append(append(body, 0x18, byte(len(until))), until...)
		b.Validity = asn1.RawValue{FullBytes: append([]byte{0x30, byte(len(body))}, body...)}
	})
	forged("an alternative name that is none", check.FormBroken, "subjectAltName is not in the form",
		func(b *pkitest.Body) {
			for i, e := range b.Extensions {
				if e.Id.Equal(asn1.ObjectIdentifier{2, 5, 29, 17}) {
					value := append(append([]byte{0x82, byte(len(host))}, host...), 0x82, 2, 0xC3, 0xA4)
					b.Extensions[i].Value = append([]byte{0x30, byte(len(value))}, value...)
				}
			}
		})
	forged("a key of a curve nobody has", check.KeyWeak, "of a kind that clients do not know", func(b *pkitest.Body) {
		b.Key = asn1.RawValue{
			FullBytes: append([]byte{0x30, 0x1A, 0x30, 0x14, 6, 7, 0x2A, 0x86, 0x48, 0xCE, 0x3D, 2, 1, 6, 9, 0x2B,
				0x24, 3, 3, 2, 8, 1, 1, 7}, 3, 2, 0, 4)}
	})
}

// ofLists are lists put together in every way people do.
func (w *world) ofLists(row addRow, good func(...change) *pkitest.Entity) {
	c := good()
	stray := pkitest.CA("Stray", pkitest.CA("x", nil))
	other := pkitest.Leaf(w.sub, "b.lantern.example")
	row("in order", "", "", "", c, w.sub, w.ca)
	row("without an intermediate that is declared", check.ChainIncomplete, "does not send the intermediate Harbour CA",
		"add the intermediate Harbour CA to the certificate file", c, w.sub)
	row("without both", check.ChainIncomplete, "Harbour Issuing and Harbour CA", "after the leaf", c)
	row("with its root", check.ChainRootSent, "the root Harbour Root", "clients use their own copy", c, w.sub,
		w.ca, w.root)
	row("disordered", check.ChainDisordered, "Harbour CA stands before", "leaf, its issuer", c, w.ca, w.sub)
	row("twice", check.ChainDuplicate, "Harbour CA is sent more than once", "second copy", c, w.sub, w.ca, w.ca)
	row("the leaf twice", check.ChainDuplicate, host+" is sent more than once", "second copy", c, c, w.sub, w.ca)
	row("a stray", check.ChainStray, "Stray belongs to no path", "take it out", c, w.sub, w.ca, stray)
	row("another host's beside", check.ChainStray, "b.lantern.example belongs to no path", "take it out", c, w.sub,
		w.ca, other)
	crossed := pkitest.Issue(&x509.Certificate{Subject: pkix.Name{CommonName: "Harbour CA"}, IsCA: true,
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}, pkitest.CA("Old Root", nil), w.ca.Key)
	row("the intermediate as an old root issued it", check.ChainIncomplete,
		"Harbour CA as Harbour Root issued it (another of that name is sent)",
		"put the intermediate Harbour CA as Harbour Root issued it in the place of the other one of that name in", c,
		w.sub, crossed)
	rolled := pkitest.Issue(&x509.Certificate{Subject: pkix.Name{CommonName: "Harbour CA"}, IsCA: true,
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}, w.ca, nil)
	row("a CA's new key, signed by its old one", "", "", "", pkitest.Leaf(rolled, host), rolled, w.ca)
}

// TestTheTable judges every row: its code alone, its cause and its remedy, and
// of no other host a word.
func TestTheTable(t *testing.T) {
	w := newWorld()
	w.crew = pkitest.CA("Crew Root", nil)
	judge := check.NewJudge([]*trust.Audience{trust.NewAudience("browsers", true, pkitest.List(w.root)),
		trust.NewAudience("in-house", false, pkitest.List(w.crew))}, chain.NewKnown(w.sub.Certificate, w.ca.Certificate))
	rows := w.judgements(t)
	require.GreaterOrEqual(t, len(rows), 120)
	for _, r := range rows {
		t.Run(r.name, func(t *testing.T) {
			j := judge.Judge(target, seen(r.list...), pkitest.Now, check.Around{})
			if r.code == "" {
				assert.Empty(t, j.Findings)
				return
			}
			require.Equal(t, []check.Code{r.code}, codes(j.Findings), j.Findings)
			f := j.Findings[0]
			assert.Contains(t, f.Cause, r.cause)
			assert.Contains(t, f.Remedy, r.remedy)
			if r.code != check.ChainUntrusted {
				assert.NotContains(t, f.Remedy, "from a CA these clients trust, or", "a new CA is no way out")
			}
			assert.Equal(t, r.list[0].Fingerprint, j.Leaf().Fingerprint, "it is kept in the inventory")
		})
	}
	first := []*pkitest.Entity{w.sub, w.ca, pkitest.Leaf(w.sub, host)}
	j := judge.Judge(target, seen(first...), pkitest.Now, check.Around{})
	assert.Equal(t, []check.Code{"name-not-covered", "chain-disordered"}, codes(j.Findings))
	for _, f := range j.Findings {
		assert.Equal(t, "put the host's certificate first in the file", f.Remedy, "the site's own leaf is never taken out")
	}
	for _, moment := range []time.Duration{0, 50 * time.Minute} {
		ending := pkitest.Leaf(w.sub, host, pkitest.Valid(-2400*time.Hour, moment))
		j := judge.Judge(target, seen(ending, w.sub, w.ca), pkitest.Now, check.Around{})
		assert.NotEqual(t, "agreed", string(j.Verdict), "moments before its end")
	}
	w.unreadable(t, judge)
	broken := pkitest.Forge(pkitest.Leaf(w.sub, host), w.sub, func(b *pkitest.Body) { b.Version = 3 })
	assert.Contains(t, strings.Join(broken.Flaws, ""), "version 4")
	_, err := certs.Parse([]byte{0x30, 3, 2, 1, 5})
	assert.Error(t, err)
	assert.Panics(t, func() {
		pkitest.Forge(pkitest.Leaf(w.sub, host), w.sub, func(b *pkitest.Body) {
			b.Version = 3
			for i := range 3000 {
				b.Extensions = append(b.Extensions, pkix.Extension{Id: asn1.ObjectIdentifier{1, 2, 3, i}, Value: []byte{5, 0}})
			}
		})
	}, "what is broken and has no end is not looked into")
}

// unreadable holds that what cannot be read is never taken for absent: a
// restriction of a CA or of a certificate, or a name a CA may not vouch for.
func (w *world) unreadable(t *testing.T, judge *check.Judge) {
	for _, last := range []int{15, 19, 30, 33, 36, 37, 54} {
		id := asn1.ObjectIdentifier{2, 5, 29, last}
		spoilt := func(e, by *pkitest.Entity) *pkitest.Entity {
			return pkitest.Forge(e, by, func(b *pkitest.Body) {
				for i := range b.Extensions {
					if b.Extensions[i].Id.Equal(id) {
						b.Extensions[i].Value, id = []byte{4, 1}, nil
						return
					}
				}
				b.Extensions = append(b.Extensions, pkix.Extension{Id: id, Value: []byte{4, 1}})
			})
		}
		ca := spoilt(pkitest.CA("Faulty", w.root), w.root)
		for _, list := range [][]*pkitest.Entity{{pkitest.Leaf(ca, host), ca}} {
			j := judge.Judge(target, seen(list...), pkitest.Now, check.Around{})
			assert.True(t, j.Has(check.CriticalExtension) || j.Has(check.IssuerNoCA), "2.5.29.%d: %s", last, codes(j.Findings))
			assert.Contains(t, j.Findings[0].Evidence[1].Value, "Faulty", last)
		}
	}
	both := pkitest.Forge(pkitest.Leaf(w.sub, host, critical), w.sub, func(b *pkitest.Body) { b.Version = 3 })
	assert.True(t, judge.Judge(target, seen(both, w.sub, w.ca), pkitest.Now, check.Around{}).Has(check.CriticalExtension),
		"a broken form does not make what is critical harmless")
	bound := pkitest.CA("Bound", w.root, func(t *x509.Certificate) { t.ExcludedDNSDomains = []string{"trains.example"} })
	half := pkitest.Forge(pkitest.Leaf(bound, host), bound, func(b *pkitest.Body) {
		for i, e := range b.Extensions {
			if e.Id.Equal(asn1.ObjectIdentifier{2, 5, 29, 17}) {
				value := append(append([]byte{0x82, byte(len(host))}, host...), 0x82, 2, 0xC3, 0xA4)
				b.Extensions[i].Value = append([]byte{0x30, byte(len(value))}, value...)
			}
		}
	})
	j := judge.Judge(target, seen(half, bound), pkitest.Now, check.Around{})
	assert.True(t, j.Has(check.NameConstraint), codes(j.Findings))
}
