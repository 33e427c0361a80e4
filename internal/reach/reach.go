// Package reach gets at a server: its files, whole writes, and commands with
// an end, on this machine or over SSH (RFC 4251 and following, SFTP).
//
// It does not know what is in the files. Every step is bounded in time, and a
// way that breaks off says so by an error of its own, so that nothing half-read
// is taken for the whole.
package reach

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"strings"
	"syscall"
	"time"

	"github.com/pkg/sftp"
)

// Connection is a machine that is reached. Safe for concurrent use.
type Connection interface {
	// FS is the machine's files, "/" being its root. It gives links as well
	// (fs.ReadLinkFS). An error of the way itself is a *LostError.
	FS() fs.FS
	// Write puts a whole file in the place of the one at path, an absolute
	// path, at once: whoever reads meanwhile sees the old or the new one.
	Write(path string, data []byte, as Attributes) error
	// Run runs one command line with the machine's shell. It ends after limit.
	Run(ctx context.Context, command string, limit time.Duration) (*Output, error)
	// Dial connects from the machine, to a socket there or to where that machine gets.
	// network is unix or tcp. Deadlines of the connection may be not supported.
	Dial(ctx context.Context, network, address string) (net.Conn, error)
	// Close ends the way.
	Close() error
}

// answerLimit bounds what a socket answers, in bytes.
const answerLimit = 8 << 20

// Ask connects to a socket from a machine, says something and gives the answer,
// which ends when the other side closes; it is cut after 8 MB. network is unix or
// tcp. It ends after limit. What is asked and answered may be a secret: no error
// tells it.
func Ask(ctx context.Context, over Connection, network, address string, said []byte,
	limit time.Duration) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	late := func(err error) error {
		if errors.Is(ctx.Err(), context.DeadlineExceeded) {
			return &SilentError{address, limit}
		}
		return err
	}
	conn, err := over.Dial(ctx, network, address)
	if err != nil {
		return nil, late(err)
	}
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer func() { stop(); _ = conn.Close() }()
	if _, err := conn.Write(said); err != nil {
		return nil, late(err)
	}
	out, err := io.ReadAll(io.LimitReader(conn, answerLimit))
	if err != nil || ctx.Err() != nil {
		return nil, late(orDone(err, ctx))
	}
	return out, nil
}

// orDone gives an error, or why there is no time left.
func orDone(err error, ctx context.Context) error {
	if err == nil {
		return ctx.Err()
	}
	return err
}

// SilentError is a socket that did not answer in time.
type SilentError struct {
	Address string
	Limit   time.Duration
}

// Error names the socket.
func (e *SilentError) Error() string {
	return fmt.Sprintf("%s did not answer within %s", e.Address, e.Limit)
}

// ForwardError says that a machine lets nobody connect onwards from it.
type ForwardError struct{ Address string }

// Error says what would allow it.
func (e *ForwardError) Error() string {
	return fmt.Sprintf("%s lets nobody connect onwards over SSH; allow it for that user: AllowTcpForwarding local",
		e.Address)
}

// Attributes of a written file. A nil owner keeps the one of the file that was
// there, or the writer's own.
type Attributes struct {
	Mode  fs.FileMode // permission bits
	Owner *Owner      // nil leaves it to the system
}

// Owner is a user and group by number.
type Owner struct{ UID, GID int }

// OwnerOf gives whose a file is that FS has told of; false where that is not known.
func OwnerOf(info fs.FileInfo) (Owner, bool) {
	switch sys := info.Sys().(type) {
	case *syscall.Stat_t:
		return Owner{int(sys.Uid), int(sys.Gid)}, true
	case *sftp.FileStat:
		return Owner{int(sys.UID), int(sys.GID)}, true
	}
	return Owner{}, false
}

// Output is what a command said, both streams together as they came, at most
// 64 KB of it, and how it ended.
type Output struct {
	Text string // stdout and stderr as they came, of outputLimit
	Exit int    // status of the command
}

// outputLimit bounds what is kept of a command's output, in bytes.
const outputLimit = 64 << 10

// bounded keeps the first bytes of an output.
type bounded struct{ data []byte }

// Write implements io.Writer.
func (b *bounded) Write(p []byte) (int, error) {
	if room := outputLimit - len(b.data); room > 0 {
		b.data = append(b.data, p[:min(room, len(p))]...)
	}
	return len(p), nil
}

// DialError says that no connection came about.
type DialError struct {
	Address string // host and port
	Err     error  // of the network
}

// Error says what to check, in the order in which it usually is the reason.
func (e *DialError) Error() string {
	return fmt.Sprintf("cannot connect to %s: %v; check address, port and firewall, and that the SSH server runs",
		e.Address, e.Err)
}

// Unwrap gives the network's error.
func (e *DialError) Unwrap() error { return e.Err }

// HostKeyError says that a machine did not prove to be the one that is known.
type HostKeyError struct {
	Address string // host and port
	Seen    string // fingerprint of the key it showed
	Changed bool   // another key is known for it; else none is
	Known   string // file, with the line of the known key
}

// Error tells a changed key, which may be an attack, from one not known yet.
func (e *HostKeyError) Error() string {
	if e.Changed {
		return fmt.Sprintf("the host key of %s has changed: it shows %s, and %s says otherwise; find out why before "+
			"anything else, then correct that line", e.Address, e.Seen, e.Known)
	}
	return fmt.Sprintf("the host key of %s is not known: it shows %s; compare that with the machine itself, then add it "+
		"to %s", e.Address, e.Seen, e.Known)
}

// LoginError says that the machine did not let the user in.
type LoginError struct{ Address, User, Tried string }

// Error lists what was tried, since a server does not tell what it would take.
func (e *LoginError) Error() string {
	return fmt.Sprintf("%s does not let user %s in with %s; add the public key to that user's authorized keys", e.Address,
		e.User, e.Tried)
}

// LostError says that the way broke off.
type LostError struct {
	Address string // host and port
	Err     error  // what ended it
}

// Error assures that nothing half-read is used.
func (e *LostError) Error() string {
	return fmt.Sprintf("the connection to %s broke off: %v; nothing of what was read is used", e.Address, e.Err)
}

// Unwrap gives the underlying error.
func (e *LostError) Unwrap() error { return e.Err }

// Lost tells readers of files that the source failed as a whole.
func (e *LostError) Lost() bool { return true }

// TimeError says that a command did not end in its time and was ended.
type TimeError struct {
	Command string        // as it was run
	Limit   time.Duration // it had
	Said    string        // what it had said until then
}

// Error names the command, so that a person can run it.
func (e *TimeError) Error() string {
	return fmt.Sprintf("the command %q did not end within %s and was stopped; run it by hand on the machine to see what "+
		"it waits for", e.Command, e.Limit)
}

// Quoted writes a text as one word for the shell of a server, whatever is in it.
func Quoted(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }
