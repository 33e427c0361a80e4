package certs

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"fmt"
	"math/big"
	"net"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/crypto/cryptobyte"
	tags "golang.org/x/crypto/cryptobyte/asn1"
)

// flawed is a certificate that strict readers refuse, taken apart so that what
// is wrong in it can be set aside and the rest be read (RFC 5280 section 4.1).
type flawed struct {
	outer, inner          cryptobyte.String // signature algorithm, outside and inside, whole elements
	signature             cryptobyte.String // whole element
	tbs                   cryptobyte.String // whole element, as signed
	version               int
	serial                cryptobyte.String // contents
	issuer, subject       cryptobyte.String // whole elements
	begins, ends          cryptobyte.String // whole elements
	key                   cryptobyte.String // whole element
	extensions            []pkix.Extension  // in order
	flaws                 []string          // found so far
	setAsideOf            []pkix.Extension  // that could not be read
	issuerRaw, subjectRaw cryptobyte.String // as they stand, to be compared and shown by
}

// mended reads a certificate whose form is broken: what a strict reader stops at
// is set aside and told as a flaw. The result has the bytes of the original
// wherever bytes are compared, signed or shown. nil when it is no certificate.
func mended(der []byte, refused error) *Certificate {
	f := takenApart(der)
	if f == nil {
		return nil
	}
	extensions := f.extensions
	f.extensions = nil
	f.setAside()
	key := f.key
	if _, err := x509.ParseCertificate(f.whole()); err != nil {
		f.key = unknownKey // the kind of key is judged as such, it is no matter of form
	}
	for i, e := range extensions {
		f.take(e, extensions[:i])
	}
	x, err := x509.ParseCertificate(f.whole())
	if err != nil {
		return nil
	}
	if len(f.flaws) == 0 && string(key) == string(f.key) {
		f.flaw(strings.TrimPrefix(refused.Error(), "x509: "))
	}
	f.restore(x, der, extensions)
	x.RawSubjectPublicKeyInfo = key
	return &Certificate{Certificate: x, Flaws: f.flaws, SetAside: f.setAsideOf}
}

// flaw keeps what is wrong, once.
func (f *flawed) flaw(text string) {
	if !slices.Contains(f.flaws, text) {
		f.flaws = append(f.flaws, text)
	}
}

// takenApart reads the parts of a certificate, whatever is in them; nil when
// they are not those of one.
func takenApart(der []byte) *flawed {
	f := &flawed{version: 1}
	input := cryptobyte.String(der)
	var whole, tbs, validity cryptobyte.String
	if !input.ReadASN1(&whole, tags.SEQUENCE) || !input.Empty() || !whole.ReadASN1Element(&f.tbs, tags.SEQUENCE) ||
		!whole.ReadASN1Element(&f.outer, tags.SEQUENCE) || !whole.ReadASN1Element(&f.signature, tags.BIT_STRING) {
		return nil
	}
	element := f.tbs
	if !element.ReadASN1(&tbs, tags.SEQUENCE) {
		return nil
	}
	var version cryptobyte.String
	var given bool
	if !tbs.ReadOptionalASN1(&version, &given, tags.Tag(0).Constructed().ContextSpecific()) ||
		given && (!version.ReadASN1Integer(&f.version) || f.version < 0) {
		return nil
	}
	if given {
		f.version++
	}
	if !tbs.ReadASN1(&f.serial, tags.INTEGER) || !tbs.ReadASN1Element(&f.inner, tags.SEQUENCE) ||
		!tbs.ReadASN1Element(&f.issuer, tags.SEQUENCE) || !tbs.ReadASN1(&validity, tags.SEQUENCE) ||
		!tbs.ReadASN1Element(&f.subject, tags.SEQUENCE) || !tbs.ReadASN1Element(&f.key, tags.SEQUENCE) {
		return nil
	}
	var tag tags.Tag
	if !validity.ReadAnyASN1Element(&f.begins, &tag) || !validity.ReadAnyASN1Element(&f.ends, &tag) ||
		!f.readExtensions(tbs) {
		return nil
	}
	f.issuerRaw, f.subjectRaw = f.issuer, f.subject
	return f
}

