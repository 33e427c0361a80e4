package reach

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
	"golang.org/x/crypto/ssh/knownhosts"
)

// Limits of a way over SSH.
const (
	dialLimit  = 10 * time.Second
	stallLimit = 15 * time.Second // without a byte while an answer is due
	stallLook  = time.Second
)

// SSH says how to reach a machine over SSH. Paths are of this machine.
type SSH struct {
	Address    string // host:port
	User       string // to log in as
	Key        string // private key file; "" asks the agent at SSH_AUTH_SOCK
	KnownHosts string // "" is the user's own ~/.ssh/known_hosts
}

// remote is one connection, used for everything.
type remote struct {
	address string                // for errors
	conn    *watched              // with a deadline of its own
	client  *ssh.Client           // of SSH
	files   *sftp.Client          // over SFTP
	cause   atomic.Pointer[error] // why the connection was closed from here
	closing sync.Once             // only the first cause counts
}

// Dial connects and logs in; ctx bounds the whole time of use. The error is a
// *DialError, *HostKeyError or *LoginError, or tells of a file here that is
// not as it should be.
func Dial(ctx context.Context, to SSH) (Connection, error) {
	file, err := to.file()
	if err != nil {
		return nil, err
	}
	to.KnownHosts = file
	check, err := knownhosts.New(to.KnownHosts)
	if err != nil {
		return nil, fmt.Errorf("cannot read the known hosts: %w; a machine is reached only when its host key is known", err)
	}
	auth, tried, done, err := authOf(to)
	if err != nil {
		return nil, err
	}
	defer done()
	plain, err := (&net.Dialer{Timeout: dialLimit}).DialContext(ctx, "tcp", to.Address)
	if err != nil {
		return nil, &DialError{to.Address, err}
	}
	r := &remote{address: to.Address, conn: &watched{Conn: plain}}
	_ = plain.SetDeadline(time.Now().Add(dialLimit))
	var wrongKey error
	conn, channels, requests, err := ssh.NewClientConn(r.conn, to.Address, &ssh.ClientConfig{
		User: to.User, Auth: auth, HostKeyAlgorithms: knownAlgorithms(check, to.Address),
		HostKeyCallback: func(host string, at net.Addr, key ssh.PublicKey) error {
			wrongKey = hostKeyError(check(host, at, key), to, key)
			return wrongKey
		},
	})
	if err != nil {
		_ = plain.Close()
		switch {
		case wrongKey != nil:
			return nil, wrongKey
		case strings.Contains(err.Error(), "unable to authenticate"):
			return nil, &LoginError{to.Address, to.User, tried}
		}
		return nil, &DialError{to.Address, err}
	}
	_ = plain.SetDeadline(time.Time{})
	r.client = ssh.NewClient(conn, channels, requests)
	context.AfterFunc(ctx, func() { r.end(ctx.Err()) })
	go r.watch()
	defer r.conn.expect()()
	if r.files, err = sftp.NewClient(r.client); err != nil {
		r.end(err)
		return nil, fmt.Errorf("%s offers no file transfer (SFTP): %w; switch the sftp subsystem on in its SSH server",
			to.Address, err)
	}
	return r, nil
}

// authOf gives the means to log in and what to call them.
func authOf(to SSH) (list []ssh.AuthMethod, tried string, done func(), err error) {
	done = func() {}
	if to.Key == "" {
		socket := os.Getenv("SSH_AUTH_SOCK")
		if socket == "" {
			return nil, "", done,
				errors.New("no key is declared and no agent runs (SSH_AUTH_SOCK is empty); declare key, or start the service with " +
					"an agent")
		}
		conn, err := net.Dial("unix", socket)
		if err != nil {
			return nil, "", done, fmt.Errorf("cannot ask the SSH agent: %w", err)
		}
		return []ssh.AuthMethod{ssh.PublicKeysCallback(agent.NewClient(conn).Signers)}, "the keys of the agent",
			func() { _ = conn.Close() }, nil
	}
	data, err := os.ReadFile(to.Key)
	if err != nil {
		return nil, "", done, fmt.Errorf("cannot read the SSH key: %w", err)
	}
	signer, err := ssh.ParsePrivateKey(data)
	clear(data)
	var locked *ssh.PassphraseMissingError
	switch {
	case errors.As(err, &locked):
		return nil, "", done, fmt.Errorf("the SSH key %s has a passphrase; add it to an agent and leave key out", to.Key)
	case err != nil:
		return nil, "", done, fmt.Errorf("the SSH key %s cannot be used: %w", to.Key, err)
	}
	return []ssh.AuthMethod{ssh.PublicKeys(signer)}, "the key " + to.Key, done, nil
}

