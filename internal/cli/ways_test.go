package cli_test

import (
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/servicetest"
)

// quayside is a folder with a certificate, its key and its chain.
func quayside(t *testing.T) (dir string, root, ca, leaf *pkitest.Entity) {
	dir = t.TempDir()
	root = pkitest.CA("Harbour Root", nil)
	ca = pkitest.CA("Harbour CA", root)
	leaf = pkitest.Leaf(ca, "a.lantern.example")
	key, err := certs.KeyPEM(leaf.Key)
	require.NoError(t, err)
	w := certs.Written{Form: certs.FormPKCS12, Passphrase: []byte("gull rope"), Alias: "kiosk", Old: true}
	p12, err := w.Store(leaf.Key, pkitest.List(leaf, root, ca), rand.Reader)
	require.NoError(t, err)
	for name, data := range map[string][]byte{"root.pem": certs.PEM(root.Raw), "ca.pem": certs.PEM(ca.Raw), "leaf.pem": certs.PEM(leaf.Raw), "leaf.key": key,
		"kiosk.p12": p12, "word": []byte("gull rope\n"), "wrong": []byte("pier\n"), "new": []byte("fog horn\n")} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), data, 0o600))
	}
	return dir, root, ca, leaf
}

// held reads files as somebody else would.
func held(t *testing.T, dir, passphrase string, files ...string) *certs.Material {
	m := &certs.Material{}
	for _, f := range files {
		data, err := os.ReadFile(filepath.Join(dir, f))
		require.NoError(t, err)
		require.NoError(t, m.Read(f, data, []byte(passphrase)))
	}
	return m
}

// TestFilesAreConverted turns every form into every other, and refuses without having
// written anything.
func TestFilesAreConverted(t *testing.T) {
	dir, _, ca, leaf := quayside(t)
	run := func(args ...string) result { return insegnaWith(t, dir, "", append([]string{"convert"}, args...)...) }
	r := run("kiosk.p12", "--passphrase-file", "word", "--out", "a.pem", "--key-out", "a.key")
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.out, "the root: Harbour Root", "what is left away is said")
	for name, mode := range map[string]os.FileMode{"a.pem": 0o644, "a.key": 0o600} {
		st, err := os.Stat(filepath.Join(dir, name))
		require.NoError(t, err)
		assert.Equal(t, mode, st.Mode().Perm(), name)
	}
	p, err := held(t, dir, "", "a.pem", "a.key").Pair("")
	require.NoError(t, err)
	assert.Equal(t, leaf.Fingerprint, p.Leaf.Fingerprint)
	require.Len(t, p.Others, 1)
	assert.Equal(t, ca.Fingerprint, p.Others[0].Fingerprint)

	steps := []struct {
		args  []string
		files []string
		chain int
	}{
		{[]string{"a.key", "a.pem", "--to", "pkcs12", "--out", "b.p12", "--new-passphrase-file", "new"}, []string{"b.p12"}, 1},
		{[]string{"b.p12", "--passphrase-file", "new", "--out", "c.pem"}, []string{"c.pem"}, 1},
		{[]string{"c.pem", "--out", "d.pem", "--key-out", "d.key", "--encrypt-key", "--new-passphrase-file", "new", "--without-chain"}, []string{"d.pem", "d.key"}, 0},
		{[]string{"d.pem", "d.key", "root.pem", "ca.pem", "--passphrase-file", "new", "--to", "pkcs7", "--with-root", "--out", "e.p7b", "--key-out", "e.key"}, []string{"e.p7b", "e.key"}, 2},
		{[]string{"e.p7b", "e.key", "--to", "der", "--without-chain", "--out", "f.der", "--key-out", "f.key", "--old"}, []string{"f.der", "f.key"}, 0},
		{[]string{"f.der", "f.key", "--to", "pkcs12", "--old", "--alias", "seven", "--new-passphrase-file", "new", "--out", "g.p12"}, []string{"g.p12"}, 0},
	}
	for _, s := range steps {
		r := run(s.args...)
		require.Equal(t, 0, r.code, "%v: %s", s.args, r.err)
		p, err := held(t, dir, "fog horn", s.files...).Pair("")
		require.NoError(t, err, s.args)
		assert.Equal(t, leaf.Fingerprint, p.Leaf.Fingerprint)
		assert.Len(t, p.Others, s.chain, s.args)
		if s.files[0] == "g.p12" {
			assert.Equal(t, "seven", p.Alias)
		}
	}
	r = run("leaf.pem", "ca.pem")
	assert.Equal(t, string(certs.PEM(leaf.Raw))+string(certs.PEM(ca.Raw)), r.out)
	var list []struct{ File, Sha256 string }
	require.NoError(t, json.Unmarshal([]byte(run("leaf.pem", "--out", "h.pem", "-o", "json").out), &list))
	assert.Equal(t, "h.pem", list[0].File)
	assert.Equal(t, leaf.Fingerprint.String(), list[0].Sha256)

	there, err := os.ReadDir(dir)
	require.NoError(t, err)
	for says, args := range map[string][]string{
		"kiosk.p12 (a PKCS#12 container) is under a passphrase":             {"kiosk.p12", "--out", "x"},
		"the passphrase does not open kiosk.p12":                            {"kiosk.p12", "--passphrase-file", "wrong", "--out", "x"},
		"a.pem is there already; name another file, or add --overwrite":     {"leaf.pem", "--out", "a.pem"},
		"unknown form \"jks\"; expected pem, der, pkcs7 or pkcs12":          {"leaf.pem", "--to", "jks", "--out", "x"},
		"DER holds one certificate, there are 2":                            {"leaf.pem", "ca.pem", "--to", "der", "--out", "x"},
		"there is no private key: for a.lantern.example":                    {"leaf.pem", "--to", "pkcs12", "--out", "x", "--new-passphrase-file", "new"},
		"a private key is written to a file; give --out FILE":               {"leaf.pem", "leaf.key"},
		"the private key (leaf.key:1) belongs to none of the certificates":  {"ca.pem", "leaf.key", "--out", "x"},
		"pkcs7 holds no key beside the certificates; give --key-out FILE":   {"leaf.pem", "leaf.key", "--to", "pkcs7", "--out", "x"},
		"their encryption is weak":                                          {"leaf.pem", "leaf.key", "--out", "x", "--old", "--encrypt-key", "--new-passphrase-file", "new"},
		"nowhere: no such file":                                             {"nowhere"},
		"a passphrase to write with is needed: there is no terminal to ask": {"leaf.pem", "leaf.key", "--to", "pkcs12", "--out", "x"},
	} {
		r := run(args...)
		assert.NotEqual(t, 0, r.code, args)
		assert.Contains(t, r.err, says)
	}
	after, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, after, len(there), "nothing is written by what is refused")
}

