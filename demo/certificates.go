package demo

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"io/fs"
	"math/big"
	"os"
	"path/filepath"
	"time"

	"insegna.example/internal/core/lifetime"
)

// authority is a CA of the demo.
type authority struct {
	cert *x509.Certificate
	key  crypto.Signer
	pem  []byte
}

// maker makes the demo's certificates; the first error ends it.
type maker struct {
	dir string
	now time.Time
	use x509.ExtKeyUsage // what the sites' certificates are for
	err error
}

// freshFor is how long made certificates are used again: their dates are told
// relative to the day they were made.
const freshFor = 12 * time.Hour

// makeCertificates makes the public-style CA (Harbour Light), the private one
// (Crew), and every certificate, good and bad; or keeps those of a short
// while ago, so that a second start changes nothing.
func (e *Estate) makeCertificates(now time.Time) error {
	mark := e.path("pki", "made")
	if st, err := os.Stat(mark); err == nil && now.Sub(st.ModTime()) < freshFor {
		return nil
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	m := &maker{dir: e.Dir, now: now.UTC().Truncate(time.Second), use: x509.ExtKeyUsageServerAuth}
	harbour := m.authority("Harbour Light Root", nil, 3650)
	policy := m.authority("Harbour Light CA", harbour, 1825)
	issuing := m.authority("Harbour Light Issuing CA 2", policy, 900)
	crew := m.authority("Lantern Coast Crew Root", nil, 3650)
	crewIssuing := m.authority("Lantern Coast Crew CA", crew, 1825)
	m.write("pki/harbour-root.pem", harbour.pem)
	m.write("pki/crew-root.pem", crew.pem)
	m.write("pki/crew-ca.pem", crewIssuing.pem)
	m.keep("pki/crew-issuing", crewIssuing)
	rehearsal := m.authority("Harbour Light Rehearsal Root", nil, 3650)
	m.write("pki/rehearsal-root.pem", rehearsal.pem)
	m.write("pki/policy.pem", policy.pem)
	m.keep("pki/issuing", issuing)
	m.keep("pki/test-issuing", m.authority("Harbour Light Rehearsal CA", rehearsal, 900))

	m.sites(issuing, policy, harbour, crew, crewIssuing)
	m.kiosks(issuing, policy)
	m.write("pki/made", nil)
	return m.err
}

// sites makes what the estate's servers hold, each good or wrong in the way the
// table of faults tells.
func (m *maker) sites(issuing, policy, harbour, crew, crewIssuing *authority) {
	public := append(append([]byte{}, issuing.pem...), policy.pem...)
	m.site("quay-lb/booking", issuing, public, 16, 74, "booking.lanterncoast.example")
	m.copies("quay-lb/booking", "pier-1/booking")
	m.site("pier-1/booking-2025", issuing, public, 380, -290, "booking.lanterncoast.example")
	m.open("pier-1/booking-2025.key")
	m.site("pier-2/booking", issuing, public, 70, 20, "booking.lanterncoast.example")
	m.site("quay-lb/tickets", issuing, public, 44, 46, "tickets.lanterncoast.example")
	m.copies("quay-lb/tickets", "pier-1/tickets", "pier-2/tickets")
	m.site("quay-lb/wildcard", issuing, public, 90, 108, "*.lanterncoast.example")
	m.site("quay-lb/status/1-status", issuing, public, 93, -3, "status.lanterncoast.example")
	m.site("quay-lb/status/2-status-2026", issuing, public, 8, 82, "status.lanterncoast.example")
	m.site("quay-lb/api", issuing, public, 1, 5, "api.lanterncoast.example")
	m.site("pier-2/timetable", issuing, public, 2, 88, "timetable.lanterncoast.example")
	m.site("pki/swaps/pier-1/timetable-old", issuing, public, 70, 20, "timetable.lanterncoast.example")
	m.move("pki/swaps/pier-1/timetable-old.pem", "pki/swaps/pier-1/timetable.pem.before")
	m.move("pki/swaps/pier-1/timetable-old.key", "pki/swaps/pier-1/timetable.key.before")
	m.copy("pier-2/timetable.pem", "pki/swaps/pier-1/timetable.pem.after")
	m.copy("pier-2/timetable.key", "pki/swaps/pier-1/timetable.key.after")
	m.site("pier-1/parcels", issuing, public, 86, 4, "parcels.lanterncoast.example")
	m.site("pier-1/parcels-2026", issuing, public, 3, 87, "parcels.lanterncoast.example")
	m.site("pier-1/old-shop", issuing, public, 20, 70, "old-shop.lanterncoast.example")
	m.site("pier-1/anchorage", issuing, public, 33, 57, "anchorage.lanterncoast.example")
	m.copy("pier-1/anchorage.pem", "pki/swaps/pier-1/anchorage.pem.before")
	m.leafOnly("pier-1/anchorage.pem", "pki/swaps/pier-1/anchorage.pem.after")
	m.site("pier-2/events", issuing, public, 5, 85, "events.lanterncoast.example")
	m.site("freight-1/crane", issuing, public, 21, 69, "crane.lanterncoast.example")
	m.copy("freight-1/crane.key", "pki/swaps/freight-1/crane.key.before")
	m.copy("freight-1/crane.key", "freight-1/crane-right.key")
	m.site("freight-1/freight", issuing, public, 84, 6, "freight.lanterncoast.example", "www.freight.lanterncoast.example")
	m.site("freight-1/cargo", issuing, public, 30, 60, "freight-old.lanterncoast.example")
	m.site("freight-1/ships", issuing, append(append([]byte{}, policy.pem...), issuing.pem...), 25, 65,
		"ships.lanterncoast.example")
	m.site("freight-1/ferry", issuing, public, 10, 80, "xn--fhre-loa.lanterncoast.example")
	m.site("pier-1/crew", crewIssuing, crewIssuing.pem, 100, 265, "crew.lanterncoast.example")
	m.site("pier-2/roster", crewIssuing, nil, 100, 265, "roster.lanterncoast.example")
	former := m.authority(crewIssuing.cert.Subject.CommonName, crew, 300) // the crew's CA had another key then
	m.site("pier-2/pilots", crewIssuing, former.pem, 40, 325, "pilots.lanterncoast.example")
	m.use = x509.ExtKeyUsageClientAuth
	m.site("pier-2/tugs", crewIssuing, crewIssuing.pem, 30, 335, "tugs.lanterncoast.example")
	m.use = x509.ExtKeyUsageServerAuth
	m.site("pier-1/menu", issuing, append(append([]byte{}, public...), harbour.pem...), 40, 50,
		"menu.lanterncoast.example")
	m.site("pier-2/lost-property", nil, nil, 900, 2700, "lost-property.lanterncoast.example")
	m.site("pier-1/radar", issuing, public, 60, 330, "radar.lanterncoast.example")
	m.site("pier-2/webcam", crewIssuing, crewIssuing.pem, 30, 335, "webcam.lanterncoast.example")
	m.site("freight-1/tracking", issuing, public, 12, 78, "tracking.lanterncoast.example")
	m.site("kiosk-gw/tracking-node", crewIssuing, crewIssuing.pem, 377, -12, "tracking.lanterncoast.example")
	m.site("kiosk-gw/harbourmaster", issuing, public, 50, 40, "harbourmaster.lanterncoast.example")
	m.site("crew-gw/galley", crewIssuing, crewIssuing.pem, 40, 20, "galley.crew.lanterncoast.example")
	m.copy("freight-1/ships.key", "pki/swaps/freight-1/crane.key.after")
}

// write writes a file below the estate's folder for its owner alone. The first
// error stays with the maker, and every later call does nothing, so that a list
// of files reads as one.
func (m *maker) write(name string, data []byte) {
	if m.err != nil {
		return
	}
	path := filepath.Join(m.dir, name)
	if m.err = os.MkdirAll(filepath.Dir(path), 0o755); m.err == nil {
		m.err = os.WriteFile(path, data, 0o600)
	}
}

// open lets everybody read a file, as a hasty copy does.
func (m *maker) open(name string) {
	if m.err == nil {
		m.err = os.Chmod(filepath.Join(m.dir, name), 0o644)
	}
}

// copies takes a certificate with its key to other places.
func (m *maker) copies(from string, to ...string) {
	for _, t := range to {
		for _, ext := range []string{".pem", ".key"} {
			m.copy(from+ext, t+ext)
		}
	}
}

// read reads back what was written before.
func (m *maker) read(name string) []byte {
	data, err := os.ReadFile(filepath.Join(m.dir, name))
	if err != nil && m.err == nil {
		m.err = err
	}
	return data
}

// copy puts the same bytes at another place, as people do who share one
// certificate between servers.
func (m *maker) copy(from, to string) { m.write(to, m.read(from)) }

// move is a copy whose original goes.
func (m *maker) move(from, to string) {
	m.copy(from, to)
	if m.err == nil {
		m.err = os.Remove(filepath.Join(m.dir, from))
	}
}

// leafOnly copies the first certificate of a file.
func (m *maker) leafOnly(from, to string) {
	if block, _ := pem.Decode(m.read(from)); block != nil {
		m.write(to, pem.EncodeToMemory(block))
	}
}

// key makes a P-256 key; the demo does not vary kinds of key.
func (m *maker) key() crypto.Signer {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil && m.err == nil {
		m.err = err
	}
	return key
}

// serial is random and never zero, as RFC 5280 section 4.1.2.2 asks.
func (m *maker) serial() *big.Int {
	n, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil && m.err == nil {
		m.err = err
		return big.NewInt(1)
	}
	return n.Add(n, big.NewInt(1))
}

// authority makes a CA; by nil makes a root.
func (m *maker) authority(name string, by *authority, days int) *authority {
	t := &x509.Certificate{
		SerialNumber: m.serial(), Subject: pkix.Name{CommonName: name, Organization: []string{"Harbour Light Trust"}},
		NotBefore: m.now.AddDate(-1, 0, 0), NotAfter: m.now.AddDate(0, 0, days),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign,
	}
	key := m.key()
	a := &authority{key: key}
	if by == nil {
		by = &authority{cert: t, key: key}
	}
	a.cert, a.pem = m.sign(t, by, key)
	return a
}

// keep writes a CA with its key, for the stand-in that issues with it.
func (m *maker) keep(name string, a *authority) {
	m.write(name+".pem", a.pem)
	der, err := x509.MarshalECPrivateKey(a.key.(*ecdsa.PrivateKey))
	if err != nil {
		m.err = err
		return
	}
	m.write(name+".key", pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: der}))
}

