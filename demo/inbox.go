package demo

import (
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"os"
	"time"

	"insegna.example/internal/core/certs"
)

// What came by mail lies in the inbox: a container to take in, and, once a request has
// gone out by hand, the reply to it and one that belongs to another.
const inbox = "inbox"

// KioskFile is a PKCS#12 container with an old cipher, KioskWord the file with its
// passphrase.
func (e *Estate) KioskFile() string { return e.path(inbox, "kiosks.p12") }

// KioskWord is the file with the passphrase of KioskFile.
func (e *Estate) KioskWord() string { return e.path(inbox, "kiosks.passphrase") }

// Request is where the request that goes out by hand is written.
func (e *Estate) Request() string { return e.path(inbox, "pilot-station.csr") }

// PrivateCA are the files of the crew's CA: its certificate, its key, and the root
// above it.
func (e *Estate) PrivateCA() []string {
	return []string{e.path("pki", "crew-issuing.pem"), e.path("pki", "crew-issuing.key"), e.path("pki", "crew-root.pem")}
}

// kiosks makes the container with an old cipher.
func (m *maker) kiosks(issuing, policy *authority) {
	const word = "fog horn 7 lantern"
	m.site("pki/kiosks", issuing, append(append([]byte{}, issuing.pem...), policy.pem...), 3, 87, "kiosks.lanterncoast.example")
	if m.err != nil {
		return
	}
	held := &certs.Material{}
	for _, name := range []string{"pki/kiosks.pem", "pki/kiosks.key"} {
		if err := held.Read(name, m.read(name), nil); err != nil {
			m.err = err
			return
		}
	}
	w := certs.Written{Form: certs.FormPKCS12, Passphrase: []byte(word), Alias: "kiosks", Old: true}
	data, err := w.Store(held.Keys[0].Signer, held.Certificates, rand.Reader)
	if err != nil {
		m.err = err
		return
	}
	m.write(inbox+"/kiosks.p12", data)
	m.write(inbox+"/kiosks.passphrase", []byte(word+"\n"))
}

// Reply writes what comes back for a request: the certificate asked for in a PKCS#7
// container, and one that somebody else asked for.
func (e *Estate) Reply() error {
	text, err := os.ReadFile(e.Request())
	if err != nil {
		return err
	}
	block, _ := pem.Decode(text)
	if block == nil {
		return fmt.Errorf("%s holds no request", e.Request())
	}
	request, err := x509.ParseCertificateRequest(block.Bytes)
	if err != nil {
		return err
	}
	m := &maker{dir: e.Dir, now: time.Now().UTC(), use: x509.ExtKeyUsageServerAuth}
	by, err := m.kept("pki/issuing")
	if err != nil {
		return err
	}
	t := &x509.Certificate{SerialNumber: m.serial(), Subject: request.Subject, DNSNames: request.DNSNames, NotBefore: m.now,
		NotAfter: m.now.AddDate(0, 0, 180), KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{m.use}, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, t, by.cert, request.PublicKey, by.key)
	if err != nil {
		return err
	}
	list, err := certs.ReadCertificates(append(certs.PEM(der), append(m.read("pki/issuing.pem"), m.read("pki/policy.pem")...)...))
	if err != nil {
		return err
	}
	bag := certs.Written{Form: certs.FormPKCS7}
	data, err := bag.Certificates(list)
	if err != nil {
		return err
	}
	m.write(inbox+"/pilot-station.p7b", data)
	m.site("pki/other-desk", by, by.pem, 0, 180, "dredger.lanterncoast.example")
	m.copy("pki/other-desk.pem", inbox+"/reply-of-another.pem")
	return m.err
}

// kept reads a CA back that was written with its key.
func (m *maker) kept(name string) (*authority, error) {
	a := &authority{pem: m.read(name + ".pem")}
	held := &certs.Material{}
	for _, file := range []string{name + ".pem", name + ".key"} {
		if err := held.Read(file, m.read(file), nil); err != nil {
			return nil, err
		}
	}
	if m.err != nil {
		return nil, m.err
	}
	a.cert, a.key = held.Certificates[0].Certificate, held.Keys[0].Signer
	return a, nil
}
