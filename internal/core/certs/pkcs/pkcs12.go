package pkcs

import (
	"crypto/hmac"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/asn1"
	"io"
	"unicode/utf16"

	"golang.org/x/crypto/cryptobyte"
	tags "golang.org/x/crypto/cryptobyte/asn1"
)

// Identifiers of RFC 7292 section 4.2 and RFC 2985 section 5.5.
var (
	oidKeyBag      = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 12, 10, 1, 1}
	oidShroudedBag = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 12, 10, 1, 2}
	oidCertBag     = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 12, 10, 1, 3}
	oidSafeBag     = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 12, 10, 1, 6}
	oidX509        = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 22, 1}
	oidAlias       = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 20}
	oidKeyID       = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 21}
)

// Bag is one object of a PKCS#12 container.
type Bag struct {
	DER   []byte // certificate, or key in PKCS#8
	Alias string // friendlyName, "" for none
	ID    []byte // localKeyId, the same for a key and its certificate; nil for none
}

// Store is what a PKCS#12 container holds, in its order.
type Store struct{ Keys, Certificates []Bag }

// Read opens a PKCS#12 container (RFC 7292 section 4) with its passphrase, which
// may be empty. The error is ErrPassphrase, an *UnsupportedError, a *BrokenError
// or a *CostError.
func Read(ber, text []byte, w *Work) (*Store, error) {
	der, err := DER(ber)
	if err != nil {
		return nil, err
	}
	in := cryptobyte.String(der)
	var outer, info, explicit cryptobyte.String
	var version int
	var kind asn1.ObjectIdentifier
	if !in.ReadASN1(&outer, tags.SEQUENCE) || !outer.ReadASN1Integer(&version) || version != 3 ||
		!outer.ReadASN1(&info, tags.SEQUENCE) || !info.ReadASN1ObjectIdentifier(&kind) || !info.ReadASN1(&explicit, explicit0) {
		return nil, &BrokenError{"form"}
	}
	if !kind.Equal(oidData) {
		return nil, &UnsupportedError{"a signature in place of a passphrase"}
	}
	content, ok := octets(&explicit, tags.OCTET_STRING)
	if !ok {
		return nil, &BrokenError{"content"}
	}
	p := newPassphrase(text)
	if !outer.Empty() {
		if p, err = verify(outer, content, p, w); err != nil {
			return nil, err
		}
	}
	out := &Store{}
	return out, out.contents(content, p, w)
}

// verify holds the content against its MAC (RFC 7292 section 5.1, RFC 9579). An
// empty passphrase has two forms in the field; the one that fits is given back.
func verify(mac cryptobyte.String, content []byte, p passphrase, w *Work) (passphrase, error) {
	var data, info, want, salt cryptobyte.String
	if !mac.ReadASN1(&data, tags.SEQUENCE) || !data.ReadASN1(&info, tags.SEQUENCE) {
		return p, &BrokenError{"MAC"}
	}
	a, ok := readAlgorithm(&info)
	if !ok || !info.ReadASN1(&want, tags.OCTET_STRING) || !data.ReadASN1(&salt, tags.OCTET_STRING) {
		return p, &BrokenError{"MAC"}
	}
	if a.id.Equal(oidPBMAC1) {
		return p, verifyPBMAC1(a, content, want, p, w)
	}
	rounds := 1
	if !data.Empty() && !data.ReadASN1Integer(&rounds) {
		return p, &BrokenError{"MAC"}
	}
	digest := hashes[a.id.String()]
	if digest == nil {
		return p, unknownDigest(a.id)
	}
	forms := []passphrase{p}
	if len(p.utf8) == 0 {
		forms = append(forms, passphrase{})
	}
	for _, form := range forms {
		if err := w.spend(rounds, 1); err != nil {
			return p, err
		}
		if sameMAC(digest, deriveKey12(digest, 3, form.bmp, salt, rounds, digest().Size()), content, want) {
			return form, nil
		}
	}
	return p, ErrPassphrase
}

// verifyPBMAC1 is verify for RFC 9579 section 5.
func verifyPBMAC1(a algorithm, content, want []byte, p passphrase, w *Work) error {
	var in cryptobyte.String
	if !a.parameters.ReadASN1(&in, tags.SEQUENCE) {
		return &BrokenError{"MAC"}
	}
	derivation, ok1 := readAlgorithm(&in)
	scheme, ok2 := readAlgorithm(&in)
	if !ok1 || !ok2 {
		return &BrokenError{"MAC"}
	}
	digest := hashes[scheme.id.String()]
	if digest == nil {
		return unknownDigest(scheme.id)
	}
	key, err := derive(derivation, p, digest().Size(), w)
	if err != nil {
		return err
	}
	if !sameMAC(digest, key, content, want) {
		return ErrPassphrase
	}
	return nil
}

