package wire_test

import (
	"io"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/standin/wire"
)

// talker accepts connections and says a text to each, then what it hears.
func talker(t *testing.T, text string) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer func() { _ = conn.Close() }()
				_, _ = io.WriteString(conn, text)
				_, _ = io.Copy(conn, conn)
			}()
		}
	}()
	return l.Addr().String()
}

func relay(t *testing.T, to string) *wire.Relay {
	r, err := wire.New(to)
	require.NoError(t, err)
	t.Cleanup(r.Close)
	return r
}

func dial(t *testing.T, r *wire.Relay) net.Conn {
	conn, err := net.Dial("tcp", r.Address())
	require.NoError(t, err)
	t.Cleanup(func() { _ = conn.Close() })
	return conn
}

func TestARelayPassesBothWays(t *testing.T) {
	r := relay(t, talker(t, "hello "))
	conn := dial(t, r)
	_, err := io.WriteString(conn, "echo")
	require.NoError(t, err)
	got := make([]byte, len("hello echo"))
	_, err = io.ReadFull(conn, got)
	require.NoError(t, err)
	assert.Equal(t, "hello echo", string(got))
	assert.Equal(t, 1, r.Connections())
}

func TestARelayCutsAfterSoManyBytes(t *testing.T) {
	r := relay(t, talker(t, "hello, hello"))
	r.CutAfter = 5
	got, err := io.ReadAll(dial(t, r))
	require.NoError(t, err)
	assert.Equal(t, "hello", string(got))
}

func TestARelayHangsInsteadOfCutting(t *testing.T) {
	r := relay(t, talker(t, "hello, hello"))
	r.CutAfter, r.Hang = 5, true
	conn := dial(t, r)
	require.NoError(t, conn.SetReadDeadline(time.Now().Add(time.Second)))
	got, err := io.ReadAll(conn)
	var late net.Error
	require.ErrorAs(t, err, &late)
	assert.True(t, late.Timeout(), "silence, not an end")
	assert.Equal(t, "hello", string(got))
}

func TestARelayDelaysWhatTheServerSays(t *testing.T) {
	r := relay(t, talker(t, "late"))
	r.Delay = 150 * time.Millisecond
	began := time.Now()
	_, err := io.ReadFull(dial(t, r), make([]byte, 4))
	require.NoError(t, err)
	assert.GreaterOrEqual(t, time.Since(began), r.Delay)
}

func TestARelayInFrontOfNothingEndsConnections(t *testing.T) {
	r := relay(t, "127.0.0.1:1")
	_, err := dial(t, r).Read(make([]byte, 1))
	assert.Error(t, err)
}
