package certs

import (
	"bytes"
	"cmp"
	"crypto"
	"crypto/x509"
	"encoding/asn1"
	"encoding/pem"
	"errors"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/crypto/cryptobyte"
	tags "golang.org/x/crypto/cryptobyte/asn1"

	"insegna.example/internal/core/certs/pkcs"
)

// Material is what files hold that belongs together or is to be sorted out:
// certificates, private keys and requests, in the order met, each once.
type Material struct {
	Certificates []*Certificate
	Keys         []HeldKey
	Requests     []*x509.CertificateRequest
	Others       []string // what else was met, in words
}

// HeldKey is a private key in the clear. It is for the hands of who asked alone:
// nothing prints it.
type HeldKey struct {
	Signer crypto.Signer
	Where  string // file, and line where that has lines
	Locked bool   // it was under a passphrase
	Alias  string // its name in a PKCS#12 container
}

// LockedError says that something is under a passphrase: none was given, or
// another than the one that opens it.
type LockedError struct {
	What  string // file, with what it is
	Tried bool   // a passphrase was given
}

// Error asks for the passphrase, or says that this is not it.
func (e *LockedError) Error() string {
	if e.Tried {
		return "the passphrase does not open " + e.What + ", or it is damaged"
	}
	return e.What + " is under a passphrase"
}

// Read adds what a file holds: PEM in any order, DER, PKCS#7, PKCS#12 and PKCS#8,
// encrypted or not, and keys in the older forms. The passphrase is nil where none
// was given. Where names the file in errors: a *LockedError, or what cannot be
// read and why. Nothing is added of a file that has an error.
func (m *Material) Read(where string, data, passphrase []byte) error {
	items, err := read(data, true)
	if err != nil {
		return fmt.Errorf("%s: %w", where, err)
	}
	in := reading{where: where, passphrase: passphrase, work: pkcs.NewWork()}
	if !bytes.Contains(data, []byte("-----BEGIN ")) {
		item := items[0]
		if item.Certificate == nil {
			item.Label = labels[item.Kind]
		}
		if err := in.object(&item, data, nil); err != nil {
			return err
		}
		m.add(&in.Material)
		return nil
	}
	rest := data
	for i := range items {
		if items[i].Err != nil && items[i].Kind != KindKey {
			return fmt.Errorf("%s: %w", where, items[i].Err)
		}
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		if err := in.object(&items[i], block.Bytes, block); err != nil {
			return err
		}
	}
	m.add(&in.Material)
	return nil
}

// labels are what DER of a kind would be called in PEM.
var labels = map[Kind]string{KindPKCS7: "PKCS7", KindRequest: "CERTIFICATE REQUEST", KindRevoked: "X509 CRL"}

// add takes over what another one holds, but for what is there already.
func (m *Material) add(more *Material) {
	for _, c := range more.Certificates {
		if !slices.ContainsFunc(m.Certificates, func(had *Certificate) bool { return had.Fingerprint == c.Fingerprint }) {
			m.Certificates = append(m.Certificates, c)
		}
	}
	for _, k := range more.Keys {
		if !slices.ContainsFunc(m.Keys, func(had HeldKey) bool { return publicOfSigner(had.Signer) == publicOfSigner(k.Signer) }) {
			m.Keys = append(m.Keys, k)
		}
	}
	m.Requests = append(m.Requests, more.Requests...)
	m.Others = append(m.Others, more.Others...)
}

// reading is one file on its way in.
type reading struct {
	Material
	where      string
	passphrase []byte
	work       *pkcs.Work
}

