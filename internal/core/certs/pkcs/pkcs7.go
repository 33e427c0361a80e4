package pkcs

import (
	"encoding/asn1"

	"golang.org/x/crypto/cryptobyte"
	tags "golang.org/x/crypto/cryptobyte/asn1"
)

// Content types of RFC 5652 section 4, 5 and 8.
var (
	oidData          = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 1}
	oidSignedData    = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 2}
	oidEncryptedData = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 6}
)

// MostInside is how many certificates or keys one container may hold: the longest
// chains and the largest bundles of roots have far fewer.
const MostInside = 1000

// errMany says that there are more.
var errMany = &BrokenError{"list of certificates (more than 1,000 of them)"}

// Certificates takes the certificates out of a PKCS#7 container (RFC 5652 section
// 5.1), each in DER, in its order. Signatures in it are not looked at: what the
// certificates are worth is judged by themselves.
func Certificates(ber []byte) ([][]byte, error) {
	der, err := DER(ber)
	if err != nil {
		return nil, err
	}
	in := cryptobyte.String(der)
	var outer, explicit, signed, list cryptobyte.String
	var id asn1.ObjectIdentifier
	if !in.ReadASN1(&outer, tags.SEQUENCE) || !outer.ReadASN1ObjectIdentifier(&id) {
		return nil, &BrokenError{"form"}
	}
	if !id.Equal(oidSignedData) {
		return nil, &UnsupportedError{"a content with the identifier " + id.String() + ", where signed data was expected"}
	}
	if !outer.ReadASN1(&explicit, explicit0) || !explicit.ReadASN1(&signed, tags.SEQUENCE) ||
		!signed.SkipASN1(tags.INTEGER) || !signed.SkipASN1(tags.SET) || !signed.SkipASN1(tags.SEQUENCE) {
		return nil, &BrokenError{"signed data"}
	}
	var given bool
	if !signed.ReadOptionalASN1(&list, &given, explicit0) {
		return nil, &BrokenError{"list of certificates"}
	}
	var out [][]byte
	for !list.Empty() {
		var one cryptobyte.String
		var tag tags.Tag
		switch {
		case !list.ReadAnyASN1Element(&one, &tag):
			return nil, &BrokenError{"list of certificates"}
		case tag != tags.SEQUENCE: // an attribute certificate, or one of a form nobody uses (section 10.2.2)
			continue
		case len(out) == MostInside:
			return nil, errMany
		}
		out = append(out, one)
	}
	return out, nil
}

// Container writes certificates as a PKCS#7 container without content and without
// signatures (RFC 5652 section 5.1).
func Container(list [][]byte) ([]byte, error) {
	var b cryptobyte.Builder
	b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1ObjectIdentifier(oidSignedData)
		b.AddASN1(explicit0, func(b *cryptobyte.Builder) {
			b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
				b.AddASN1Int64(1)
				b.AddASN1(tags.SET, func(*cryptobyte.Builder) {})
				b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) { b.AddASN1ObjectIdentifier(oidData) })
				b.AddASN1(explicit0, func(b *cryptobyte.Builder) {
					for _, c := range list {
						b.AddBytes(c)
					}
				})
				b.AddASN1(tags.SET, func(*cryptobyte.Builder) {})
			})
		})
	})
	return b.Bytes()
}
