package haproxy_test

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"os"
	"os/exec"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"insegna.example/internal/kind/haproxy"
	"insegna.example/internal/truthtest"
)

const program = "/usr/sbin/haproxy"

// head is what every configuration needs to run by itself.
const head = `global
    stats socket @dir@/admin.sock mode 600 level admin
defaults
    mode http
    timeout client 5s
    timeout server 5s
    timeout connect 500ms
    retries 0
`

// server is HAProxy as the tests run it.
var server = &truthtest.Server{
	Kind: haproxy.Kind, Main: "haproxy.cfg", Marks: map[string]string{"@head@": head}, Least: 30,
	Run: []string{"-db"}, Test: []string{"-c"}, Log: "none",
	Pairs: func(t *testing.T) map[string][]byte { return pairs(t) },
	Command: func(c *truthtest.Truth, more ...string) *exec.Cmd {
		args := c.Args
		if len(args) == 0 {
			args = []string{"-f", c.Dir + "/haproxy.cfg"}
		}
		for i := range args {
			args[i] = string(bytes.ReplaceAll([]byte(args[i]), []byte("@dir@"), []byte(c.Dir)))
		}
		cmd := exec.Command(program, append(more, args...)...)
		cmd.Env = []string{"SITE_HOME=" + c.Dir, "SHOP=shop.example", "SEVERAL=a.example www.a.example"}
		return cmd
	},
}

// TestWhatHAProxyServesIsWhatTheReaderSays starts a real HAProxy with every
// configuration of testdata/truth, connects with each name, and compares.
func TestWhatHAProxyServesIsWhatTheReaderSays(t *testing.T) {
	_, err := os.Stat(program)
	require.NoError(t, err, "haproxy is not installed; make setup-test installs it")
	server.Each(t)
}

// pairs makes certificates with their keys: NAME.both in one file, NAME.crt and
// NAME.key apart.
func pairs(t testing.TB) map[string][]byte {
	out := map[string][]byte{}
	for i, p := range []struct {
		name, common string
		rsa          bool
		names        []string
	}{
		{"a", "a.example", false, []string{"a.example", "www.a.example"}},
		{"b", "b.example", false, []string{"b.example", "*.b.example"}},
		{"c", "C.example", false, nil},
		{"d", "", false, []string{"d.example", "*.example"}},
		{"r", "r.example", true, []string{"a.example", "r.example"}},
		{"s", "other.example", true, []string{"s.example", "*.b.example"}},
		{"w", "*.w.example", true, []string{"*.w.example"}},
		{"x", "x.w.example", false, []string{"x.w.example", "UPPER.example"}},
	} {
		var key, public any
		if p.rsa {
			k, err := rsa.GenerateKey(rand.Reader, 2048)
			require.NoError(t, err)
			key, public = k, &k.PublicKey
		} else {
			k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
			require.NoError(t, err)
			key, public = k, &k.PublicKey
		}
		template := &x509.Certificate{SerialNumber: big.NewInt(int64(i + 1)), Subject: pkix.Name{CommonName: p.common},
			DNSNames: p.names, NotAfter: time.Now().Add(time.Hour)}
		der, err := x509.CreateCertificate(rand.Reader, template, template, public, key)
		require.NoError(t, err)
		raw, err := x509.MarshalPKCS8PrivateKey(key)
		require.NoError(t, err)
		out[p.name+".crt"] = pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
		out[p.name+".key"] = pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw})
		out[p.name+".both"] = append(bytes.Clone(out[p.name+".key"]), out[p.name+".crt"]...)
	}
	out["mixed.both"] = append(bytes.Clone(out["b.key"]), out["a.crt"]...)
	return out
}

// TestVisitorsOfEveryConfigurationAreLed leads every host of every configuration from
// plain http to https.
func TestVisitorsOfEveryConfigurationAreLed(t *testing.T) { server.LeadEverywhere(t) }

// TestTLSOfEveryConfigurationIsSet sets versions and suites everywhere.
func TestTLSOfEveryConfigurationIsSet(t *testing.T) { server.SettleEverywhere(t) }

// TestEveryConfigurationIsPledged has every host send the header of RFC 6797.
func TestEveryConfigurationIsPledged(t *testing.T) { server.PledgeEverywhere(t) }
