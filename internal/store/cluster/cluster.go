// Package cluster starts a PostgreSQL server of our own on loopback, from
// Debian's server binaries, with its data in a directory of ours.
//
// The server is a child process: it ends with the process that started it,
// even when that one is killed. As root, the server runs as the user postgres,
// as PostgreSQL demands.
package cluster

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Cluster is a running PostgreSQL server.
type Cluster struct {
	dir      string     // everything it writes lies below it
	port     int        // on loopback
	password string     // random, in a file for the service's user alone
	cmd      *exec.Cmd  // the server
	done     chan error // gives how it ended
}

// Options change how a cluster runs.
type Options struct {
	// Disposable gives up durability for speed: for tests and benchmarks.
	Disposable bool
}

// ErrNotInstalled says that no PostgreSQL server binaries were found.
var ErrNotInstalled = errors.New("no PostgreSQL server is installed: expected /usr/lib/postgresql/*/bin/postgres; " +
	"install Debian's package postgresql, or give a database with --database")

// VersionError says that a data directory belongs to another major version.
type VersionError struct{ Dir, Has, Installed string }

// Error names both versions and both ways on; data is not touched.
func (e *VersionError) Error() string {
	return fmt.Sprintf("the database in %s was made by PostgreSQL %s, installed is %s; install version %s, or move the "+
		"directory away to begin anew", e.Dir, e.Has, e.Installed, e.Has)
}

// database is the name of the only database, and of its owner.
const database = "insegna"

// Start makes the cluster in dir when it is not there yet, and starts it on a
// free loopback port.
func Start(ctx context.Context, dir string, opts Options) (*Cluster, error) {
	bin, version, err := binaries(dir)
	if err != nil {
		return nil, err
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return nil, err
	}
	c := &Cluster{dir: dir}
	as, err := account(dir)
	if err != nil {
		return nil, err
	}
	if err := c.prepare(ctx, bin, as); err != nil {
		return nil, err
	}
	if err := checkVersion(c.data(), version); err != nil {
		return nil, err
	}
	if err := c.awaitPrevious(ctx); err != nil {
		return nil, err
	}
	if err := c.run(bin, as, opts); err != nil {
		return nil, err
	}
	if err := c.await(ctx); err != nil {
		c.Stop()
		return nil, err
	}
	return c, nil
}

// DSN is the address of the database.
func (c *Cluster) DSN() string { return c.dsn(database) }

// dsn is how a database of the cluster is opened; it listens on loopback alone
// and asks for the password.
func (c *Cluster) dsn(name string) string {
	u := url.URL{Scheme: "postgres", User: url.UserPassword(database, c.password),
		Host: net.JoinHostPort("127.0.0.1", strconv.Itoa(c.port)), Path: name, RawQuery: "sslmode=disable"}
	return u.String()
}

// Stop ends the server, letting running transactions be rolled back.
func (c *Cluster) Stop() {
	_ = c.cmd.Process.Signal(syscall.SIGINT)
	select {
	case <-c.done:
	case <-time.After(10 * time.Second):
		_ = c.cmd.Process.Signal(syscall.SIGQUIT)
		<-c.done
	}
}

// data is where PostgreSQL keeps its files.
func (c *Cluster) data() string { return filepath.Join(c.dir, "data") }

// binaries finds the server programs: those of the data directory's version
// when they are installed, else the newest.
func binaries(dir string) (bin, version string, err error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		return "", "", ErrNotInstalled
	}
	slices.SortFunc(found, func(a, b string) int { return major(a) - major(b) })
	has, _ := os.ReadFile(filepath.Join(dir, "data", "PG_VERSION"))
	pick := found[len(found)-1]
	for _, f := range found {
		if strconv.Itoa(major(f)) == strings.TrimSpace(string(has)) {
			pick = f
		}
	}
	return filepath.Dir(pick), strconv.Itoa(major(pick)), nil
}