// readExtensions reads what follows the key; the unique identifiers of old
// certificates are passed over.
func (f *flawed) readExtensions(tbs cryptobyte.String) bool {
	for _, unique := range []tags.Tag{1, 2} {
		var id cryptobyte.String
		var given bool
		if !tbs.ReadOptionalASN1(&id, &given, unique.ContextSpecific()) {
			return false
		}
	}
	var explicit, list cryptobyte.String
	var given bool
	if !tbs.ReadOptionalASN1(&explicit, &given, tags.Tag(3).Constructed().ContextSpecific()) {
		return false
	}
	if !given {
		return true
	}
	if !explicit.ReadASN1(&list, tags.SEQUENCE) {
		return false
	}
	for !list.Empty() {
		var one, value cryptobyte.String
		var e pkix.Extension
		if !list.ReadASN1(&one, tags.SEQUENCE) || !one.ReadASN1ObjectIdentifier(&e.Id) ||
			one.PeekASN1Tag(tags.BOOLEAN) && !one.ReadASN1Boolean(&e.Critical) || !one.ReadASN1(&value, tags.OCTET_STRING) {
			return false
		}
		e.Value = value
		if f.extensions = append(f.extensions, e); len(f.extensions) > mostExtensions {
			return false
		}
	}
	return true
}

// mostExtensions bounds what is tried of a certificate whose form is broken, one
// extension after the other; sound ones have about ten.
const mostExtensions = 64

// setAside puts something harmless in the place of each part that a strict
// reader would stop at, and tells why.
func (f *flawed) setAside() {
	if n := serialOf(f.serial); n.Sign() < 0 {
		f.flaw("its serial number is negative")
	} else if len(f.serial) == 0 || len(f.serial) > 1 && f.serial[0] == 0 && f.serial[1] < 0x80 {
		f.flaw("its serial number is not encoded in the shortest form")
	}
	if f.version > 3 {
		f.flaw(fmt.Sprintf("it says to be of version %d, and there is none after 3", f.version))
	}
	if string(f.inner) != string(f.outer) {
		f.flaw("the signature algorithm named inside is not the one named outside")
	}
	f.issuer = f.name(f.issuer, "issuer")
	f.subject = f.name(f.subject, "subject")
	f.begins = f.moment(f.begins, "beginning")
	f.ends = f.moment(f.ends, "end")
}

// serialOf reads an INTEGER's contents in whatever form.
func serialOf(contents []byte) *big.Int {
	n := new(big.Int).SetBytes(contents)
	if len(contents) > 0 && contents[0] >= 0x80 {
		n.Sub(n, new(big.Int).Lsh(big.NewInt(1), uint(len(contents))*8))
	}
	return n
}

// name writes a distinguished name anew with every text readable; the original
// stays when nothing is wrong with it or it cannot be read at all.
func (f *flawed) name(element cryptobyte.String, which string) cryptobyte.String {
	var rdns pkix.RDNSequence
	if rest, err := asn1.Unmarshal(element, &rdns); err == nil && len(rest) == 0 {
		return element
	}
	f.flaw("a text in the name of its " + which + " is not in the form it says")
	in := element
	var list cryptobyte.String
	if !in.ReadASN1(&list, tags.SEQUENCE) {
		return element
	}
	var b cryptobyte.Builder
	ok := true
	b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
		for ok && !list.Empty() {
			var set cryptobyte.String
			ok = list.ReadASN1(&set, tags.SET)
			b.AddASN1(tags.SET, func(b *cryptobyte.Builder) {
				for ok && !set.Empty() {
					ok = readable(b, &set)
				}
			})
		}
	})
	if out, err := b.Bytes(); err == nil && ok {
		return out
	}
	return element
}