// object adds one object; its PEM block is nil for DER.
func (r *reading) object(it *Item, der []byte, block *pem.Block) error {
	where := r.where
	if it.Line > 0 {
		where = fmt.Sprintf("%s:%d", r.where, it.Line)
	}
	switch {
	case it.Certificate != nil:
		return r.certificate(where, it.Certificate)
	case it.Kind == KindKey:
		return r.key(where, der, block)
	case it.Kind == KindPKCS12:
		return r.store(where, der)
	case it.Kind == KindPKCS7:
		list, err := pkcs.Certificates(der)
		if err != nil {
			return fmt.Errorf("%s: a PKCS#7 container: %w", where, err)
		}
		return r.parsed(where, list)
	case it.Kind == KindRequest:
		if it.Other.request == nil {
			return fmt.Errorf("%s: a certificate request that cannot be read: %w", where, it.Err)
		}
		r.Requests = append(r.Requests, it.Other.request)
	default:
		r.Others = append(r.Others, where+": "+cmp.Or(strings.ToLower(it.Label), string(it.Kind)))
	}
	return nil
}

// certificate adds one, unless there are too many.
func (r *reading) certificate(where string, c *Certificate) error {
	if len(r.Certificates) == pkcs.MostInside {
		return fmt.Errorf("%s: more than %d certificates in one file; expected a certificate with its chain", where, pkcs.MostInside)
	}
	r.Certificates = append(r.Certificates, c)
	return nil
}

// parsed adds certificates out of a container.
func (r *reading) parsed(where string, list [][]byte) error {
	for i, der := range list {
		c, err := Parse(der)
		if err != nil {
			return fmt.Errorf("%s: certificate %d of %d in it: %w", where, i+1, len(list), err)
		}
		if err := r.certificate(where, c); err != nil {
			return err
		}
	}
	return nil
}

// store adds what a PKCS#12 container holds. Without a passphrase the empty one is
// tried, which some programs write.
func (r *reading) store(where string, der []byte) error {
	s, err := pkcs.Read(der, r.passphrase, r.work)
	if errors.Is(err, pkcs.ErrPassphrase) {
		return &LockedError{where + " (a PKCS#12 container)", r.passphrase != nil}
	} else if err != nil {
		return fmt.Errorf("%s: a PKCS#12 container: %w", where, err)
	}
	for _, b := range s.Keys {
		k, err := signer(b.DER)
		clear(b.DER)
		if err != nil {
			return fmt.Errorf("%s: %w", where, err)
		}
		r.Keys = append(r.Keys, HeldKey{k, where, len(r.passphrase) > 0, b.Alias})
	}
	list := make([][]byte, len(s.Certificates))
	for i, b := range s.Certificates {
		list[i] = b.DER
	}
	return r.parsed(where, list)
}

// key adds a private key, opened where it is encrypted.
func (r *reading) key(where string, der []byte, block *pem.Block) error {
	held := HeldKey{Where: where}
	legacy := block != nil && strings.Contains(block.Headers["Proc-Type"], "ENCRYPTED")
	if legacy || block != nil && block.Type == "ENCRYPTED PRIVATE KEY" || block == nil && encrypted(der) {
		if held.Locked = true; r.passphrase == nil {
			return &LockedError{What: where + " (a private key)"}
		}
		var err error
		if legacy {
			//lint:ignore SA1019 old keys are read, never written
			der, err = x509.DecryptPEMBlock(block, r.passphrase)
			if err == nil && !asn1Sequence(der) || errors.Is(err, x509.IncorrectPasswordError) {
				err = pkcs.ErrPassphrase
			}
		} else {
			der, err = pkcs.OpenKey(der, r.passphrase, r.work)
		}
		if errors.Is(err, pkcs.ErrPassphrase) {
			return &LockedError{where + " (a private key)", true}
		} else if err != nil {
			return fmt.Errorf("%s: a private key under a passphrase: %w", where, err)
		}
	}
	var err error
	held.Signer, err = signer(der)
	clear(der)
	if err != nil {
		return fmt.Errorf("%s: %w", where, err)
	}
	r.Keys = append(r.Keys, held)
	return nil
}

// asn1Sequence says whether data is one SEQUENCE, which a key opened with another
// passphrase is not but by rare chance.
func asn1Sequence(der []byte) bool {
	in := cryptobyte.String(der)
	var inside cryptobyte.String
	return in.ReadASN1(&inside, tags.SEQUENCE) && in.Empty()
}