// major is the version by the path of Debian's packages,
// /usr/lib/postgresql/15/bin.
func major(path string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
	return n
}

// checkVersion refuses files of another version before the server would, with a
// way on.
func checkVersion(data, installed string) error {
	has, err := os.ReadFile(filepath.Join(data, "PG_VERSION"))
	if err != nil {
		return err
	}
	if v := strings.TrimSpace(string(has)); v != installed {
		return &VersionError{data, v, installed}
	}
	return nil
}

// account decides whom the server runs as: root must not, so it becomes the
// user postgres, with the right to pass through directories above dir.
func account(dir string) (*syscall.SysProcAttr, error) {
	attr := &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGINT}
	if os.Geteuid() != 0 {
		return attr, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, fmt.Errorf("PostgreSQL does not run as root and the user postgres is missing; install Debian's package "+
			"postgresql: %w", err)
	}
	uid, _ := strconv.ParseUint(u.Uid, 10, 32)
	gid, _ := strconv.ParseUint(u.Gid, 10, 32)
	attr.Credential = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	if !passable(dir) {
		const capDacReadSearch = 2
		attr.AmbientCaps = []uintptr{capDacReadSearch}
	}
	return attr, nil
}

// passable says whether any user may pass through the directories above dir.
func passable(dir string) bool {
	for d := filepath.Dir(dir); ; d = filepath.Dir(d) {
		if st, err := os.Stat(d); err == nil && st.Mode().Perm()&1 == 0 {
			return false
		}
		if d == filepath.Dir(d) {
			return true
		}
	}
}

// prepare makes the files on the first start, and takes the password of an
// earlier one afterwards.
func (c *Cluster) prepare(ctx context.Context, bin string, as *syscall.SysProcAttr) error {
	if err := os.MkdirAll(c.dir, 0o700); err != nil {
		return err
	}
	if err := own(c.dir, as); err != nil {
		return err
	}
	word, err := os.ReadFile(c.passwordFile())
	if _, missing := os.Stat(filepath.Join(c.data(), "PG_VERSION")); missing == nil && err == nil {
		c.password = strings.TrimSpace(string(word))
		return nil
	}
	if err := c.moveUnfinished(); err != nil {
		return err
	}
	c.password = rand.Text()
	if err := os.WriteFile(c.passwordFile(), []byte(c.password+"\n"), 0o600); err != nil {
		return err
	}
	if err := own(c.passwordFile(), as); err != nil {
		return err
	}
	cmd := exec.CommandContext(ctx, filepath.Join(bin, "initdb"), "-D", c.data()+".new", "-U", database, "-A",
		"scram-sha-256",
		"--pwfile="+c.passwordFile(), "--no-instructions", "-E", "UTF8", "--locale=C.UTF-8")
	// not the data directory, which a lent right opens only after the exec
	cmd.SysProcAttr, cmd.Dir, cmd.Env = as, "/", environment()
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("making the database in %s: %w: %s", c.data(), err, lastLine(out))
	}
	return os.Rename(c.data()+".new", c.data())
}

// moveUnfinished clears what an interrupted initdb left; a data directory
// whose password is lost is set aside rather than deleted.
func (c *Cluster) moveUnfinished() error {
	if err := os.RemoveAll(c.data() + ".new"); err != nil {
		return err
	}
	if _, err := os.Stat(c.data()); err == nil {
		return fmt.Errorf("the database in %s has lost its password file %s; put it back, or move the directory away to "+
			"begin anew", c.data(), c.passwordFile())
	}
	return nil
}

// passwordFile is readable by the service's user alone.
func (c *Cluster) passwordFile() string { return filepath.Join(c.dir, "password") }

// own gives a path to the user PostgreSQL runs as, which cannot be root.
func own(path string, as *syscall.SysProcAttr) error {
	if as.Credential == nil {
		return nil
	}
	return os.Chown(path, int(as.Credential.Uid), int(as.Credential.Gid))
}

