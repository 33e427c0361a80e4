package proof_test

import (
	"context"
	"crypto/tls"
	"errors"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/acme/proof"
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
