package certs_test

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/certs/pkcs"
	"insegna.example/internal/pkitest"
)

// word opens everything in these tests; it is no ASCII.
const word = "Fähre nr. 7"

// keysOf are one key of each kind that is made.
func keysOf(t testing.TB) map[string]crypto.Signer {
	out := map[string]crypto.Signer{}
	var err error
	out["rsa"], err = rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	for name, c := range map[string]elliptic.Curve{"p256": elliptic.P256(), "p384": elliptic.P384(), "p521": elliptic.P521()} {
		out[name], err = ecdsa.GenerateKey(c, rand.Reader)
		require.NoError(t, err)
	}
	_, out["ed25519"], err = ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	return out
}

// workshop is a folder with a key, its certificate and its chain as PEM, where openssl
// works.
type workshop struct {
	t        testing.TB
	dir      string
	root, ca *pkitest.Entity
	leaf     *pkitest.Entity
}

// newWorkshop lays them out.
func newWorkshop(t testing.TB, key crypto.Signer) *workshop {
	w := &workshop{t: t, dir: t.TempDir(), root: pkitest.CA("root", nil)}
	w.ca = pkitest.CA("ca", w.root)
	w.leaf = pkitest.Issue(&x509.Certificate{DNSNames: []string{"kiosk.lantern.example"}}, w.ca, key)
	text, err := certs.KeyPEM(w.leaf.Key)
	require.NoError(t, err)
	for name, data := range map[string][]byte{"key.pem": text, "leaf.pem": certs.PEM(w.leaf.Raw), "word": []byte(word + "\n"),
		"chain.pem": append(certs.PEM(w.ca.Raw), certs.PEM(w.root.Raw)...)} {
		require.NoError(t, os.WriteFile(filepath.Join(w.dir, name), data, 0o600))
	}
	return w
}

// openssl runs it in the folder and gives what it wrote to out.
func (w *workshop) openssl(line string, input ...byte) []byte {
	out := filepath.Join(w.dir, "out")
	_ = os.Remove(out)
	require.NoError(w.t, os.WriteFile(filepath.Join(w.dir, "in"), input, 0o600))
	c := exec.CommandContext(w.t.Context(), "openssl", strings.Fields(line)...)
	c.Dir = w.dir
	said, err := c.CombinedOutput()
	require.NoError(w.t, err, "openssl %s: %s", line, said)
	data, err := os.ReadFile(out)
	require.NoError(w.t, err)
	return data
}

// held reads material and holds it against the workshop's.
func (w *workshop) held(name string, data []byte, passphrase string, chain int) {
	m := &certs.Material{}
	require.NoError(w.t, m.Read(name, data, []byte(passphrase)), name)
	if chain < 0 { // a key alone
		require.Len(w.t, m.Keys, 1, name)
		assert.Equal(w.t, w.leaf.Key.Public(), m.Keys[0].Signer.Public(), name)
		return
	}
	p, err := m.Pair("")
	require.NoError(w.t, err, name)
	assert.Equal(w.t, w.leaf.Fingerprint, p.Leaf.Fingerprint, name)
	assert.Equal(w.t, w.leaf.Key.Public(), p.Key.Public(), name)
	assert.Len(w.t, p.Others, chain, name)
}