// TestOtherWaysByCommand takes a certificate in and out, carries a request, and runs a
// CA of one's own.
func TestOtherWaysByCommand(t *testing.T) {
	r := servicetest.Start(t)
	dir, _, ca, leaf := quayside(t)
	run := func(args ...string) result { return insegna(t, dir, r.URL, args...) }
	fine := func(args ...string) string {
		got := run(args...)
		require.Equal(t, 0, got.code, "%v: %s", args, got.err)
		return got.out
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "estate.yaml"), []byte(`estate: Ferries
audiences:
  - {name: browsers, roots: [root.pem]}
intermediates: [ca.pem]
servers:
  - {name: quay, addresses: [127.0.0.1], ports: [1]}
hosts:
  - {name: a.lantern.example, at: [quay]}
cas:
  - {name: desk, by: hand, to: desk@ca.example, reply_days: 5}
  - {name: crew, by: private, profiles: [{name: server, names: ["*.crew.example"]}]}
mandates:
  - {name: slow, names: [b.lantern.example], ca: desk}
  - {name: rota, names: [rota.crew.example], ca: crew}
`), 0o600))
	fine("estate", "apply", "estate.yaml")
	cas := fine("ca", "list")
	assert.Contains(t, cas, "your own: insegna ca show crew")
	assert.Contains(t, cas, "asked by hand")
	assert.Contains(t, run("ca", "agree", "desk").err, "has no terms to agree to")

	assert.Contains(t, run("certificate", "take", "kiosk.p12", "--passphrase-file", "wrong").err, "does not open kiosk.p12")
	out := fine("certificate", "take", "kiosk.p12", "--passphrase-file", "word", "--name", "kiosk")
	assert.Contains(t, out, "Taken in as the newest certificate of kiosk (order 1)")
	assert.Contains(t, fine("order", "list"), "issued, taken in")
	assert.Contains(t, run("order", "export", "1", "--out", "k.p12", "--to", "pkcs12", "--reason", "kiosks", "--new-passphrase-file", "new", "--yes").err,
		"may not take private keys out")
	allowKeys(t, r)
	assert.Contains(t, run("order", "export", "1", "--out", "k.pem", "--yes").err, "say it with --reason")
	assert.Contains(t, run("order", "export", "1", "--out", "leaf.pem", "--reason", "x", "--yes").err, "leaf.pem is there already")
	assert.Contains(t, run("order", "export", "1", "--out", "k.pem", "--reason", "x").err, "nobody is here to ask")
	fine("order", "export", "1", "--out", "k.p12", "--to", "pkcs12", "--reason", "kiosks", "--new-passphrase-file", "new", "--yes")
	p, err := held(t, dir, "fog horn", "k.p12").Pair("")
	require.NoError(t, err)
	assert.Equal(t, leaf.Fingerprint, p.Leaf.Fingerprint)
	assert.Equal(t, "kiosk", p.Alias)

	out = fine("mandate", "order", "slow")
	assert.Contains(t, out, "It waits for you: insegna order request 2 --out FILE")
	fine("order", "request", "2", "--out", "slow.csr")
	assert.Contains(t, fine("order", "request", "2"), "BEGIN CERTIFICATE REQUEST")
	assert.Contains(t, fine("order", "list", "--waiting"), "waits for its request to be sent")
	assert.Contains(t, fine("order", "sent", "2", "--expected-by", time.Now().AddDate(0, 0, 3).Format(time.DateOnly)), "waits for the reply of desk@ca.example")
	assert.Contains(t, run("order", "sent", "2", "--expected-by", "soon").err, "is no day")
	assert.Contains(t, fine("mandate", "list"), "to desk@ca.example, reply expected by")
	assert.Contains(t, run("order", "reply", "root.pem").err, "is for a key that no request here has")
	text, err := os.ReadFile(filepath.Join(dir, "slow.csr"))
	require.NoError(t, err)
	block, _ := pem.Decode(text)
	request, err := x509.ParseCertificateRequest(block.Bytes)
	require.NoError(t, err)
	der, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{SerialNumber: leaf.SerialNumber, DNSNames: request.DNSNames, NotBefore: leaf.NotBefore,
		NotAfter: leaf.NotAfter}, ca.X509(), request.PublicKey, ca.Key)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "reply.der"), der, 0o600))
	assert.Contains(t, fine("order", "reply", "reply.der"), "Issued: certificate and key lie in the safe")
	fine("mandate", "order", "slow", "--yes")
	assert.Contains(t, run("order", "end", "3").err, "nobody is here to ask")
	assert.Contains(t, fine("order", "end", "3", "--yes"), "Order 3 of slow has ended")
	assert.Contains(t, run("order", "show", "3").err, "given up by keeper")

	assert.Contains(t, run("mandate", "order", "rota").err, "the CA crew has not been made yet\n         make it: insegna ca make crew")
	assert.Contains(t, run("ca", "show", "crew").err, "there is no CA of your own")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "long"), []byte("lamp pier gull rope\n"), 0o600))
	assert.NotEqual(t, 0, run("ca", "make", "crew", "--root-key", "root.key", "--new-passphrase-file", "new").code, "a passphrase that is too short")
	assert.Contains(t, run("ca", "make", "crew", "--key", "dsa").err, `unknown kind of key "dsa"`)
	assert.Contains(t, run("ca", "make", "crew", "--permit", "*.crew.example").err, "is nothing a CA can be confined to")
	out = fine("ca", "make", "crew", "--organization", "Ferries", "--permit", "crew.example", "--root-key", "root.key", "--new-passphrase-file", "long")
	assert.Contains(t, out, "The root's key is in root.key, under its passphrase, and nowhere else")
	assert.Contains(t, out, "kept elsewhere")
	assert.Len(t, held(t, dir, "lamp pier gull rope", "root.key").Keys, 1)
	assert.Contains(t, run("ca", "make", "crew").err, "is in force already")
	assert.Contains(t, fine("mandate", "check", "rota"), "is your own, and wants no proof")
	assert.Contains(t, fine("mandate", "order", "rota"), "Issued: certificate and key lie in the safe")
	out = fine("mandate", "forecast")
	assert.Contains(t, out, "Renewals of 3 mandates in 30 days each")
	assert.Regexp(t, `47 days +crew +\d+ +\d+ on \d{4}-\d\d-\d\d +not declared`, out)
	fine("ca", "root", "crew", "--out", "crew.pem")
	require.Len(t, held(t, dir, "", "crew.pem").Certificates, 1)
	key := pkitest.NewKey()
	for name, host := range map[string]string{"in.csr": "printer.crew.example", "out.csr": "a.lantern.example"} {
		der, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{DNSNames: []string{host}}, key)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: der}), 0o600))
	}
	assert.Contains(t, run("ca", "sign", "crew", "out.csr").err, "a.lantern.example is none of *.crew.example")
	assert.Contains(t, run("ca", "sign", "desk", "in.csr").err, "desk is asked by hand")
	assert.Contains(t, fine("ca", "sign", "crew", "in.csr", "--out", "printer.pem"), "Issued until")
	var issued []client.IssuedByAuthority
	require.NoError(t, json.Unmarshal([]byte(fine("ca", "issued", "crew", "-o", "json")), &issued))
	require.Len(t, issued, 2)
	assert.Equal(t, []string{"printer.crew.example"}, issued[0].Names)
	assert.Contains(t, run("ca", "revoke", "crew", "zz", "--yes").err, `"zz" is no serial number`)
	assert.Contains(t, run("ca", "revoke", "crew", issued[0].Serial).err, "nobody is here to ask")
	fine("ca", "revoke", "crew", issued[0].Serial, "--reason", "superseded", "--yes")
	assert.Contains(t, fine("ca", "issued", "crew"), "✗ revoked")
}

// allowKeys lets the keeper take private keys out.
func allowKeys(t *testing.T, r *servicetest.Running) {
	people, err := r.Client.ListPeopleWithResponse(t.Context())
	require.NoError(t, err)
	yes := true
	for _, p := range people.JSON200.Items {
		_, err := r.Client.ChangePersonWithResponse(t.Context(), p.Name, client.PersonChange{Keys: &yes})
		require.NoError(t, err)
	}
}
