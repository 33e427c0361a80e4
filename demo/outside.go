package demo

import (
	"crypto/rand"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"insegna.example/internal/standin/bind"
	"insegna.example/internal/standin/ca"
	"insegna.example/internal/standin/sink"
)

// Where the outside of the demo listens: the CA with its test directory on an
// address of the estate, and BIND, which knows the machine's own addresses
// only, on a port of the estate.
func (e *Estate) caAddress() string { return e.Addr(40) + ":14000" }

// testCAAddress is where the CA's test directory answers, for rehearsals.
func (e *Estate) testCAAddress() string { return e.Addr(40) + ":14001" }

// CADirectory is the directory of the demo's CA.
func (e *Estate) CADirectory() string { return "https://" + e.caAddress() + "/directory" }

// CrewACME is where the service answers clients of the crew's CA: address and port.
func (e *Estate) CrewACME() string { return e.Addr(1) + ":7443" }

// TestCADirectory is that of its rehearsals.
func (e *Estate) TestCADirectory() string { return "https://" + e.testCAAddress() + "/directory" }

// NameServer is where the demo's BIND answers.
func (e *Estate) NameServer() string { return fmt.Sprintf("127.0.0.1:%d", 15300+e.Net) }

// Mail is where the demo's mail server takes mail.
func (e *Estate) Mail() string { return e.Addr(41) + ":2525" }

// Sink is where messages to programs go, and where those that came in, and mail, can be read.
func (e *Estate) Sink() string { return e.Addr(41) + ":8025" }

// HookFile holds the secret that messages to programs are signed with.
func (e *Estate) HookFile() string { return e.path("outside", "hook.secret") }

// TSIGFile holds the key for updates of the demo's zone.
func (e *Estate) TSIGFile() string { return e.path("names", "tsig.key") }

// httpPort is where the demo's CA looks for files, since port 80 is not an
// ordinary user's.
const httpPort = 8080

// outside starts the CA, its test directory and the name server.
func (e *Estate) outside() error {
	for address, from := range map[string]string{e.caAddress(): "issuing", e.testCAAddress(): "test-issuing"} {
		issuer, err := e.issuer(from)
		if err != nil {
			return err
		}
		chain := []*x509.Certificate{issuer.Certificate}
		if from == "issuing" {
			policy, err := readCertificate(e.path("pki", "policy.pem"))
			if err != nil {
				return err
			}
			chain = append(chain, policy)
		}
		running, err := ca.Start(ca.Config{Name: "harbourlight.example", Listen: address, Issuer: issuer, Chain: chain,
			Resolver: e.NameServer(), HTTPPort: httpPort})
		if err != nil {
			return fmt.Errorf("starting the demo's CA: %w", err)
		}
		e.cas = append(e.cas, running)
	}
	secret, err := secretIn(e.TSIGFile())
	if err != nil {
		return err
	}
	signed, err := secretIn(e.HookFile())
	if err != nil {
		return err
	}
	if e.sink, err = sink.Start(sink.Config{Mail: e.Mail(), Page: e.Sink(), Secret: signed}); err != nil {
		return fmt.Errorf("starting the demo's mail server: %w", err)
	}
	zone := fmt.Sprintf(`$TTL 60
@ IN SOA ns ops 1 3600 600 86400 60
@ IN NS ns
ns IN A 127.0.0.1
@ IN A %[1]s
@ IN CAA 0 issue "harbourlight.example"
www IN A %[1]s
booking IN A %[2]s
tickets IN A %[2]s
timetable IN A %[2]s
deck-plans IN A %[2]s
parcels IN A %[2]s
`, e.Addr(10), e.Addr(11))
	e.names, err = bind.Start(bind.Config{Dir: e.path("names"), Address: e.NameServer(), KeyName: "insegna",
		Secret: secret,
		Zones: map[string]string{"lanterncoast.example": zone,
			"example": "$TTL 60\n@ IN SOA ns.test. ops.test. 1 3600 600 86400 60\n@ IN NS ns.test.\n"}})
	return err
}

// stopOutside stops what stands for the world outside the estate: CAs and name
// servers. It may be called twice.
func (e *Estate) stopOutside() {
	for _, c := range e.cas {
		c.Close()
	}
	if e.names != nil {
		e.names.Stop()
	}
	if e.sink != nil {
		e.sink.Stop()
	}
	e.cas, e.names, e.sink = nil, nil, nil
}

// secretIn gives the secret in a file, made at the first start.
func secretIn(path string) (string, error) {
	if text, err := os.ReadFile(path); err == nil {
		return string(text), nil
	}
	b := make([]byte, 32)
	_, _ = rand.Read(b) // never fails, crypto/rand's contract
	text := base64.StdEncoding.EncodeToString(b)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return "", err
	}
	return text, os.WriteFile(path, []byte(text), 0o600)
}

// readCertificate reads the first certificate of a PEM file.
func readCertificate(path string) (*x509.Certificate, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	b, _ := pem.Decode(data)
	if b == nil {
		return nil, errors.New(path + " holds no certificate")
	}
	return x509.ParseCertificate(b.Bytes)
}

// issuer loads a CA's certificate and key, made before with the other
// certificates.
func (e *Estate) issuer(name string) (ca.Issuer, error) {
	cert, err := readCertificate(e.path("pki", name+".pem"))
	if err != nil {
		return ca.Issuer{}, err
	}
	data, err := os.ReadFile(e.path("pki", name+".key"))
	if err != nil {
		return ca.Issuer{}, err
	}
	b, _ := pem.Decode(data)
	if b == nil {
		return ca.Issuer{}, errors.New(name + ".key holds no key")
	}
	key, err := x509.ParseECPrivateKey(b.Bytes)
	if err != nil {
		return ca.Issuer{}, err
	}
	return ca.Issuer{Certificate: cert, Key: key}, nil
}
