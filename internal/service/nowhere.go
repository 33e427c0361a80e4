package service

import (
	"context"
	"io/fs"
	"net"
	"time"

	"insegna.example/internal/reach"
)

// nowhere is a machine there is no way to: every step says why, as one that
// may be tried again.
type nowhere struct{ err error }

// lost is what every call to a server without a way gives, as if the connection
// had just broken off.
func (n nowhere) lost() error { return &reach.LostError{Address: "the server", Err: n.err} }

// FS implements reach.Connection.
func (n nowhere) FS() fs.FS { return n }

// Open implements fs.FS.
func (n nowhere) Open(string) (fs.File, error) { return nil, n.lost() }

// ReadLink implements fs.ReadLinkFS.
func (n nowhere) ReadLink(string) (string, error) { return "", n.lost() }

// Lstat implements fs.ReadLinkFS.
func (n nowhere) Lstat(string) (fs.FileInfo, error) { return nil, n.lost() }

// Write implements reach.Connection.
func (n nowhere) Write(string, []byte, reach.Attributes) error { return n.lost() }

// Run implements reach.Connection.
func (n nowhere) Run(context.Context, string, time.Duration) (*reach.Output, error) {
	return nil, n.lost()
}

// Close implements reach.Connection.
func (n nowhere) Close() error { return nil }

// Dial implements reach.Connection.
func (n nowhere) Dial(context.Context, string, string) (net.Conn, error) { return nil, n.lost() }