// encrypted says whether a key in DER is one under a passphrase (RFC 5958 section 3).
func encrypted(der []byte) bool {
	in := cryptobyte.String(der)
	var outer cryptobyte.String
	return in.ReadASN1(&outer, tags.SEQUENCE) && outer.PeekASN1Tag(tags.SEQUENCE)
}

// longestKey bounds a private key, in bytes: one of 16,384 bits has 9,300.
const longestKey = 12 << 10

// curves are elliptic curves whose keys web servers do not use, for words.
var curves = map[string]string{"1.3.132.0.10": "secp256k1", "1.3.36.3.3.2.8.1.1.7": "brainpoolP256r1",
	"1.3.36.3.3.2.8.1.1.11": "brainpoolP384r1", "1.3.36.3.3.2.8.1.1.13": "brainpoolP512r1", "1.2.840.10045.3.1.1": "P-192"}

// keyNames are kinds of keys that cannot be used here, for words.
var keyNames = map[string]string{"1.2.840.10040.4.1": "DSA", "1.3.101.110": "X25519", "1.3.101.111": "X448", "1.3.101.113": "Ed448",
	"1.2.840.113549.1.1.10": "RSA-PSS", "1.2.840.113549.1.3.1": "Diffie-Hellman"}

// signer reads a private key in PKCS#8, PKCS#1 or SEC 1.
func signer(der []byte) (crypto.Signer, error) {
	const expected = "expected RSA, ECDSA on P-256, P-384 or P-521, or Ed25519"
	if len(der) > longestKey {
		return nil, fmt.Errorf("a private key of %d bytes; at most %d are read", len(der), longestKey)
	}
	if key, err := x509.ParsePKCS8PrivateKey(der); err == nil {
		if s, ok := key.(crypto.Signer); ok {
			return s, nil
		}
	}
	if key, err := x509.ParsePKCS1PrivateKey(der); err == nil {
		return key, nil
	}
	if key, err := x509.ParseECPrivateKey(der); err == nil {
		return key, nil
	}
	if kind := keyKind(der); kind != "" {
		return nil, fmt.Errorf("a private key of the kind %s, which cannot be used here; %s", kind, expected)
	}
	return nil, errors.New("a private key that cannot be read: it is damaged; " + expected)
}

// keyKind names the kind of a key in PKCS#8 or SEC 1 that cannot be read; "" where
// it does not say.
func keyKind(der []byte) string {
	in := cryptobyte.String(der)
	var key, a, parameters cryptobyte.String
	var id, curve asn1.ObjectIdentifier
	if !in.ReadASN1(&key, tags.SEQUENCE) || !key.SkipASN1(tags.INTEGER) {
		return ""
	}
	if key.PeekASN1Tag(tags.SEQUENCE) {
		if !key.ReadASN1(&a, tags.SEQUENCE) || !a.ReadASN1ObjectIdentifier(&id) {
			return ""
		}
		if !a.ReadASN1ObjectIdentifier(&curve) {
			return keyNames[id.String()]
		}
	} else if !key.SkipASN1(tags.OCTET_STRING) || !key.ReadASN1(&parameters, tags.Tag(0).Constructed().ContextSpecific()) ||
		!parameters.ReadASN1ObjectIdentifier(&curve) {
		return ""
	}
	switch name := curves[curve.String()]; {
	case name != "":
		return "ECDSA on " + name
	case id != nil && !id.Equal(asn1.ObjectIdentifier{1, 2, 840, 10045, 2, 1}):
		return keyNames[id.String()]
	case slices.Contains([]string{"1.2.840.10045.3.1.7", "1.3.132.0.34", "1.3.132.0.35", "1.3.132.0.33"}, curve.String()):
		return "" // a curve that is known: it is damaged
	}
	return "ECDSA on a curve with the identifier " + curve.String()
}

// publicOfSigner is the SHA-256 over a key's SubjectPublicKeyInfo.
func publicOfSigner(key crypto.Signer) Fingerprint {
	spki, err := x509.MarshalPKIXPublicKey(key.Public())
	if err != nil {
		return Fingerprint{}
	}
	return FingerprintOf(spki)
}

