package proof

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"errors"
	"fmt"
	"math/big"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"
)

// ALPN is the protocol a CA asks for when it looks for a proof by tls-alpn-01 (RFC
// 8737 section 4).
const ALPN = "acme-tls/1"

// oidIdentifier is the extension that holds the proof (RFC 8737 section 3).
var oidIdentifier = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 1, 31}

// ServerName is what a CA sends as the server's name when it looks for a proof by
// tls-alpn-01: the host, or for an address its name in the reverse tree, without the
// dot at its end (RFC 8738 section 6).
func ServerName(name string) string {
	if _, err := netip.ParseAddr(name); err != nil {
		return name
	}
	reverse, err := dns.ReverseAddr(name)
	if err != nil {
		return name
	}
	return strings.TrimSuffix(reverse, ".")
}

// named is the name a CA means by a server's name: the inverse of ServerName.
func named(server string) string {
	server = strings.ToLower(strings.TrimSuffix(server, "."))
	if labels, ok := strings.CutSuffix(server, ".in-addr.arpa"); ok {
		list := strings.Split(labels, ".")
		slices.Reverse(list)
		if a, err := netip.ParseAddr(strings.Join(list, ".")); err == nil {
			return a.String()
		}
	}
	if labels, ok := strings.CutSuffix(server, ".ip6.arpa"); ok {
		list := strings.Split(labels, ".")
		slices.Reverse(list)
		digits := strings.Join(list, "")
		var groups []string
		for i := 0; i+4 <= len(digits); i += 4 {
			groups = append(groups, digits[i:i+4])
		}
		if a, err := netip.ParseAddr(strings.Join(groups, ":")); err == nil {
			return a.String()
		}
	}
	return server
}

// ALPNCertificate is the certificate that shows a key authorization for a name (RFC
// 8737 section 3): self-signed, for that name alone, good for an hour.
func ALPNCertificate(name, authorization string) (*tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256([]byte(authorization))
	value, err := asn1.Marshal(sum[:])
	if err != nil {
		return nil, err
	}
	const serialBits = 64
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), serialBits))
	if err != nil {
		return nil, err
	}
	now := time.Now()
	t := &x509.Certificate{SerialNumber: serial.Add(serial, big.NewInt(1)), Subject: pkix.Name{CommonName: "proof of control"},
		NotBefore: now.Add(-time.Hour), NotAfter: now.Add(time.Hour),
		ExtraExtensions: []pkix.Extension{{Id: oidIdentifier, Critical: true, Value: value}}}
	if a, err := netip.ParseAddr(name); err == nil {
		t.IPAddresses = []net.IP{a.AsSlice()}
	} else {
		t.DNSNames = []string{name}
	}
	der, err := x509.CreateCertificate(rand.Reader, t, t, key.Public(), key)
	if err != nil {
		return nil, err
	}
	return &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, nil
}

// ALPNAstray says what is wrong with what a server answered to a CA's look for a
// proof by tls-alpn-01 (RFC 8737 section 3); "" when it shows the key authorization
// for the name.
func ALPNAstray(state *tls.ConnectionState, name, authorization string) string {
	if state.NegotiatedProtocol != ALPN {
		return "it does not speak " + ALPN + ": another server or site answers"
	}
	if len(state.PeerCertificates) == 0 {
		return "it shows no certificate"
	}
	leaf := state.PeerCertificates[0]
	for _, e := range leaf.Extensions {
		if !e.Id.Equal(oidIdentifier) {
			continue
		}
		sum := sha256.Sum256([]byte(authorization))
		var got []byte
		rest, err := asn1.Unmarshal(e.Value, &got)
		a, ipErr := netip.ParseAddr(name)
		switch {
		case err != nil || len(rest) > 0 || !e.Critical:
			return "its proof is not in the form of RFC 8737"
		case !bytes.Equal(got, sum[:]):
			return "it shows the proof of another order"
		case ipErr == nil && (len(leaf.DNSNames) > 0 || len(leaf.IPAddresses) != 1 || !leaf.IPAddresses[0].Equal(a.AsSlice())),
			ipErr != nil && (len(leaf.IPAddresses) > 0 || len(leaf.DNSNames) != 1 || !strings.EqualFold(leaf.DNSNames[0], name)):
			return fmt.Sprintf("its proof is for %s, not for %s alone", append(leaf.DNSNames, texts(leaf.IPAddresses)...), name)
		}
		return ""
	}
	return "its certificate holds no proof"
}

// texts writes addresses.
func texts(list []net.IP) []string {
	out := make([]string, len(list))
	for i, ip := range list {
		out[i] = ip.String()
	}
	return out
}

// Bounds of a listener for proofs over TLS.
const (
	mostLooking = 256 // connections at a time; CAs look from a few places
	lookingTime = 10 * time.Second
)

// ServeALPN answers CAs that look for proofs by tls-alpn-01 at a listener, until the
// context ends. answering gives the key authorization that is up for a name; anything
// else is turned away before a certificate is made.
func ServeALPN(ctx context.Context, l net.Listener, answering func(ctx context.Context, name string) (string, error)) error {
	config := &tls.Config{MinVersion: tls.VersionTLS12, NextProtos: []string{ALPN},
		GetCertificate: func(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
			if !slices.Contains(hello.SupportedProtos, ALPN) || hello.ServerName == "" {
				return nil, errors.New("here only proofs are shown")
			}
			name := named(hello.ServerName)
			text, err := answering(hello.Context(), name)
			if err != nil {
				return nil, err
			}
			return ALPNCertificate(name, text)
		}}
	stop := context.AfterFunc(ctx, func() { _ = l.Close() })
	defer stop()
	places := make(chan struct{}, mostLooking)
	for {
		conn, err := l.Accept()
		if ctx.Err() != nil {
			return nil
		} else if err != nil {
			var passing net.Error
			if errors.As(err, &passing) && passing.Timeout() {
				continue
			}
			return err
		}
		select {
		case places <- struct{}{}:
		default:
			_ = conn.Close()
			continue
		}
		go func() {
			defer func() { <-places }()
			defer func() { _ = conn.Close() }()
			limited, cancel := context.WithTimeout(ctx, lookingTime)
			defer cancel()
			_ = conn.SetDeadline(time.Now().Add(lookingTime))
			_ = tls.Server(conn, config).HandshakeContext(limited)
		}()
	}
}