// TestWhatOpenSSLWritesIsRead has every container written that openssl writes, for
// every kind of key.
func TestWhatOpenSSLWritesIsRead(t *testing.T) {
	t.Parallel()
	const p12 = "pkcs12 -export -inkey key.pem -in leaf.pem -certfile chain.pem -name kiosk -passout file:word -out out "
	for kind, key := range keysOf(t) {
		w := newWorkshop(t, key)
		for _, line := range []string{"", "-legacy", "-iter 1 -maciter", "-nomac", "-macalg sha512", "-macalg sha1 -certpbe AES-128-CBC -keypbe AES-192-CBC",
			"-legacy -certpbe PBE-SHA1-RC2-40 -keypbe PBE-SHA1-RC2-128", "-legacy -certpbe PBE-SHA1-RC4-128 -keypbe PBE-SHA1-RC4-40",
			"-legacy -certpbe PBE-SHA1-2DES -keypbe PBE-SHA1-3DES", "-certpbe NONE -keypbe NONE", "-certpbe NONE"} {
			w.held(kind+" pkcs12 "+line, w.openssl(p12+line), word, 2)
		}
		for _, line := range []string{"-v2 aes-128-cbc", "-v2 aes-256-cbc -v2prf hmacWithSHA512 -iter 100000", "-v2 des3 -v2prf hmacWithSHA1", "-scrypt",
			"-provider legacy -provider default -v1 PBE-MD5-DES", "-provider legacy -provider default -v1 PBE-SHA1-DES",
			"-provider legacy -provider default -v1 PBE-MD5-RC2-64", "-v1 PBE-SHA1-3DES"} {
			for _, form := range []string{"PEM", "DER"} {
				w.held(kind+" pkcs8 "+line+form, w.openssl("pkcs8 -topk8 -in key.pem -passout file:word -out out -outform "+form+" "+line), word, -1)
			}
		}
		if program := map[string]string{"rsa": "rsa -traditional", "p256": "ec", "p384": "ec", "p521": "ec"}[kind]; program != "" {
			for _, line := range []string{"", "-aes256 -passout file:word", "-des3 -passout file:word"} {
				w.held(kind+" "+line, w.openssl(program+" -in key.pem -out out "+line), word, -1)
			}
			w.held(kind+" DER", w.openssl(strings.Fields(program)[0]+" -in key.pem -outform DER -out out"), "", -1)
		}
		for _, form := range []string{"PEM", "DER"} {
			data := w.openssl("crl2pkcs7 -nocrl -certfile leaf.pem -certfile chain.pem -out out -outform " + form)
			m := &certs.Material{}
			require.NoError(t, m.Read("p7", data, nil))
			assert.Len(t, m.Certificates, 3)
		}
	}
	w := newWorkshop(t, nil)
	data := w.openssl("cms -sign -stream -nodetach -nocerts -certfile chain.pem -signer leaf.pem -inkey key.pem -in word -outform DER -out out")
	require.Equal(t, byte(0x80), data[1], "its length is left open, as it streams")
	m := &certs.Material{}
	require.NoError(t, m.Read("streamed", data, nil))
	assert.Len(t, m.Certificates, 2)
}

// TestWhatIsWrittenOpenSSLReads has openssl read every form, for every kind of key.
func TestWhatIsWrittenOpenSSLReads(t *testing.T) {
	t.Parallel()
	for kind, key := range keysOf(t) {
		w := newWorkshop(t, key)
		list := pkitest.List(w.leaf, w.ca)
		same := func(name string, pems []byte) {
			m := &certs.Material{}
			require.NoError(t, m.Read(name, pems, nil), "%s %s", kind, name)
			if len(m.Keys) > 0 {
				assert.Equal(t, w.leaf.Key.Public(), m.Keys[0].Signer.Public())
				return
			}
			require.Len(t, m.Certificates, 2, "%s %s", kind, name)
			assert.Equal(t, w.leaf.Fingerprint, m.Certificates[0].Fingerprint)
		}
		for name, old := range map[string]bool{"new": false, "old": true} {
			f := certs.Written{Form: certs.FormPKCS12, Passphrase: []byte(word), Alias: "Überfahrt", Old: old}
			data, err := f.Store(w.leaf.Key, list, rand.Reader)
			require.NoError(t, err)
			flags := map[bool]string{true: "-legacy"}[old]
			said := w.openssl("pkcs12 -in in -passin file:word -noenc -out out "+flags, data...)
			assert.Contains(t, string(said), "berfahrt\n", name) // in another encoding
			assert.Equal(t, 2, strings.Count(string(said), "localKeyID"), "the key and its certificate, not the CA's")
			assert.Equal(t, 3, strings.Count(string(said), "-----BEGIN"), name)
			w.held("own "+name, data, word, 1)
		}
		locked := certs.Written{Form: certs.FormPEM, Passphrase: []byte(word)}
		data, err := locked.Key(w.leaf.Key, rand.Reader)
		require.NoError(t, err)
		assert.Contains(t, string(data), "BEGIN ENCRYPTED PRIVATE KEY")
		same("locked key", w.openssl("pkey -in in -passin file:word -out out", data...))
		for form, flag := range map[certs.Form]string{certs.FormPEM: "PEM", certs.FormDER: "DER"} {
			for _, old := range []bool{false, true} {
				f := certs.Written{Form: form, Old: old}
				data, err := f.Key(w.leaf.Key, rand.Reader)
				require.NoError(t, err)
				same(flag+" key", w.openssl("pkey -in in -out out -inform "+flag, data...))
			}
		}
		bag := certs.Written{Form: certs.FormPKCS7}
		data, err = bag.Certificates(list)
		require.NoError(t, err)
		same("pkcs7", w.openssl("pkcs7 -in in -print_certs -out out", data...))
	}
	one := certs.Written{Form: certs.FormDER}
	_, err := one.Certificates(pkitest.List(pkitest.CA("a", nil), pkitest.CA("b", nil)))
	assert.ErrorContains(t, err, "DER holds one certificate, there are 2")
	both := certs.Written{Form: certs.FormPEM, Old: true, Passphrase: []byte(word)}
	_, err = both.Key(pkitest.NewKey(), rand.Reader)
	assert.ErrorContains(t, err, "their encryption is weak")
}