// readable writes one attribute of a name with its text as UTF-8.
func readable(b *cryptobyte.Builder, set *cryptobyte.String) bool {
	var pair, kind, value cryptobyte.String
	var tag tags.Tag
	if !set.ReadASN1(&pair, tags.SEQUENCE) || !pair.ReadASN1Element(&kind, tags.OBJECT_IDENTIFIER) ||
		!pair.ReadAnyASN1(&value, &tag) {
		return false
	}
	text, ok := decoded(tag, value)
	if !ok || !utf8.ValidString(text) {
		text = strings.ToValidUTF8(string(value), "\uFFFD")
	}
	b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddBytes(kind)
		b.AddASN1(tags.UTF8String, func(b *cryptobyte.Builder) { b.AddBytes([]byte(text)) })
	})
	return true
}

// moments are the forms in which a time is met that is not in the one form RFC
// 5280 section 4.1.2.5 allows: without seconds, with fractions, with a zone.
var moments = map[tags.Tag][]string{
	tags.UTCTime: {"060102150405Z0700", "0601021504Z0700"},
	tags.GeneralizedTime: {"20060102150405Z0700", "20060102150405.999999999Z0700", "200601021504Z0700",
		"20060102150405"},
}

// moment writes a time anew in the form it should have.
func (f *flawed) moment(element cryptobyte.String, which string) cryptobyte.String {
	var tag tags.Tag
	var contents cryptobyte.String
	in := element
	if !in.ReadAnyASN1(&contents, &tag) {
		return element
	}
	for _, layout := range moments[tag] {
		t, err := time.Parse(layout, string(contents))
		if err != nil {
			continue
		}
		if tag == tags.UTCTime && t.Year() >= 2050 {
			t = t.AddDate(-100, 0, 0)
		}
		var b cryptobyte.Builder
		if tag == tags.UTCTime {
			b.AddASN1UTCTime(t.UTC())
		} else {
			b.AddASN1GeneralizedTime(t.UTC().Truncate(time.Second))
		}
		out, err := b.Bytes()
		if err != nil || string(out) == string(element) {
			return element
		}
		f.flaw("the " + which + " of its validity is not written as a time in UTC to the second")
		return out
	}
	return element
}

// unknownKey stands in for a public key nobody here can read: an algorithm
// without meaning.
var unknownKey = func() []byte {
	var b cryptobyte.Builder
	b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddASN1ObjectIdentifier(asn1.ObjectIdentifier{2, 25, 1})
		})
		b.AddASN1BitString([]byte{0})
	})
	return b.BytesOrPanic()
}()

// whole puts the certificate together again.
func (f *flawed) whole() []byte {
	var b cryptobyte.Builder
	b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
			if version := min(f.version, 3); version > 1 {
				b.AddASN1(tags.Tag(0).Constructed().ContextSpecific(),
					func(b *cryptobyte.Builder) { b.AddASN1Int64(int64(version - 1)) })
			}
			b.AddASN1BigInt(new(big.Int).Abs(serialOf(f.serial)))
			for _, element := range []cryptobyte.String{f.inner, f.issuer} {
				b.AddBytes(element)
			}
			b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
				b.AddBytes(f.begins)
				b.AddBytes(f.ends)
			})
			b.AddBytes(f.subject)
			b.AddBytes(f.key)
			if len(f.extensions) > 0 {
				b.AddASN1(tags.Tag(3).Constructed().ContextSpecific(), f.addExtensions)
			}
		})
		b.AddBytes(f.inner)
		b.AddBytes(f.signature)
	})
	out, err := b.Bytes()
	if err != nil {
		return nil
	}
	return out
}

// addExtensions writes the extensions that are kept.
func (f *flawed) addExtensions(b *cryptobyte.Builder) {
	b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
		for _, e := range f.extensions {
			b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
				b.AddASN1ObjectIdentifier(e.Id)
				if e.Critical {
					b.AddASN1Boolean(true)
				}
				b.AddASN1OctetString(e.Value)
			})
		}
	})
}