// knownAlgorithms asks for the kinds of key that are known of a machine, so
// that another kind of its keys is not taken for a change.
func knownAlgorithms(check ssh.HostKeyCallback, address string) (out []string) {
	var ke *knownhosts.KeyError
	if !errors.As(check(address, &net.TCPAddr{IP: net.IPv4zero}, noKey{}), &ke) {
		return nil
	}
	for _, k := range ke.Want {
		switch kind := k.Key.Type(); kind {
		case ssh.KeyAlgoRSA:
			out = append(out, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
		default:
			out = append(out, kind)
		}
	}
	return out
}

// noKey is nobody's key.
type noKey struct{}

// Type makes noKey a public key that no server accepts.
func (noKey) Type() string { return "none" }

// Marshal gives bytes that cannot be a key.
func (noKey) Marshal() []byte { return []byte("none") }

// Verify refuses everything: a connection with it must not come about.
func (noKey) Verify([]byte, *ssh.Signature) error { return errors.New("no key") }

// hostKeyError puts the reason a host key was not accepted into an error of our
// own, with the line of the known hosts that disagrees.
func hostKeyError(err error, to SSH, key ssh.PublicKey) error {
	if err == nil {
		return nil
	}
	out := &HostKeyError{Address: to.Address, Seen: key.Type() + " " + ssh.FingerprintSHA256(key), Known: to.KnownHosts}
	var ke *knownhosts.KeyError
	if errors.As(err, &ke) && len(ke.Want) > 0 {
		out.Changed = true
		out.Known = fmt.Sprintf("%s:%d", ke.Want[0].Filename, ke.Want[0].Line)
	}
	return out
}

// watched notes when bytes came last and how many answers are due.
type watched struct {
	net.Conn
	last atomic.Int64 // when a byte came, in nanoseconds
	due  atomic.Int64 // calls that wait for an answer
}

// Read implements net.Conn.
func (w *watched) Read(p []byte) (int, error) {
	n, err := w.Conn.Read(p)
	w.last.Store(time.Now().UnixNano())
	return n, err
}

// expect marks an answer as due until the returned function is called.
func (w *watched) expect() func() {
	if w.due.Add(1) == 1 {
		w.last.Store(time.Now().UnixNano())
	}
	return func() { w.due.Add(-1) }
}

// watch ends a connection that stays silent while an answer is due.
func (r *remote) watch() {
	gone := make(chan struct{})
	go func() { _ = r.client.Wait(); close(gone) }()
	tick := time.NewTicker(stallLook)
	defer tick.Stop()
	for {
		select {
		case <-gone:
			return
		case <-tick.C:
			if r.conn.due.Load() > 0 && time.Since(time.Unix(0, r.conn.last.Load())) > stallLimit {
				r.end(fmt.Errorf("no answer for %s", stallLimit))
				return
			}
		}
	}
}

// end closes the connection once, and keeps why, so that every call that fails
// afterwards can say it.
func (r *remote) end(cause error) {
	r.closing.Do(func() {
		r.cause.Store(&cause)
		_ = r.client.Close()
	})
}

// Close implements Connection.
func (r *remote) Close() error { r.end(net.ErrClosed); return nil }

// lost makes the error of a broken way.
func (r *remote) lost(err error) error {
	if cause := r.cause.Load(); cause != nil {
		err = *cause
	}
	return &LostError{r.address, err}
}

// explained tells errors about one file from those of the way.
func (r *remote) explained(err error) error {
	var status *sftp.StatusError
	switch {
	case err == nil, errors.Is(err, fs.ErrNotExist), errors.Is(err, fs.ErrPermission), errors.Is(err, fs.ErrExist):
		return err
	case errors.As(err, &status) && !errors.Is(err, sftp.ErrSSHFxConnectionLost) &&
		!errors.Is(err, sftp.ErrSSHFxNoConnection):
		return err
	}
	return r.lost(err)
}

// Run implements Connection.
func (r *remote) Run(ctx context.Context, command string, limit time.Duration) (*Output, error) {
	s, err := r.client.NewSession()
	if err != nil {
		return nil, r.lost(err)
	}
	defer func() { _ = s.Close() }()
	var out lockedOutput
	s.Stdout, s.Stderr = &out, &out
	if err := s.Start(command); err != nil {
		return nil, r.lost(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- s.Wait() }()
	timer := time.NewTimer(limit)
	defer timer.Stop()
	select {
	case err = <-ended:
	case <-timer.C:
		_ = s.Signal(ssh.SIGKILL)
		return nil, &TimeError{command, limit, out.text()}
	case <-ctx.Done():
		_ = s.Signal(ssh.SIGKILL)
		return nil, ctx.Err()
	}
	var exit *ssh.ExitError
	switch {
	case errors.As(err, &exit):
		return &Output{out.text(), exit.ExitStatus()}, nil
	case err != nil:
		return nil, r.lost(err)
	}
	return &Output{Text: out.text()}, nil
}

// Dial implements Connection.
func (r *remote) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	conn, err := r.client.DialContext(ctx, network, address)
	var refused *ssh.OpenChannelError
	switch {
	case errors.As(err, &refused) && refused.Reason == ssh.Prohibited:
		return nil, &ForwardError{r.address}
	case errors.As(err, &refused) && strings.Contains(refused.Message, "refused"):
		return nil, fmt.Errorf("%s: %w", address, syscall.ECONNREFUSED)
	}
	return conn, err
}

// lockedOutput takes both streams, which come from two goroutines.
type lockedOutput struct {
	mu sync.Mutex // guards b
	b  bounded    // what is kept
}

// Write implements io.Writer.
func (o *lockedOutput) Write(p []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.b.Write(p)
}

// text is what was kept, also while the command still writes.
func (o *lockedOutput) text() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return string(o.b.data)
}