// opened writes DER with every length left open and every octet string in two
// parts, as BER allows.
func opened(t testing.TB, der []byte) []byte {
	if der[0]&0x20 == 0 && der[0] != 4 {
		return der
	}
	head := 2
	if der[1] > 0x80 {
		head += int(der[1] & 0x7f)
	}
	body, out := der[head:], []byte{der[0] | 0x20, 0x80}
	if der[0] == 4 {
		half := len(body) / 2
		for _, part := range [][]byte{body[:half], body[half:]} {
			require.Less(t, len(part), 1<<16)
			out = append(out, 4, 0x82, byte(len(part)>>8), byte(len(part)))
			out = append(out, part...)
		}
		return append(out, 0, 0)
	}
	for len(body) > 0 {
		n, h := int(body[1]), 2
		if body[1] > 0x80 {
			n = 0
			for _, b := range body[2 : 2+body[1]&0x7f] {
				n, h = n<<8|int(b), h+1
			}
		}
		out = append(out, opened(t, body[:h+n])...)
		body = body[h+n:]
	}
	return append(out, 0, 0)
}

// TestLengthsMayBeLeftOpen reads containers in BER as some programs write them.
func TestLengthsMayBeLeftOpen(t *testing.T) {
	w := newWorkshop(t, nil)
	f := certs.Written{Form: certs.FormPKCS12, Passphrase: []byte(word)}
	data, err := f.Store(w.leaf.Key, pkitest.List(w.leaf, w.ca), rand.Reader)
	require.NoError(t, err)
	ber := opened(t, data)
	w.held("in BER", ber, word, 1)
	back, err := pkcs.DER(data)
	require.NoError(t, err)
	assert.Equal(t, data, back, "DER comes out as it went in")
	_, err = pkcs.DER(append(data, 0))
	assert.ErrorContains(t, err, "bytes follow it")
	_, err = pkcs.DER(bytes.Repeat([]byte{0x30, 0x80}, 1<<20))
	assert.ErrorContains(t, err, "nested too deep")
	nested := func(levels int) []byte {
		out := []byte{5, 0}
		for range levels {
			out = append(append([]byte{0x30, 0x80}, out...), 0, 0)
		}
		return out
	}
	_, err = pkcs.DER(nested(60))
	require.NoError(t, err)
	_, err = pkcs.DER(nested(70))
	assert.ErrorContains(t, err, "nested too deep")
	many := make([][]byte, pkcs.MostInside+1)
	for i := range many {
		many[i] = w.leaf.Raw
	}
	bag, err := pkcs.Container(many)
	require.NoError(t, err)
	_, err = pkcs.Certificates(bag)
	assert.ErrorContains(t, err, "more than 1,000")
	store, err := pkcs.Write(nil, many, "", []byte("x"), true, rand.Reader)
	require.NoError(t, err)
	_, err = pkcs.Read(store, []byte("x"), pkcs.NewWork())
	assert.ErrorContains(t, err, "more than 1,000")
}

// TestWhatIsBrokenIsRefusedWhole cuts and damages containers, gives other passphrases
// and asks for more work than is done: nothing is kept of any, and each says why.
func TestWhatIsBrokenIsRefusedWhole(t *testing.T) {
	t.Parallel()
	w := newWorkshop(t, nil)
	f := certs.Written{Form: certs.FormPKCS12, Passphrase: []byte(word), Old: true}
	p12, err := f.Store(w.leaf.Key, pkitest.List(w.leaf, w.ca), rand.Reader)
	require.NoError(t, err)
	p8 := w.openssl("pkcs8 -topk8 -in key.pem -passout file:word -out out -outform DER -iter 2048")
	p7 := w.openssl("crl2pkcs7 -nocrl -certfile leaf.pem -out out -outform DER")
	for name, data := range map[string][]byte{"pkcs12": p12, "pkcs8": p8, "pkcs7": p7} {
		for n := 0; n < len(data); n += 1 + len(data)/150 {
			m := &certs.Material{}
			assert.Error(t, m.Read(name, data[:n], []byte(word)), "%s of %d bytes", name, n)
			assert.Equal(t, certs.Material{}, *m)
		}
	}
	for n := 30; n < len(p12); n += 1 + len(p12)/150 { // what is changed anywhere is noticed by the MAC, at the latest
		m := &certs.Material{}
		damaged := bytes.Clone(p12)
		damaged[n] ^= 1
		assert.Error(t, m.Read("damaged", damaged, []byte(word)), "byte %d", n)
	}
	encrypted := pem.EncodeToMemory(&pem.Block{Type: "ENCRYPTED PRIVATE KEY", Bytes: p8})
	legacy := w.openssl("ec -in key.pem -out out -aes128 -passout file:word")
	for name, data := range map[string][]byte{"pkcs12": p12, "pkcs8": p8, "pkcs8 in PEM": encrypted, "legacy": legacy} {
		var locked *certs.LockedError
		m := &certs.Material{}
		require.ErrorAs(t, m.Read(name, data, nil), &locked, name)
		assert.False(t, locked.Tried)
		require.ErrorAs(t, m.Read(name, data, []byte("another")), &locked, name)
		assert.True(t, locked.Tried)
		assert.NotContains(t, locked.Error(), "another")
		assert.Equal(t, certs.Material{}, *m)
	}
	rounds, many := []byte{2, 2, 8, 0}, []byte{2, 4, 0x7f, 0xff, 0xff, 0xff}
	for name, data := range map[string][]byte{"pkcs12": p12, "pkcs8": p8} {
		require.True(t, bytes.Contains(data, rounds))
		bomb := rewrapped(t, data, rounds, many)
		m := &certs.Material{}
		assert.ErrorContains(t, m.Read(name, bomb, []byte(word)), "it asks for 2147483647 rounds", name)
	}
	scrypt := w.openssl("pkcs8 -topk8 -in key.pem -passout file:word -out out -outform DER -scrypt -scrypt_N 16384")
	m := &certs.Material{}
	assert.ErrorContains(t, m.Read("scrypt", rewrapped(t, scrypt, []byte{2, 2, 0x40, 0}, []byte{2, 4, 0x40, 0, 0, 0}), []byte(word)), "rounds")

	var thousands []byte
	for range 1100 {
		thousands = append(thousands, certs.PEM(w.leaf.Raw)...)
	}
	assert.ErrorContains(t, m.Read("bundle", thousands, nil), "more than 1000 certificates")
	curve := w.openssl("ecparam -genkey -noout -name secp256k1 -out out")
	assert.ErrorContains(t, m.Read("coin", curve, nil), "ECDSA on secp256k1")
	dsa := w.openssl("genpkey -algorithm x25519 -out out")
	assert.ErrorContains(t, m.Read("kex", dsa, nil), "of the kind X25519")
	assert.Equal(t, certs.Material{}, *m)
}

// rewrapped replaces a part of DER and mends the lengths around it.
func rewrapped(t testing.TB, der, from, to []byte) []byte {
	var walk func(in []byte) []byte
	walk = func(in []byte) (out []byte) {
		if bytes.HasPrefix(in, from) && len(in) == len(from) {
			return to
		}
		head := 2
		if in[1] > 0x80 {
			head += int(in[1] & 0x7f)
		}
		body := in[head:]
		if in[0]&0x20 == 0 && (in[0] != 4 || len(body) < 60 || body[0] != 0x30) {
			return in
		}
		var inside []byte
		for len(body) > 0 {
			h, l := 2, int(body[1])
			if body[1] > 0x80 {
				h, l = 2+int(body[1]&0x7f), 0
				for _, b := range body[2:h] {
					l = l<<8 | int(b)
				}
			}
			if h+l > len(body) {
				return in
			}
			inside = append(inside, walk(body[:h+l])...)
			body = body[h+l:]
		}
		return append([]byte{in[0], 0x83, byte(len(inside) >> 16), byte(len(inside) >> 8), byte(len(inside))}, inside...)
	}
	out := walk(der)
	require.NotEqual(t, der, out)
	back, err := pkcs.DER(out)
	require.NoError(t, err)
	return back
}