// Pair is a private key with its certificate, and what else came with them.
type Pair struct {
	Key    crypto.Signer
	Leaf   *Certificate
	Others []*Certificate // material for the chain, in the order met
	Alias  string         // in the container they came from, "" for none
	Words  string         // what was chosen, where there was a choice
}

// PairError says why material is no key with its certificate.
type PairError struct{ Reason, Next string }

// Error gives the reason and what to do.
func (e *PairError) Error() string { return e.Reason + "; " + e.Next }

// Pair puts key and certificate together. With a prefix of a fingerprint, it is
// the one of that certificate. Several certificates of one key are told apart by
// their dates: the newest counts. The error is a *PairError.
func (m *Material) Pair(prefix string) (*Pair, error) {
	var found []*Pair
	for _, k := range m.Keys {
		public := publicOfSigner(k.Signer)
		var fitting []*Certificate
		for _, c := range m.Certificates {
			if c.Public() == public && strings.HasPrefix(c.Fingerprint.String(), prefix) {
				fitting = append(fitting, c)
			}
		}
		if len(fitting) == 0 {
			continue
		}
		leaf := slices.MaxFunc(fitting, func(a, b *Certificate) int {
			return cmp.Or(a.NotBefore.Compare(b.NotBefore), a.NotAfter.Compare(b.NotAfter))
		})
		p := &Pair{Key: k.Signer, Leaf: leaf, Alias: k.Alias}
		if len(fitting) > 1 {
			p.Words = fmt.Sprintf("of %d certificates of this key the newest was taken, %s", len(fitting), brief(leaf))
		}
		for _, c := range m.Certificates {
			if !slices.Contains(fitting, c) {
				p.Others = append(p.Others, c)
			}
		}
		found = append(found, p)
	}
	if len(found) == 1 {
		return found[0], nil
	}
	return nil, m.unpaired(found, prefix)
}

// brief tells certificates apart.
func brief(c *Certificate) string {
	return fmt.Sprintf("for %s until %s (%.12s)", joined(c.Names(), c.CommonName()), c.NotAfter.UTC().Format("2 January 2006"),
		c.Fingerprint)
}

// unpaired says why there is not exactly one pair.
func (m *Material) unpaired(found []*Pair, prefix string) error {
	var list []string
	for _, c := range m.Certificates {
		if !c.IsCA {
			list = append(list, brief(c))
		}
	}
	seen := joined(list, "certificates of CAs alone")
	switch {
	case len(found) > 1:
		list = list[:0]
		for _, p := range found {
			list = append(list, brief(p.Leaf))
		}
		return &PairError{fmt.Sprintf("there are %d keys with a certificate each: %s", len(found), joined(list, "")),
			"say which by the first digits of its fingerprint"}
	case len(m.Certificates) == 0 && len(m.Keys) == 0:
		return &PairError{"there is neither a certificate nor a private key" + m.besides(), "give the files that hold them"}
	case len(m.Certificates) == 0:
		return &PairError{"there is a private key and no certificate" + m.besides(), "give the file that holds its certificate as well"}
	case len(m.Keys) == 0:
		return &PairError{"there is no private key: " + seen + m.besides(), "give the file that holds its private key as well"}
	case prefix != "":
		return &PairError{"no certificate with a fingerprint that begins with " + prefix + " has its private key here: " + seen,
			"give another fingerprint, or none"}
	}
	return &PairError{fmt.Sprintf("the private key (%s) belongs to none of the certificates: %s", m.Keys[0].Where, seen),
		"put key and certificate together that belong together"}
}

// besides tells what else there is.
func (m *Material) besides() string {
	var list []string
	if n := len(m.Requests); n > 0 {
		list = append(list, fmt.Sprintf("%d certificate requests", n))
	}
	if list = append(list, m.Others...); len(list) == 0 {
		return ""
	}
	return " (but " + joined(list, "") + ")"
}
