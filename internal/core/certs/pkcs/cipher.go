package pkcs

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/des"
	"crypto/hmac"
	"crypto/md5"
	"crypto/pbkdf2"
	"crypto/rc4"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/asn1"
	"fmt"
	"hash"
	"io"
	"unicode/utf16"
	"unicode/utf8"

	"golang.org/x/crypto/cryptobyte"
	tags "golang.org/x/crypto/cryptobyte/asn1"
	"golang.org/x/crypto/scrypt"
)

// Identifiers of RFC 8018, RFC 7292 appendix C, RFC 7914 and RFC 9579.
var (
	oidPBES2  = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 13}
	oidPBMAC1 = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 14}
	oidPBKDF2 = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 12}
	oidScrypt = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 11591, 4, 11}
	oidSHA256 = asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 2, 1}
	oidHMAC   = asn1.ObjectIdentifier{1, 2, 840, 113549, 2, 9} // with SHA-256
	oidAES256 = asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 1, 42}
	oid3DES   = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 12, 1, 3} // with SHA-1, of PKCS#12
)

// hashes are the digests a MAC of PKCS#12 may use, and those a key may be derived
// with, by identifier.
var hashes = map[string]func() hash.Hash{
	"1.3.14.3.2.26":          sha1.New,
	"2.16.840.1.101.3.4.2.4": sha256.New224,
	"2.16.840.1.101.3.4.2.1": sha256.New,
	"2.16.840.1.101.3.4.2.2": sha512.New384,
	"2.16.840.1.101.3.4.2.3": sha512.New,
	"1.2.840.113549.2.7":     sha1.New,
	"1.2.840.113549.2.8":     sha256.New224,
	"1.2.840.113549.2.9":     sha256.New,
	"1.2.840.113549.2.10":    sha512.New384,
	"1.2.840.113549.2.11":    sha512.New,
}

// block is a cipher in blocks, with the length of its key in bytes.
type block struct {
	key int                                // its length
	new func([]byte) (cipher.Block, error) // from a key of that length
}

// triple takes two or three keys of DES.
func triple(key []byte) (cipher.Block, error) {
	if len(key) == 16 {
		key = append(bytes.Clone(key), key[:8]...)
	}
	return des.NewTripleDESCipher(key)
}

// blocks are the ciphers of PBES2 (RFC 8018 appendix B.2).
var blocks = map[string]block{
	"2.16.840.1.101.3.4.1.2":  {16, aes.NewCipher},
	"2.16.840.1.101.3.4.1.22": {24, aes.NewCipher},
	"2.16.840.1.101.3.4.1.42": {32, aes.NewCipher},
	"1.2.840.113549.3.7":      {24, triple},
	"1.3.14.3.2.7":            {8, des.NewCipher},
}

// rc2Block is RC2 as a block.
func rc2Block(key []byte) (cipher.Block, error) { return newRC2(key), nil }

// ofPKCS12 are the schemes of RFC 7292 appendix C; those without a block are RC4.
var ofPKCS12 = map[string]block{
	"1.2.840.113549.1.12.1.1": {16, nil},
	"1.2.840.113549.1.12.1.2": {5, nil},
	"1.2.840.113549.1.12.1.3": {24, triple},
	"1.2.840.113549.1.12.1.4": {16, triple},
	"1.2.840.113549.1.12.1.5": {16, rc2Block},
	"1.2.840.113549.1.12.1.6": {5, rc2Block},
}

// ofPBES1 are the schemes of RFC 8018 appendix A.3, with their digest.
var ofPBES1 = map[string]struct {
	hash func() hash.Hash
	new  func([]byte) (cipher.Block, error)
}{
	"1.2.840.113549.1.5.3":  {md5.New, des.NewCipher},
	"1.2.840.113549.1.5.6":  {md5.New, rc2Block},
	"1.2.840.113549.1.5.10": {sha1.New, des.NewCipher},
	"1.2.840.113549.1.5.11": {sha1.New, rc2Block},
}

// passphrase is one in the two forms that are asked for.
type passphrase struct {
	utf8 []byte // as typed
	bmp  []byte // as PKCS#12 takes it: UTF-16 with an end (RFC 7292 appendix B.1)
}

