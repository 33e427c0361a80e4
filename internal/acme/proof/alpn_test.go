package proof_test

import (
	"context"
	"crypto/tls"
	"errors"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/acme/proof"
	"insegna.example/internal/standin/process"
)

// TestProofsInTLS shows proofs to whoever asks as a CA does, and nothing to others.
func TestProofsInTLS(t *testing.T) {
	up := map[string]string{"a.lantern.example": "token.print", "127.0.0.1": "four.print", "2001:db8::7": "six.print"}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() {
		ended <- proof.ServeALPN(ctx, l, func(_ context.Context, name string) (string, error) {
			if text, ok := up[name]; ok {
				return text, nil
			}
			return "", errors.New("nothing is up")
		})
	}()
	look := func(server string, protocols ...string) (*tls.ConnectionState, error) {
		conn, err := tls.DialWithDialer(&net.Dialer{Timeout: 5 * time.Second}, "tcp", l.Addr().String(),
			&tls.Config{ServerName: server, NextProtos: protocols, InsecureSkipVerify: true})
		if err != nil {
			return nil, err
		}
		defer func() { _ = conn.Close() }()
		s := conn.ConnectionState()
		return &s, nil
	}
	silent, err := net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	defer func() { _ = silent.Close() }()
	for name, text := range up {
		s, err := look(proof.ServerName(name), proof.ALPN)
		require.NoError(t, err, name)
		assert.Empty(t, proof.ALPNAstray(s, name, text))
		assert.Equal(t, "it shows the proof of another order", proof.ALPNAstray(s, name, "another.print"))
		assert.Contains(t, proof.ALPNAstray(s, "b.lantern.example", text), "not for b.lantern.example alone")
		assert.Contains(t, proof.ALPNAstray(s, "127.0.0.9", text), "not for 127.0.0.9 alone")
	}
	assert.Equal(t, "1.0.0.127.in-addr.arpa", proof.ServerName("127.0.0.1"))
	for server, protocols := range map[string][]string{"nobody.lantern.example": {proof.ALPN}, "": {proof.ALPN},
		"a.lantern.example": {"h2"}, "A.lantern.example.": nil} {
		_, err := look(server, protocols...)
		assert.Error(t, err, server)
	}
	plain, err := proof.ALPNCertificate("a.lantern.example", "x")
	require.NoError(t, err)
	other, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{*plain}})
	require.NoError(t, err)
	defer func() { _ = other.Close() }()
	go func() {
		if c, err := other.Accept(); err == nil {
			_ = c.(*tls.Conn).Handshake()
			time.Sleep(time.Second)
		}
	}()
	conn, err := tls.Dial("tcp", other.Addr().String(), &tls.Config{InsecureSkipVerify: true})
	require.NoError(t, err)
	state := conn.ConnectionState()
	assert.Contains(t, proof.ALPNAstray(&state, "a.lantern.example", "x"), "another server or site answers")
	stop()
	select {
	case err := <-ended:
		assert.NoError(t, err)
	case <-time.After(5 * time.Second):
		t.Fatal("the listener outlives the service")
	}
}

// snippet gives a block of the documentation, with other addresses.
func snippet(t *testing.T, begins string, other ...string) string {
	text, err := os.ReadFile("../../../docs/certificates.md")
	require.NoError(t, err)
	_, rest, ok := strings.Cut(string(text), "```\n"+begins)
	require.True(t, ok, begins)
	block, _, _ := strings.Cut(begins+rest, "```")
	for i := 0; i < len(other); i += 2 {
		require.Contains(t, block, other[i])
		block = strings.ReplaceAll(block, other[i], other[i+1])
	}
	return block
}

// TestWhatIsLedToTheProofs runs HAProxy and nginx as the documentation says: a CA gets
// the proof, and visitors the site.
func TestWhatIsLedToTheProofs(t *testing.T) {
	own, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() {
		_ = proof.ServeALPN(t.Context(), own, func(context.Context, string) (string, error) { return "token.print", nil })
	}()
	site, err := proof.ALPNCertificate("site.lantern.example", "x")
	require.NoError(t, err)
	web, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{*site}, NextProtos: []string{"h2", "http/1.1"}})
	require.NoError(t, err)
	defer func() { _ = web.Close() }()
	go func() {
		for c, err := web.Accept(); err == nil; c, err = web.Accept() {
			go func() { _ = c.(*tls.Conn).Handshake() }()
		}
	}()
	for name, c := range map[string]struct {
		text func(at string) string
		run  func(file string) []string
	}{
		"haproxy": {func(at string) string {
			return "defaults\n  timeout connect 5s\n  timeout client 5s\n  timeout server 5s\n" +
				snippet(t, "frontend tls", ":443", at, "127.0.0.1:7443", own.Addr().String()) + "backend web\n  mode tcp\n  server web " + web.Addr().String() + "\n"
		}, func(file string) []string { return []string{"/usr/sbin/haproxy", "-db", "-f", file} }},
		"nginx": {func(at string) string {
			return "load_module /usr/lib/nginx/modules/ngx_stream_module.so; daemon off; pid " + t.TempDir() + "/pid; error_log stderr; events {}\n" +
				snippet(t, "stream {", "listen 443", "listen "+at, "127.0.0.1:7443", own.Addr().String(), "127.0.0.1:8443", web.Addr().String())
		}, func(file string) []string { return []string{"/usr/sbin/nginx", "-c", file, "-e", "stderr"} }},
	} {
		t.Run(name, func(t *testing.T) {
			at, file := freeAddress(t), filepath.Join(t.TempDir(), "conf")
			require.NoError(t, os.WriteFile(file, []byte(c.text(at)), 0o600))
			args := c.run(file)
			cmd := exec.Command(args[0], args[1:]...)
			server, err := process.Start(cmd, syscall.SIGTERM)
			require.NoError(t, err)
			defer server.Stop(syscall.SIGTERM)
			var last error
			shown := func(protocols ...string) (s tls.ConnectionState) {
				conn, err := tls.DialWithDialer(&net.Dialer{Timeout: 2 * time.Second}, "tcp", at,
					&tls.Config{ServerName: "a.lantern.example", NextProtos: protocols, InsecureSkipVerify: true})
				if last = err; err != nil {
					return s
				}
				defer func() { _ = conn.Close() }()
				return conn.ConnectionState()
			}
			require.Eventually(t, func() bool { return shown("h2", "http/1.1").NegotiatedProtocol == "h2" }, 10*time.Second, 50*time.Millisecond, "%v", last)
			s := shown(proof.ALPN)
			assert.Empty(t, proof.ALPNAstray(&s, "a.lantern.example", "token.print"), "%v", last)
			s = shown()
			assert.Equal(t, []string{"site.lantern.example"}, s.PeerCertificates[0].DNSNames, "a visitor without ALPN gets the site")
		})
	}
}