// site makes a certificate begun so many days ago with so many left (negative:
// ended), and writes NAME.pem (with the chain behind it) and NAME.key.
func (m *maker) site(name string, by *authority, chain []byte, age, left int, hosts ...string) {
	key := m.key()
	spare := time.Hour // a little beyond the day, so that the days left read as told
	if left < 0 {
		spare = -spare
	}
	t := &x509.Certificate{
		SerialNumber: m.serial(), Subject: pkix.Name{CommonName: hosts[0]}, DNSNames: hosts,
		NotBefore: m.now.Add(-time.Duration(age) * lifetime.Day),
		NotAfter:  m.now.Add(time.Duration(left)*lifetime.Day + spare - time.Second),
		KeyUsage:  x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{m.use},
		BasicConstraintsValid: true,
	}
	if by == nil {
		by = &authority{cert: t, key: key}
	}
	_, leaf := m.sign(t, by, key)
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil && m.err == nil {
		m.err = err
	}
	m.write(name+".pem", append(append([]byte{}, leaf...), chain...))
	m.write(name+".key", pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
}

// sign gives the certificate and its DER; by may be the template itself, which
// then signs itself.
func (m *maker) sign(t *x509.Certificate, by *authority, key crypto.Signer) (*x509.Certificate, []byte) {
	if m.err != nil {
		return t, nil
	}
	der, err := x509.CreateCertificate(rand.Reader, t, by.cert, key.Public(), by.key)
	if err != nil {
		m.err = err
		return t, nil
	}
	c, err := x509.ParseCertificate(der)
	if err != nil {
		m.err = err
	}
	return c, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
}