// TestKeyAndCertificateArePutTogether sorts out what files hold.
func TestKeyAndCertificateArePutTogether(t *testing.T) {
	root := pkitest.CA("root", nil)
	ca := pkitest.CA("ca", root)
	leaf := pkitest.Leaf(ca, "a.lantern.example")
	other := pkitest.Leaf(ca, "b.lantern.example")
	newer := pkitest.Issue(&x509.Certificate{DNSNames: []string{"a.lantern.example"}, NotBefore: pkitest.Now}, ca, leaf.Key)
	text := func(list ...any) (out []byte) {
		for _, v := range list {
			switch v := v.(type) {
			case *pkitest.Entity:
				out = append(out, certs.PEM(v.Raw)...)
			case crypto.Signer:
				key, err := certs.KeyPEM(v)
				require.NoError(t, err)
				out = append(out, key...)
			case string:
				out = append(out, v...)
			}
		}
		return out
	}
	for name, c := range map[string]struct {
		files [][]byte
		which string
		leaf  *pkitest.Entity
		says  string
	}{
		"one file, any order":       {[][]byte{text("Bag\r\n", root, leaf.Key, ca, "and text\n", leaf)}, "", leaf, ""},
		"two files, key first":      {[][]byte{text(leaf.Key), text(leaf, ca)}, "", leaf, ""},
		"twice the same":            {[][]byte{text(leaf, leaf.Key), text(leaf, leaf.Key)}, "", leaf, ""},
		"old and new of one key":    {[][]byte{text(leaf, newer, leaf.Key)}, "", newer, ""},
		"the one that is meant":     {[][]byte{text(leaf, newer, leaf.Key)}, leaf.Fingerprint.String()[:9], leaf, ""},
		"of two pairs the one":      {[][]byte{text(leaf, other, leaf.Key, other.Key)}, other.Fingerprint.String()[:9], other, ""},
		"two pairs":                 {[][]byte{text(leaf, other, leaf.Key, other.Key)}, "", nil, "there are 2 keys with a certificate each"},
		"no key":                    {[][]byte{text(leaf, ca)}, "", nil, "there is no private key: for a.lantern.example"},
		"no certificate":            {[][]byte{text(leaf.Key)}, "", nil, "there is a private key and no certificate"},
		"nothing":                   {nil, "", nil, "neither a certificate nor a private key"},
		"key of another":            {[][]byte{text(leaf, other.Key)}, "", nil, "belongs to none of the certificates: for a.lantern.example"},
		"a fingerprint of nobody's": {[][]byte{text(leaf, leaf.Key)}, "0000", nil, "begins with 0000"},
	} {
		m := &certs.Material{}
		for i, f := range c.files {
			require.NoError(t, m.Read(fmt.Sprintf("file %d", i), f, nil), name)
		}
		p, err := m.Pair(c.which)
		if c.says != "" {
			assert.ErrorContains(t, err, c.says, name)
			continue
		}
		require.NoError(t, err, name)
		assert.Equal(t, c.leaf.Fingerprint, p.Leaf.Fingerprint, name)
		assert.Equal(t, c.leaf.Key.Public(), p.Key.Public(), name)
	}
}

// FuzzMaterial reads anything with any passphrase, and writes what it read back.
func FuzzMaterial(f *testing.F) {
	w := newWorkshop(f, nil)
	for _, line := range []string{"-legacy -nomaciter", "-nomaciter", "-certpbe NONE -keypbe NONE -nomac"} {
		data := w.openssl("pkcs12 -export -inkey key.pem -in leaf.pem -passout pass:x -out out -iter 1 " + line)
		f.Add(data, []byte("x"))
		f.Add(opened(f, data), []byte("x"))
	}
	f.Add(w.openssl("crl2pkcs7 -nocrl -certfile chain.pem -out out -outform DER"), []byte{})
	f.Add(w.openssl("pkcs8 -topk8 -in key.pem -passout pass:x -out out -outform DER -v1 PBE-SHA1-3DES -iter 1"), []byte("x"))
	f.Add(w.openssl("ec -in key.pem -out out -aes128 -passout pass:x"), []byte("x"))
	f.Fuzz(func(t *testing.T, data, passphrase []byte) {
		m := &certs.Material{}
		if err := m.Read("fuzz", data, passphrase); err != nil {
			assert.Equal(t, certs.Material{}, *m)
			return
		}
		if p, err := m.Pair(""); err == nil {
			form := certs.Written{Form: certs.FormPKCS12, Passphrase: passphrase, Alias: p.Alias, Old: true}
			again, err := form.Store(p.Key, []*certs.Certificate{p.Leaf}, rand.Reader)
			require.NoError(t, err)
			require.NoError(t, (&certs.Material{}).Read("again", again, passphrase))
		}
	})
}
