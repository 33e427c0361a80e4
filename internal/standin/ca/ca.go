// Package ca is a stand-in for a public CA: a small RFC 8555 server that is
// strict about what clients must do and validates for real, over http and DNS.
//
// It offers renewal information (RFC 9773), external account binding,
// alternate chains and a CRL, and has faults that can be switched on. It keeps
// everything in memory and is no CA for anybody.
package ca

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"io"
	"log"
	"math/big"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// Issuer is a CA certificate with its key.
type Issuer struct {
	Certificate *x509.Certificate
	Key         crypto.Signer
}

// Config says what kind of CA it is.
type Config struct {
	Name       string              // for its terms, and its identity in CAA records
	Listen     string              // address and port, 127.0.0.1:0 for any
	Issuer     Issuer              // issues the certificates
	Chain      []*x509.Certificate // sent behind a leaf: the issuer and those above it
	Alternates [][]*x509.Certificate
	Server     *tls.Certificate         // its own; nil makes one of the issuer's
	Resolver   string                   // DNS server to ask, address and port
	HTTPPort   int                      // where http-01 is looked at; 80 when 0
	TLSPort    int                      // where tls-alpn-01 is looked at; 443 when 0
	Profiles   map[string]time.Duration // lives of the kinds of certificate offered, by name
	MACKeys    map[string][]byte        // customers' keys; when there are any, an account must be bound to one
	Lifetime   time.Duration            // of certificates; 90 days when 0
	Renewal    time.Duration            // after which it suggests to renew; two thirds of the life when 0
	Reuse      time.Duration            // how long a valid authorization counts; 0 for not at all
}

// Identity is what CAA records call this CA.
func (c *Config) Identity() string { return c.Name }

// CA is a running stand-in.
type CA struct {
	Config
	Faults Faults

	base   string
	server *http.Server

	sockets  sync.Pool // of *dns.Conn to the resolver, over UDP
	requests atomic.Int64
	signed   atomic.Int64

	mu       sync.Mutex
	nonces   map[string]bool
	accounts map[string]*account // by thumbprint
	objects  map[string]any      // orders, authorizations, challenges by path
	issued   map[string]*issued  // by serial
	number   int
	terms    string          // path of the terms in force; "" for the first ones
	disputed map[string]bool // accounts, by URL, that have not agreed to those yet
	agent    string          // of the last request
}

// ChangeTerms puts other terms in force: no account may order before somebody has
// opened the page it is sent to (RFC 8555 section 7.3.3).
func (a *CA) ChangeTerms() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.terms, a.disputed = "/terms-2", map[string]bool{}
	for _, k := range a.accounts {
		a.disputed[k.url] = true
	}
}

// termsAt is where the terms in force are.
func (a *CA) termsAt() string {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.terms == "" {
		return a.base + "/terms"
	}
	return a.base + a.terms
}

// Agent is what the last client called itself.
func (a *CA) Agent() string {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.agent
}

// Contact is what an account, by its URL, gave as its contact.
func (a *CA) Contact(url string) []string {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, k := range a.accounts {
		if k.url == url {
			return k.contact
		}
	}
	return nil
}

// RevokedFor is the reason a certificate, by its SHA-256, was revoked for; -1 when it
// was not.
func (a *CA) RevokedFor(fingerprint string) int {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, i := range a.issued {
		if fmt.Sprintf("%x", sha256.Sum256(i.der)) == fingerprint && !i.revoked.IsZero() {
			return i.reason
		}
	}
	return -1
}

// Pending counts the authorizations that wait for a proof.
func (a *CA) Pending() (n int) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, o := range a.objects {
		if z, ok := o.(*authorization); ok && z.status == "pending" {
			n++
		}
	}
	return n
}

// account is one account, by its key (RFC 8555 section 7.1.2).
type account struct {
	url, thumbprint string
	key             *jose.JSONWebKey
	status          string
	contact         []string
	orders          []string
	external        any
}

// identifier is a name in the protocol's form.
type identifier struct {
	Type  string `json:"type"`
	Value string `json:"value"`
}

// order is one order. Its status follows from its authorizations until it is
// finalized.
type order struct {
	path     string
	by       *account
	status   string
	expires  time.Time
	names    []identifier
	auths    []*authorization
	problem  *problem
	replaces string
	profile  string
	cert     *issued
}