// contents reads an AuthenticatedSafe (RFC 7292 section 4.1).
func (s *Store) contents(content []byte, p passphrase, w *Work) error {
	in := cryptobyte.String(content)
	var list cryptobyte.String
	if !in.ReadASN1(&list, tags.SEQUENCE) {
		return &BrokenError{"content"}
	}
	for !list.Empty() {
		var info, explicit cryptobyte.String
		var kind asn1.ObjectIdentifier
		if !list.ReadASN1(&info, tags.SEQUENCE) || !info.ReadASN1ObjectIdentifier(&kind) || !info.ReadASN1(&explicit, explicit0) {
			return &BrokenError{"content"}
		}
		var open []byte
		switch {
		case kind.Equal(oidData):
			var ok bool
			if open, ok = octets(&explicit, tags.OCTET_STRING); !ok {
				return &BrokenError{"content"}
			}
		case kind.Equal(oidEncryptedData):
			var err error
			if open, err = encryptedData(explicit, p, w); err != nil {
				return err
			}
		default:
			return &UnsupportedError{"encryption for a certificate in place of a passphrase"}
		}
		if err := s.bags(open, p, w, 0); err != nil {
			return err
		}
	}
	return nil
}

// encryptedData opens one (RFC 5652 section 8).
func encryptedData(in cryptobyte.String, p passphrase, w *Work) ([]byte, error) {
	var data, info cryptobyte.String
	if !in.ReadASN1(&data, tags.SEQUENCE) || !data.SkipASN1(tags.INTEGER) || !data.ReadASN1(&info, tags.SEQUENCE) ||
		!info.SkipASN1(tags.OBJECT_IDENTIFIER) {
		return nil, &BrokenError{"encrypted part"}
	}
	a, ok := readAlgorithm(&info)
	if !ok {
		return nil, &BrokenError{"encrypted part"}
	}
	sealed, ok := octets(&info, implicit0)
	if !ok {
		return nil, &BrokenError{"encrypted part"}
	}
	return decrypt(a, sealed, p, w)
}

// deepestBags is how deep bags may lie in bags.
const deepestBags = 4

// bags reads SafeContents (RFC 7292 section 4.2).
func (s *Store) bags(content []byte, p passphrase, w *Work, depth int) error {
	broken := &BrokenError{"list of bags"}
	in, err := DER(content) // BER again may be inside what was encrypted
	if err != nil {
		return ErrPassphrase
	}
	var list cryptobyte.String
	if outer := cryptobyte.String(in); depth > deepestBags || !outer.ReadASN1(&list, tags.SEQUENCE) {
		return broken
	}
	for !list.Empty() {
		var bag, value, attributes cryptobyte.String
		var kind asn1.ObjectIdentifier
		if !list.ReadASN1(&bag, tags.SEQUENCE) || !bag.ReadASN1ObjectIdentifier(&kind) || !bag.ReadASN1(&value, explicit0) ||
			!bag.Empty() && !bag.ReadASN1(&attributes, tags.SET) {
			return broken
		}
		one, ok := attributesOf(attributes)
		if !ok {
			return broken
		}
		if len(s.Keys)+len(s.Certificates) == MostInside {
			return errMany
		}
		switch {
		case kind.Equal(oidKeyBag):
			one.DER = value
			s.Keys = append(s.Keys, one)
		case kind.Equal(oidShroudedBag):
			var sealed cryptobyte.String
			if !value.ReadASN1(&sealed, tags.SEQUENCE) {
				return broken
			}
			a, ok := readAlgorithm(&sealed)
			data, whole := octets(&sealed, tags.OCTET_STRING)
			if !ok || !whole {
				return broken
			}
			if one.DER, err = openKey(a, data, p, w); err != nil {
				return err
			}
			s.Keys = append(s.Keys, one)
		case kind.Equal(oidCertBag):
			var cert, inside cryptobyte.String
			var form asn1.ObjectIdentifier
			if !value.ReadASN1(&cert, tags.SEQUENCE) || !cert.ReadASN1ObjectIdentifier(&form) || !cert.ReadASN1(&inside, explicit0) {
				return broken
			}
			if !form.Equal(oidX509) {
				continue
			}
			if one.DER, ok = octets(&inside, tags.OCTET_STRING); !ok {
				return broken
			}
			s.Certificates = append(s.Certificates, one)
		case kind.Equal(oidSafeBag):
			if err := s.bags(value, p, w, depth+1); err != nil {
				return err
			}
		}
	}
	return nil
}

// attributesOf takes alias and key id out of the attributes of a bag.
func attributesOf(in cryptobyte.String) (b Bag, ok bool) {
	for !in.Empty() {
		var one, values cryptobyte.String
		var id asn1.ObjectIdentifier
		if !in.ReadASN1(&one, tags.SEQUENCE) || !one.ReadASN1ObjectIdentifier(&id) || !one.ReadASN1(&values, tags.SET) {
			return b, false
		}
		switch {
		case id.Equal(oidAlias):
			var text cryptobyte.String
			if !values.ReadASN1(&text, tags.Tag(30)) { // BMPString
				continue
			}
			var units []uint16
			for ; len(text) > 1; text = text[2:] {
				units = append(units, uint16(text[0])<<8|uint16(text[1]))
			}
			b.Alias = string(utf16.Decode(units))
		case id.Equal(oidKeyID):
			b.ID, _ = octets(&values, tags.OCTET_STRING)
		}
	}
	return b, true
}

