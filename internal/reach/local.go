package reach

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"
)

// Local is this very machine.
func Local() Connection { return local{} }

// local reaches the machine the service runs on.
type local struct{}

// FS implements Connection.
func (local) FS() fs.FS { return os.DirFS("/") }

// Close implements Connection.
func (local) Close() error { return nil }

// Write implements Connection.
func (local) Write(path string, data []byte, as Attributes) (err error) {
	if to, err := filepath.EvalSymlinks(path); err == nil {
		path = to
	}
	if st, err := os.Stat(path); err == nil && as.Owner == nil {
		if o, known := OwnerOf(st); known {
			as.Owner = &o
		}
	}
	temp := besides(path)
	f, err := os.OpenFile(temp, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	defer func() {
		if err != nil {
			_ = f.Close()
			_ = os.Remove(temp)
			err = fmt.Errorf("writing %s: %w; the file is as it was", path, err)
		}
	}()
	if _, err = f.Write(data); err != nil {
		return err
	}
	if o := as.Owner; o != nil && (o.UID != os.Geteuid() || o.GID != os.Getegid()) {
		if err = f.Chown(o.UID, o.GID); err != nil {
			return err
		}
	}
	for _, step := range []func() error{func() error { return f.Chmod(as.Mode.Perm()) }, f.Sync, f.Close,
		func() error { return os.Rename(temp, path) }} {
		if err = step(); err != nil {
			return err
		}
	}
	return syncFolder(filepath.Dir(path))
}

// besides is a name in the same folder that nobody uses.
func besides(path string) string {
	return filepath.Join(filepath.Dir(path), "."+filepath.Base(path)+"."+rand.Text()[:12])
}

// syncFolder makes renames in a folder last through a loss of power.
func syncFolder(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer func() { _ = d.Close() }()
	return d.Sync()
}

// Dial implements Connection.
func (local) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	return (&net.Dialer{}).DialContext(ctx, network, address)
}

// Run implements Connection.
func (local) Run(ctx context.Context, command string, limit time.Duration) (*Output, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, limit, errLimit)
	defer cancel()
	var out bounded
	cmd := exec.CommandContext(ctx, "/bin/sh", "-c", command)
	cmd.Dir, cmd.Env = "/", append(withoutOwn(os.Environ()), "LC_ALL=C")
	cmd.Stdout, cmd.Stderr = &out, &out
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = time.Second
	err := cmd.Run()
	var exit *exec.ExitError
	switch {
	case errors.Is(context.Cause(ctx), errLimit):
		return nil, &TimeError{command, limit, string(out.data)}
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case errors.As(err, &exit):
		return &Output{string(out.data), exit.ExitCode()}, nil
	case err != nil:
		return nil, fmt.Errorf("running %q: %w", command, err)
	}
	return &Output{Text: string(out.data)}, nil
}

// withoutOwn keeps what only this service should know, its database and the
// key of its safe, from the commands it runs.
func withoutOwn(environment []string) []string {
	return slices.DeleteFunc(environment, func(s string) bool { return strings.HasPrefix(s, "INSEGNA_") })
}

// errLimit is the cause by which a command that took too long is told from one
// that was stopped.
var errLimit = errors.New("the time is over")