// authorization is one name of one account to be proved (section 7.1.4).
type authorization struct {
	path       string
	by         *account
	name       identifier // without the wildcard label
	wildcard   bool
	status     string
	expires    time.Time
	challenges []*challenge
}

// challenge is one way to prove it (section 8).
type challenge struct {
	path, kind, token string
	status            string
	problem           *problem
	of                *authorization
}

// issued is a certificate this CA made, with what became of it.
type issued struct {
	path     string
	by       *account
	der      []byte
	leaf     *x509.Certificate
	revoked  time.Time
	reason   int
	replaced bool
}

// Start begins to listen.
func Start(c Config) (*CA, error) {
	if c.HTTPPort == 0 {
		c.HTTPPort = 80
	}
	if c.TLSPort == 0 {
		c.TLSPort = 443
	}
	if c.Lifetime == 0 {
		c.Lifetime = 90 * 24 * time.Hour
	}
	a := &CA{Config: c, nonces: map[string]bool{}, accounts: map[string]*account{}, objects: map[string]any{},
		issued: map[string]*issued{}}
	l, err := net.Listen("tcp", c.Listen)
	if err != nil {
		return nil, err
	}
	if c.Server == nil {
		own, err := a.ownCertificate(l.Addr())
		if err != nil {
			return nil, err
		}
		c.Server = own
	}
	a.Server, a.base = c.Server, "https://"+l.Addr().String()
	a.answer(l)
	return a, nil
}

// answer serves the protocol over TLS at a listener.
func (a *CA) answer(l net.Listener) {
	a.server = &http.Server{Handler: a, ReadHeaderTimeout: 10 * time.Second, ErrorLog: log.New(io.Discard, "", 0),
		TLSConfig: &tls.Config{Certificates: []tls.Certificate{*a.Server}, MinVersion: tls.VersionTLS12}}
	go func(s *http.Server) { _ = s.ServeTLS(l, "", "") }(a.server)
}

// Close ends it: nobody answers any more.
func (a *CA) Close() { _ = a.server.Close() }

// Reopen answers again at the same address, with all that was known.
func (a *CA) Reopen() error {
	l, err := net.Listen("tcp", strings.TrimPrefix(a.base, "https://"))
	if err == nil {
		a.answer(l)
	}
	return err
}

// Directory is the URL to give a client.
func (a *CA) Directory() string { return a.base + "/directory" }

// Requests counts the requests answered, and those among them that were signed.
func (a *CA) Requests() (all, signed int64) { return a.requests.Load(), a.signed.Load() }

// Issued gives the certificates issued so far.
func (a *CA) Issued() (list []*x509.Certificate) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, i := range a.issued {
		list = append(list, i.leaf)
	}
	return list
}

// Orders counts the orders made so far.
func (a *CA) Orders() (n int) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, o := range a.objects {
		if _, ok := o.(*order); ok {
			n++
		}
	}
	return n
}

// ownCertificate makes the certificate the CA shows at its own address, by its
// own issuer.
func (a *CA) ownCertificate(at net.Addr) (*tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	ip := netip.MustParseAddrPort(at.String()).Addr()
	t := &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: a.Name},
		IPAddresses: []net.IP{ip.AsSlice()},
		NotBefore:   time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(0, 3, 0),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	der, err := x509.CreateCertificate(rand.Reader, t, a.Issuer.Certificate, key.Public(), a.Issuer.Key)
	if err != nil {
		return nil, err
	}
	out := &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
	for _, c := range a.Chain {
		out.Certificate = append(out.Certificate, c.Raw)
	}
	return out, nil
}

// serial is 127 random bits with one set, so positive and never zero (RFC 5280
// section 4.1.2.2).
func serial() *big.Int {
	b := make([]byte, 16)
	_, _ = rand.Read(b) // never fails, crypto/rand's contract
	b[0] = b[0]&0x7f | 1
	return new(big.Int).SetBytes(b)
}

// path makes the next one of a kind.
func (a *CA) path(kind string) string {
	a.number++
	return fmt.Sprintf("/%s/%d", kind, a.number)
}

// chainPEM writes a chain as application/pem-certificate-chain has it (section
// 9.1).
func (a *CA) chainPEM(leaf []byte, rest []*x509.Certificate) []byte {
	out := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: leaf})
	for _, c := range rest {
		out = append(out, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})...)
	}
	return out
}