// FS implements Connection.
func (r *remote) FS() fs.FS { return remoteFS{r} }

// remoteFS is the machine's files over SFTP.
type remoteFS struct{ r *remote }

// at turns a path of fs.FS, which has no leading slash, into one of the server.
func at(name string) string { return path.Join("/", name) }

// do runs one operation under the connection's deadline, and says why the
// connection ended when it did.
func (f remoteFS) do(op, name string, what func(*sftp.Client) error) error {
	if !fs.ValidPath(name) {
		return &fs.PathError{Op: op, Path: name, Err: fs.ErrInvalid}
	}
	defer f.r.conn.expect()()
	if err := f.r.explained(what(f.r.files)); err != nil {
		return &fs.PathError{Op: op, Path: name, Err: err}
	}
	return nil
}

// Open implements fs.FS for files; folders are listed by ReadDir.
func (f remoteFS) Open(name string) (fs.File, error) {
	var file *sftp.File
	err := f.do("open", name, func(c *sftp.Client) (err error) { file, err = c.Open(at(name)); return err })
	if err != nil {
		return nil, err
	}
	return &remoteFile{File: file, r: f.r, buffered: bufio.NewReaderSize(file, 32<<10)}, nil
}

// ReadDir implements fs.ReadDirFS.
func (f remoteFS) ReadDir(name string) (list []fs.DirEntry, err error) {
	err = f.do("readdir", name, func(c *sftp.Client) error {
		infos, err := c.ReadDir(at(name))
		for _, i := range infos {
			list = append(list, fs.FileInfoToDirEntry(i))
		}
		return err
	})
	return list, err
}

// Stat implements fs.StatFS.
func (f remoteFS) Stat(name string) (i fs.FileInfo, err error) {
	err = f.do("stat", name, func(c *sftp.Client) (err error) { i, err = c.Stat(at(name)); return err })
	return i, err
}

// Lstat implements fs.ReadLinkFS.
func (f remoteFS) Lstat(name string) (i fs.FileInfo, err error) {
	err = f.do("lstat", name, func(c *sftp.Client) (err error) { i, err = c.Lstat(at(name)); return err })
	return i, err
}

// ReadLink implements fs.ReadLinkFS.
func (f remoteFS) ReadLink(name string) (to string, err error) {
	err = f.do("readlink", name, func(c *sftp.Client) (err error) { to, err = c.ReadLink(at(name)); return err })
	return to, err
}

// remoteFile reads ahead in large pieces; without that every small read would
// be a round trip.
type remoteFile struct {
	*sftp.File
	r        *remote       // the connection it is read over
	buffered *bufio.Reader // reads ahead
}

// Read implements fs.File.
func (f *remoteFile) Read(p []byte) (int, error) {
	defer f.r.conn.expect()()
	n, err := f.buffered.Read(p)
	if err == io.EOF { // the file's own; wrapped, it is the way that ended
		return n, err
	}
	return n, f.r.explained(err)
}

// Stat implements fs.File.
func (f *remoteFile) Stat() (fs.FileInfo, error) {
	defer f.r.conn.expect()()
	i, err := f.File.Stat()
	return i, f.r.explained(err)
}

// Write implements Connection.
func (r *remote) Write(p string, data []byte, as Attributes) (err error) {
	defer r.conn.expect()()
	c := r.files
	if to, err := c.RealPath(p); err == nil {
		p = to
	}
	if st, err := c.Stat(p); err == nil && as.Owner == nil {
		if o, known := OwnerOf(st); known {
			as.Owner = &o
		}
	}
	temp := besides(p)
	f, err := c.OpenFile(temp, os.O_WRONLY|os.O_CREATE|os.O_EXCL)
	if err != nil {
		return fmt.Errorf("writing %s: %w", p, r.explained(err))
	}
	defer func() {
		if err != nil {
			_ = f.Close()
			_ = c.Remove(temp)
			err = fmt.Errorf("writing %s: %w; the file is as it was", p, r.explained(err))
		}
	}()
	const private = 0o600
	steps := []func() error{
		func() error { return f.Chmod(private) },
		func() error { _, err := f.Write(data); return err },
		func() error { return r.own(f, as.Owner) },
		func() error { return f.Chmod(as.Mode.Perm()) },
		f.Sync, f.Close,
		func() error { return c.PosixRename(temp, p) },
	}
	for _, step := range steps {
		if err = step(); err != nil {
			return err
		}
	}
	return nil
}

// own gives a file to its owner, when it is not the owner's already.
func (r *remote) own(f *sftp.File, o *Owner) error {
	if o == nil {
		return nil
	}
	st, err := f.Stat()
	if err != nil {
		return err
	}
	if is, known := OwnerOf(st); known && is == *o {
		return nil
	}
	return f.Chown(o.UID, o.GID)
}
