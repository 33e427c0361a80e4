package service_test

import (
	"io"
	"net/http"
	"sync"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
)

// execSQL changes a service's database behind its back.
func execSQL(t *testing.T, dsn, sql string, args ...any) {
	conn, err := pgx.Connect(t.Context(), dsn)
	require.NoError(t, err)
	defer func() { _ = conn.Close(t.Context()) }()
	_, err = conn.Exec(t.Context(), sql, args...)
	require.NoError(t, err)
}

type roundTrip func(*http.Request) (*http.Response, error)

// RoundTrip implements http.RoundTripper.
func (f roundTrip) RoundTrip(r *http.Request) (*http.Response, error) { return f(r) }

type teed struct {
	io.Reader
	io.Closer
}

var teeing sync.Mutex

type locked struct{ io.Writer }

func (l locked) Write(p []byte) (int, error) {
	teeing.Lock()
	defer teeing.Unlock()
	return l.Writer.Write(p)
}

func tee(body io.ReadCloser, into io.Writer) io.ReadCloser {
	return teed{io.TeeReader(body, locked{into}), body}
}