// newPassphrase makes both forms.
func newPassphrase(text []byte) passphrase {
	p := passphrase{utf8: text}
	runes := []rune(string(text))
	if !utf8.Valid(text) { // typed in another encoding: byte by byte, as programs of its time did
		runes = runes[:0]
		for _, b := range text {
			runes = append(runes, rune(b))
		}
	}
	for _, u := range append(utf16.Encode(runes), 0) {
		p.bmp = append(p.bmp, byte(u>>8), byte(u))
	}
	return p
}

// decrypt opens what an algorithm encrypted.
func decrypt(a algorithm, sealed []byte, p passphrase, w *Work) ([]byte, error) {
	id := a.id.String()
	if a.id.Equal(oidPBES2) {
		return decryptPBES2(a, sealed, p, w)
	}
	var parameters cryptobyte.String
	var salt cryptobyte.String
	var rounds int
	if !a.parameters.ReadASN1(&parameters, tags.SEQUENCE) || !parameters.ReadASN1(&salt, tags.OCTET_STRING) ||
		!parameters.ReadASN1Integer(&rounds) {
		if _, known := ofPKCS12[id]; !known && ofPBES1[id].new == nil {
			return nil, &UnsupportedError{"a cipher with the identifier " + id}
		}
		return nil, &BrokenError{"cipher"}
	}
	if err := w.spend(rounds, 1); err != nil {
		return nil, err
	}
	if scheme, known := ofPKCS12[id]; known {
		key := deriveKey12(sha1.New, 1, p.bmp, salt, rounds, scheme.key)
		if scheme.new == nil {
			c, err := rc4.NewCipher(key)
			if err != nil {
				return nil, err
			}
			out := make([]byte, len(sealed))
			c.XORKeyStream(out, sealed)
			return out, nil
		}
		if err := w.spend(rounds, 1); err != nil {
			return nil, err
		}
		b, err := scheme.new(key)
		if err != nil {
			return nil, err
		}
		return unchain(b, deriveKey12(sha1.New, 2, p.bmp, salt, rounds, b.BlockSize()), sealed)
	}
	scheme, known := ofPBES1[id]
	if !known {
		return nil, &UnsupportedError{"a cipher with the identifier " + id}
	}
	key := append(bytes.Clone(p.utf8), salt...) // PBKDF1 (RFC 8018 section 5.1)
	for range rounds {
		h := scheme.hash()
		h.Write(key)
		key = h.Sum(nil)
	}
	b, err := scheme.new(key[:8])
	if err != nil {
		return nil, err
	}
	return unchain(b, key[8:16], sealed)
}

// decryptPBES2 opens what PBES2 encrypted (RFC 8018 section 6.2).
func decryptPBES2(a algorithm, sealed []byte, p passphrase, w *Work) ([]byte, error) {
	var parameters cryptobyte.String
	if !a.parameters.ReadASN1(&parameters, tags.SEQUENCE) {
		return nil, &BrokenError{"cipher"}
	}
	derivation, ok1 := readAlgorithm(&parameters)
	scheme, ok2 := readAlgorithm(&parameters)
	var iv cryptobyte.String
	if !ok1 || !ok2 {
		return nil, &BrokenError{"cipher"}
	}
	b, known := blocks[scheme.id.String()]
	if !known {
		return nil, &UnsupportedError{"a cipher with the identifier " + scheme.id.String()}
	}
	if !scheme.parameters.ReadASN1(&iv, tags.OCTET_STRING) {
		return nil, &BrokenError{"cipher"}
	}
	key, err := derive(derivation, p, b.key, w)
	if err != nil {
		return nil, err
	}
	c, err := b.new(key)
	if err != nil {
		return nil, err
	}
	return unchain(c, iv, sealed)
}

// mostMemory bounds what scrypt may take, in bytes.
const mostMemory = 128 << 20

