// Package catest starts stand-in CAs for tests and benchmarks.
package catest

import (
	"crypto/tls"
	"crypto/x509"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"insegna.example/internal/pkitest"
	"insegna.example/internal/standin/ca"
	"insegna.example/internal/standin/nameserver"
)

// Town is a CA with everything around it: a name server whose every name
// leads to loopback, and a web server for the files of http-01.
type Town struct {
	*ca.CA
	Root, Other *pkitest.Entity    // of the chain and of the alternate
	Names       *nameserver.Server // the name server its CA asks
	Files       sync.Map           // content by token
	Transport   *http.Transport    // trusts the CA's own certificate
}

// Start starts a town; change may alter the CA's configuration.
func Start(t testing.TB, change ...func(*ca.Config)) *Town {
	town := &Town{Root: pkitest.CA("Harbour Light Root", nil), Other: pkitest.CA("Old Lighthouse Root", nil)}
	issuing := pkitest.CA("Harbour Light Issuing CA", town.Root,
		func(c *x509.Certificate) { c.KeyUsage |= x509.KeyUsageCRLSign })
	var err error
	town.Names, err = nameserver.Start(net.IPv4(127, 0, 0, 1))
	require.NoError(t, err)
	t.Cleanup(town.Names.Close)
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if text, ok := town.Files.Load(r.URL.Path[len("/.well-known/acme-challenge/"):]); ok {
			_, _ = w.Write([]byte(text.(string)))
			return
		}
		http.NotFound(w, r)
	}))
	t.Cleanup(web.Close)
	c := ca.Config{Name: "harbourlight.example", Listen: "127.0.0.1:0",
		Issuer: ca.Issuer{Certificate: issuing.X509(), Key: issuing.Key}, Chain: []*x509.Certificate{issuing.X509()},
		Alternates: [][]*x509.Certificate{{issuing.X509(), town.Root.X509()}}, Resolver: town.Names.Address(),
		HTTPPort: int(netip.MustParseAddrPort(web.Listener.Addr().String()).Port())}
	for _, f := range change {
		f(&c)
	}
	town.CA, err = ca.Start(c)
	require.NoError(t, err)
	t.Cleanup(town.Close)
	pool := x509.NewCertPool()
	pool.AddCert(town.Root.X509())
	town.Transport = &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}, MaxIdleConnsPerHost: 64}
	t.Cleanup(town.Transport.CloseIdleConnections)
	return town
}