// take keeps an extension when a certificate with it can be read; one that
// cannot is set aside and told.
func (f *flawed) take(e pkix.Extension, before []pkix.Extension) {
	if slices.ContainsFunc(before, func(o pkix.Extension) bool { return o.Id.Equal(e.Id) }) {
		f.flaw("the extension " + extensionName(e.Id) + " is in it twice")
		return
	}
	with := *f
	with.extensions = append(slices.Clone(f.extensions), e)
	if _, err := x509.ParseCertificate(with.whole()); err == nil {
		f.extensions = with.extensions
		return
	}
	f.flaw("its extension " + extensionName(e.Id) + " is not in the form it should have")
}

// extensionNames are the extensions of RFC 5280 section 4.2, as it calls them.
var extensionNames = map[string]string{
	"2.5.29.14": "subjectKeyIdentifier", "2.5.29.15": "keyUsage", "2.5.29.17": "subjectAltName",
	"2.5.29.19": "basicConstraints", "2.5.29.30": "nameConstraints", "2.5.29.31": "cRLDistributionPoints",
	"2.5.29.32": "certificatePolicies", "2.5.29.33": "policyMappings", "2.5.29.35": "authorityKeyIdentifier",
	"2.5.29.36": "policyConstraints", "2.5.29.37": "extKeyUsage", "2.5.29.54": "inhibitAnyPolicy",
	"1.3.6.1.5.5.7.1.1": "authorityInfoAccess",
}

// extensionName is an extension's name, or its number when it has none here.
func extensionName(id asn1.ObjectIdentifier) string {
	if name, ok := extensionNames[id.String()]; ok {
		return name
	}
	return id.String()
}

// ExtensionName is an extension as RFC 5280 calls it, with its number.
func ExtensionName(id asn1.ObjectIdentifier) string {
	if name, ok := extensionNames[id.String()]; ok {
		return name + ", " + id.String()
	}
	return id.String()
}

// restore gives the certificate read from the mended form the bytes and numbers
// of the original. Of a subjectAltName that was set aside the names that can be
// read are kept.
func (f *flawed) restore(x *x509.Certificate, der []byte, extensions []pkix.Extension) {
	x.Raw, x.RawTBSCertificate = der, f.tbs
	x.RawIssuer, x.RawSubject = f.issuerRaw, f.subjectRaw
	x.SerialNumber, x.Version = serialOf(f.serial), f.version
	x.Extensions = extensions
	for _, e := range extensions {
		if slices.ContainsFunc(f.extensions, func(o pkix.Extension) bool { return o.Id.Equal(e.Id) }) {
			continue
		}
		f.setAsideOf = append(f.setAsideOf, e)
		if e.Id.Equal(oidAltName) {
			x.DNSNames, x.IPAddresses = readableNames(e.Value)
		}
	}
}

// oidAltName is subjectAltName (RFC 5280 section 4.2.1.6).
var oidAltName = asn1.ObjectIdentifier{2, 5, 29, 17}

// readableNames takes the DNS names and addresses out of a subjectAltName in
// which something else is broken (RFC 5280 section 4.2.1.6).
func readableNames(value []byte) (dns []string, addresses []net.IP) {
	const tagDNS, tagIP = tags.Tag(2), tags.Tag(7)
	in := cryptobyte.String(value)
	var list cryptobyte.String
	if !in.ReadASN1(&list, tags.SEQUENCE) {
		return nil, nil
	}
	for !list.Empty() {
		var name cryptobyte.String
		var tag tags.Tag
		if !list.ReadAnyASN1(&name, &tag) {
			break
		}
		switch {
		case tag == tagDNS.ContextSpecific() && ascii(name):
			dns = append(dns, string(name))
		case tag == tagIP.ContextSpecific() && (len(name) == net.IPv4len || len(name) == net.IPv6len):
			addresses = append(addresses, net.IP(slices.Clone(name)))
		}
	}
	return dns, addresses
}

// ascii says whether an IA5String holds what it may.
func ascii(s []byte) bool { return !slices.ContainsFunc(s, func(b byte) bool { return b >= 0x80 }) }