// derive makes a key with PBKDF2 (RFC 8018 section 5.2) or scrypt (RFC 7914).
func derive(a algorithm, p passphrase, size int, w *Work) ([]byte, error) {
	var in, salt cryptobyte.String
	if !a.parameters.ReadASN1(&in, tags.SEQUENCE) || !in.ReadASN1(&salt, tags.OCTET_STRING) {
		return nil, &BrokenError{"cipher"}
	}
	switch {
	case a.id.Equal(oidScrypt):
		var n, r, parallel int
		if !in.ReadASN1Integer(&n) || !in.ReadASN1Integer(&r) || !in.ReadASN1Integer(&parallel) ||
			n < 2 || n&(n-1) != 0 || r < 1 || parallel < 1 || r > mostMemory || parallel > mostMemory {
			return nil, &BrokenError{"cipher"}
		}
		if n > mostMemory/128/r {
			return nil, &CostError{n, mostMemory / 128 / r}
		}
		if err := w.spend(n, r*parallel); err != nil { // about as long as so many rounds
			return nil, err
		}
		return scrypt.Key(p.utf8, salt, n, r, parallel, size)
	case !a.id.Equal(oidPBKDF2):
		return nil, &UnsupportedError{"a way from passphrase to key with the identifier " + a.id.String()}
	}
	var rounds int
	if !in.ReadASN1Integer(&rounds) || in.PeekASN1Tag(tags.INTEGER) && !in.SkipASN1(tags.INTEGER) {
		return nil, &BrokenError{"cipher"}
	}
	prf := sha1.New // the default
	if !in.Empty() {
		f, ok := readAlgorithm(&in)
		if !ok {
			return nil, &BrokenError{"cipher"}
		}
		if prf = hashes[f.id.String()]; prf == nil {
			return nil, &UnsupportedError{"a digest with the identifier " + f.id.String()}
		}
	}
	if err := w.spend(rounds, (size+prf().Size()-1)/prf().Size()); err != nil {
		return nil, err
	}
	return pbkdf2.Key(prf, string(p.utf8), salt, rounds, size)
}

// unchain decrypts blocks that were chained, and takes the padding off (RFC 8018
// section 6.1.1).
func unchain(b cipher.Block, iv, sealed []byte) ([]byte, error) {
	size := b.BlockSize()
	if len(iv) != size {
		return nil, &BrokenError{"cipher"}
	}
	if len(sealed) == 0 || len(sealed)%size != 0 {
		return nil, &BrokenError{"encrypted part (cut short)"}
	}
	out := make([]byte, len(sealed))
	cipher.NewCBCDecrypter(b, iv).CryptBlocks(out, sealed)
	n := int(out[len(out)-1])
	if n < 1 || n > size {
		return nil, ErrPassphrase
	}
	for _, v := range out[len(out)-n:] {
		if int(v) != n {
			return nil, ErrPassphrase
		}
	}
	return out[:len(out)-n], nil
}

// chained encrypts blocks, with padding.
func chained(b cipher.Block, iv, open []byte) []byte {
	n := b.BlockSize() - len(open)%b.BlockSize()
	out := append(bytes.Clone(open), bytes.Repeat([]byte{byte(n)}, n)...)
	cipher.NewCBCEncrypter(b, iv).CryptBlocks(out, out)
	return out
}

// deriveKey12 derives key (1), initial value (2) or MAC key (3) as PKCS#12 does
// (RFC 7292 appendix B.2).
func deriveKey12(digest func() hash.Hash, purpose byte, password, salt []byte, rounds, size int) []byte {
	h := digest()
	v := h.BlockSize()
	filled := func(in []byte) []byte {
		out := make([]byte, (len(in)+v-1)/v*v)
		for i := range out {
			out[i] = in[i%len(in)]
		}
		return out
	}
	d := bytes.Repeat([]byte{purpose}, v)
	i := append(filled(salt), filled(password)...)
	var out []byte
	for len(out) < size {
		h.Reset()
		h.Write(d)
		h.Write(i)
		a := h.Sum(nil)
		for range rounds - 1 {
			h.Reset()
			h.Write(a)
			a = h.Sum(a[:0])
		}
		out = append(out, a...)
		b := filled(a)[:v]
		for j := 0; j < len(i); j += v { // each block of i, plus b, plus one
			carry := uint16(1)
			for k := v - 1; k >= 0; k-- {
				carry += uint16(i[j+k]) + uint16(b[k])
				i[j+k] = byte(carry)
				carry >>= 8
			}
		}
	}
	return out[:size]
}

// How passphrases are hardened in what is written: half a second of a processor
// would be more than servers wait for at every start.
const (
	writtenRounds    = 100_000
	writtenRoundsOld = 2048 // of those that only read what is old
	saltSize         = 16
)