// environment keeps the caller's variables from changing how PostgreSQL speaks
// or sorts.
func environment() []string { return []string{"PATH=/usr/bin:/bin", "LC_ALL=C.UTF-8", "TZ=UTC"} }

// lastLine is where PostgreSQL's tools say why they failed.
func lastLine(out []byte) string {
	lines := strings.Split(strings.TrimSpace(string(out)), "\n")
	return lines[len(lines)-1]
}

// run starts the server at a free port and waits until it answers.
func (c *Cluster) run(bin string, as *syscall.SysProcAttr, opts Options) error {
	port, err := freePort()
	if err != nil {
		return err
	}
	c.port = port
	logFile, err := os.OpenFile(filepath.Join(c.dir, "log"), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer func() { _ = logFile.Close() }()
	args := []string{"-D", c.data(), "-p", strconv.Itoa(port), "-c", "listen_addresses=127.0.0.1", "-c",
		"unix_socket_directories=", "-c", "max_connections=100",
		"-c", "timezone=UTC", "-c", "log_timezone=UTC", "-c", "shared_buffers=64MB"}
	if opts.Disposable {
		args = append(args, "-c", "fsync=off", "-c", "synchronous_commit=off", "-c", "full_page_writes=off")
	}
	c.cmd = exec.Command(filepath.Join(bin, "postgres"), args...)
	c.cmd.SysProcAttr, c.cmd.Dir, c.cmd.Env, c.cmd.Stderr, c.cmd.Stdout = as, "/", environment(), logFile, logFile
	c.done = make(chan error, 1)
	started := make(chan error)
	go func() {
		runtime.LockOSThread() // the death signal follows the thread that started the child
		err := c.cmd.Start()
		started <- err
		if err == nil {
			c.done <- c.cmd.Wait()
			close(c.done)
		}
	}()
	return <-started
}

// awaitPrevious waits for a server on the same data that is about to end,
// since the process that started it was killed.
func (c *Cluster) awaitPrevious(ctx context.Context) error {
	for deadline := time.Now().Add(15 * time.Second); ; {
		text, err := os.ReadFile(filepath.Join(c.data(), "postmaster.pid"))
		if err != nil {
			return nil // no such file: nobody is there
		}
		first, _, _ := strings.Cut(string(text), "\n")
		pid, err := strconv.Atoi(first)
		if err != nil || errors.Is(syscall.Kill(pid, 0), syscall.ESRCH) {
			return nil // left behind by a dead server, which PostgreSQL clears up by itself
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("the database in %s is in use by process %d; stop that one first", c.data(), pid)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// freePort asks the system for a port. Another program may take it before it is
// used; PostgreSQL then says so and does not start.
func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer func() { _ = l.Close() }()
	addr, ok := l.Addr().(*net.TCPAddr)
	if !ok {
		return 0, errors.New("no TCP address")
	}
	return addr.Port, nil
}

// await waits until the server answers and its database is there.
func (c *Cluster) await(ctx context.Context) error {
	deadline := time.Now().Add(60 * time.Second)
	for {
		conn, err := pgx.Connect(ctx, c.dsn("postgres"))
		if err == nil {
			defer func() { _ = conn.Close(ctx) }()
			_, err = conn.Exec(ctx, "create database "+database)
			if err == nil || strings.Contains(err.Error(), "already exists") {
				return nil
			}
			return err
		}
		select {
		case <-c.done:
			return fmt.Errorf("PostgreSQL did not start: %s; its log is %s", c.lastLog(), filepath.Join(c.dir, "log"))
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(25 * time.Millisecond):
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("PostgreSQL did not answer within a minute; its log is %s", filepath.Join(c.dir, "log"))
		}
	}
}

// lastLog is what the server said last.
func (c *Cluster) lastLog() string {
	out, err := os.ReadFile(filepath.Join(c.dir, "log"))
	if err != nil {
		return err.Error()
	}
	return lastLine(out)
}