// Write makes a PKCS#12 container of a key and its certificates, the key's own
// first, under a passphrase; the alias names both. Old uses triple DES and SHA-1, for programs that know no
// other; else it is AES-256, PBKDF2 and a MAC over SHA-256.
func Write(key []byte, list [][]byte, alias string, text []byte, old bool, random io.Reader) ([]byte, error) {
	p := newPassphrase(text)
	var bags cryptobyte.Builder
	var id []byte
	if key != nil && len(list) > 0 {
		sum := sha1.Sum(list[0])
		id = sum[:]
	}
	bags.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
		for i, der := range list {
			addBag(b, oidCertBag, func(b *cryptobyte.Builder) {
				b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
					b.AddASN1ObjectIdentifier(oidX509)
					b.AddASN1(explicit0, func(b *cryptobyte.Builder) { b.AddASN1OctetString(der) })
				})
			}, i == 0, alias, id)
		}
	})
	open, err := bags.Bytes()
	if err != nil {
		return nil, err
	}
	cipher, sealed, err := encrypt(open, p, old, random)
	if err != nil {
		return nil, err
	}
	var keys []byte
	if key != nil {
		write, shrouded, err := encrypt(key, p, old, random)
		if err != nil {
			return nil, err
		}
		var b cryptobyte.Builder
		b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
			addBag(b, oidShroudedBag, func(b *cryptobyte.Builder) { addSealed(b, write, shrouded) }, true, alias, id)
		})
		if keys, err = b.Bytes(); err != nil {
			return nil, err
		}
	}
	var authenticated cryptobyte.Builder
	authenticated.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
		addContent(b, oidEncryptedData, func(b *cryptobyte.Builder) {
			b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
				b.AddASN1Int64(0)
				b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
					b.AddASN1ObjectIdentifier(oidData)
					cipher(b)
					b.AddASN1(implicit0, func(b *cryptobyte.Builder) { b.AddBytes(sealed) })
				})
			})
		})
		if keys != nil {
			addContent(b, oidData, func(b *cryptobyte.Builder) { b.AddASN1OctetString(keys) })
		}
	})
	content, err := authenticated.Bytes()
	if err != nil {
		return nil, err
	}
	return whole(content, p, old, random)
}

// addBag writes one bag; named ones get alias and key id.
func addBag(b *cryptobyte.Builder, kind asn1.ObjectIdentifier, value func(*cryptobyte.Builder), named bool, alias string, id []byte) {
	b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1ObjectIdentifier(kind)
		b.AddASN1(explicit0, value)
		if !named || alias == "" && id == nil {
			return
		}
		b.AddASN1(tags.SET, func(b *cryptobyte.Builder) {
			if alias != "" {
				addAttribute(b, oidAlias, func(b *cryptobyte.Builder) {
					b.AddASN1(tags.Tag(30), func(b *cryptobyte.Builder) {
						for _, u := range utf16.Encode([]rune(alias)) {
							b.AddUint16(u)
						}
					})
				})
			}
			if id != nil {
				addAttribute(b, oidKeyID, func(b *cryptobyte.Builder) { b.AddASN1OctetString(id) })
			}
		})
	})
}

// addAttribute writes an attribute with one value.
func addAttribute(b *cryptobyte.Builder, id asn1.ObjectIdentifier, value func(*cryptobyte.Builder)) {
	b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1ObjectIdentifier(id)
		b.AddASN1(tags.SET, value)
	})
}

// addContent writes a ContentInfo (RFC 5652 section 3).
func addContent(b *cryptobyte.Builder, kind asn1.ObjectIdentifier, value func(*cryptobyte.Builder)) {
	b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1ObjectIdentifier(kind)
		b.AddASN1(explicit0, value)
	})
}

// whole puts the MAC over the content and both into the container.
func whole(content []byte, p passphrase, old bool, random io.Reader) ([]byte, error) {
	digest, digestID, rounds := sha256.New, oidSHA256, writtenRounds
	if old {
		digest, digestID, rounds = sha1.New, asn1.ObjectIdentifier{1, 3, 14, 3, 2, 26}, writtenRoundsOld
	}
	salt := make([]byte, saltSize)
	if _, err := io.ReadFull(random, salt); err != nil {
		return nil, err
	}
	m := hmac.New(digest, deriveKey12(digest, 3, p.bmp, salt, rounds, digest().Size()))
	m.Write(content)
	var b cryptobyte.Builder
	b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1Int64(3)
		addContent(b, oidData, func(b *cryptobyte.Builder) { b.AddASN1OctetString(content) })
		b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
				addAlgorithm(b, digestID, nil)
				b.AddASN1OctetString(m.Sum(nil))
			})
			b.AddASN1OctetString(salt)
			b.AddASN1Int64(int64(rounds))
		})
	})
	return b.Bytes()
}