// encrypt writes the algorithm of what it encrypts, and gives the ciphertext. Old
// is triple DES with SHA-1, for programs that know no other.
func encrypt(open []byte, p passphrase, old bool, random io.Reader) (write func(*cryptobyte.Builder), sealed []byte, err error) {
	salt, iv := make([]byte, saltSize), make([]byte, aes.BlockSize)
	for _, b := range [][]byte{salt, iv} {
		if _, err := io.ReadFull(random, b); err != nil {
			return nil, nil, err
		}
	}
	if old {
		salt = salt[:8]
		b, err := triple(deriveKey12(sha1.New, 1, p.bmp, salt, writtenRoundsOld, 24))
		if err != nil {
			return nil, nil, err
		}
		sealed = chained(b, deriveKey12(sha1.New, 2, p.bmp, salt, writtenRoundsOld, 8), open)
		return func(b *cryptobyte.Builder) {
			addAlgorithm(b, oid3DES, func(b *cryptobyte.Builder) {
				b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
					b.AddASN1OctetString(salt)
					b.AddASN1Int64(writtenRoundsOld)
				})
			})
		}, sealed, nil
	}
	key, err := pbkdf2.Key(sha256.New, string(p.utf8), salt, writtenRounds, 32)
	if err != nil {
		return nil, nil, err
	}
	b, err := aes.NewCipher(key)
	if err != nil {
		return nil, nil, err
	}
	return func(b *cryptobyte.Builder) {
		addAlgorithm(b, oidPBES2, func(b *cryptobyte.Builder) {
			b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
				addAlgorithm(b, oidPBKDF2, func(b *cryptobyte.Builder) {
					b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
						b.AddASN1OctetString(salt)
						b.AddASN1Int64(writtenRounds)
						addAlgorithm(b, oidHMAC, nil)
					})
				})
				addAlgorithm(b, oidAES256, func(b *cryptobyte.Builder) { b.AddASN1OctetString(iv) })
			})
		})
	}, chained(b, iv, open), nil
}

// OpenKey decrypts an EncryptedPrivateKeyInfo (RFC 5958 section 3) and gives the
// PKCS#8 that is in it.
func OpenKey(der, text []byte, w *Work) ([]byte, error) {
	in := cryptobyte.String(der)
	var outer cryptobyte.String
	if !in.ReadASN1(&outer, tags.SEQUENCE) {
		return nil, &BrokenError{"form"}
	}
	a, ok := readAlgorithm(&outer)
	if !ok {
		return nil, &BrokenError{"cipher"}
	}
	sealed, ok := octets(&outer, tags.OCTET_STRING)
	if !ok {
		return nil, &BrokenError{"encrypted part"}
	}
	return openKey(a, sealed, newPassphrase(text), w)
}

// openKey decrypts a key and sees that it is one: that is what a wrong passphrase
// does not bring forth.
func openKey(a algorithm, sealed []byte, p passphrase, w *Work) ([]byte, error) {
	open, err := decrypt(a, sealed, p, w)
	if err != nil {
		return nil, err
	}
	in := cryptobyte.String(open)
	var inside cryptobyte.String
	if !in.ReadASN1(&inside, tags.SEQUENCE) || !inside.SkipASN1(tags.INTEGER) || !inside.PeekASN1Tag(tags.SEQUENCE) {
		return nil, ErrPassphrase
	}
	return open, nil
}

// SealKey encrypts a key in PKCS#8 as EncryptedPrivateKeyInfo: with AES-256 and
// PBKDF2 over SHA-256.
func SealKey(pkcs8, text []byte, random io.Reader) ([]byte, error) {
	write, sealed, err := encrypt(pkcs8, newPassphrase(text), false, random)
	if err != nil {
		return nil, err
	}
	var b cryptobyte.Builder
	addSealed(&b, write, sealed)
	return b.Bytes()
}

// addSealed writes an EncryptedPrivateKeyInfo.
func addSealed(b *cryptobyte.Builder, write func(*cryptobyte.Builder), sealed []byte) {
	b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
		write(b)
		b.AddASN1OctetString(sealed)
	})
}

// sameMAC computes an HMAC and compares it in constant time.
func sameMAC(digest func() hash.Hash, key, over, want []byte) bool {
	m := hmac.New(digest, key)
	m.Write(over)
	return hmac.Equal(m.Sum(nil), want)
}

// unknownDigest names a digest this package does not know.
func unknownDigest(id asn1.ObjectIdentifier) error {
	return &UnsupportedError{fmt.Sprintf("a digest with the identifier %s", id)}
}
