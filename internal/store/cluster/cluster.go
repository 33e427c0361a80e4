// Package cluster starts a PostgreSQL server of our own, from Debian's server
// binaries, with its data in a directory of ours. It listens at a unix socket in
// a directory that only its user may enter, never at a network address, and lets
// in one role alone, which is no superuser.
//
// The server is a child process: it ends with the process that started it, even
// when that one is killed, and is started again when it ends by itself. As root,
// the server runs as the user postgres, as PostgreSQL demands.
package cluster

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Cluster is a running PostgreSQL server.
type Cluster struct {
	dir      string               // everything it writes lies below it, but perhaps the socket
	socket   string               // directory
	password string               // random, in a file for the service's user alone
	bin      string               // directory of the server's programs
	as       *syscall.SysProcAttr // whom they run as
	opts     Options
	log      *slog.Logger

	mu       sync.Mutex    // guards what follows
	server   *child        // the process now
	stopping bool          // Stop was called
	why      error         // it ended for good
	stop     chan struct{} // closed by Stop
	ended    chan struct{} // closed when it has ended for good
}

// child is a process that was started, and how it ends.
type child struct {
	cmd   *exec.Cmd
	ended chan struct{} // closed then
}

// Options change how a cluster runs.
type Options struct {
	// Disposable gives up durability for speed and room, and lets databases be
	// made: for tests and benchmarks.
	Disposable bool
	Log        *slog.Logger // told when the server ends and is started again; nil discards
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

// The only database, and the role that owns it and is let in. The role that
// initdb makes is a superuser, has no password, and is not let in.
const (
	database = "insegna"
	role     = "insegna_service"
)

// port gives the socket its name; no network port is opened.
const port = "5432"

// Start makes the cluster in dir when it is not there yet, and starts it.
func Start(ctx context.Context, dir string, opts Options) (*Cluster, error) {
	bin, version, err := binaries(dir)
	if err != nil {
		return nil, err
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return nil, err
	}
	c := &Cluster{dir: dir, bin: bin, opts: opts, log: opts.Log, stop: make(chan struct{}), ended: make(chan struct{})}
	if c.log == nil {
		c.log = slog.New(slog.DiscardHandler)
	}
	if c.as, err = account(dir); err != nil {
		return nil, err
	}
	if err := c.prepare(ctx); err != nil {
		return nil, err
	}
	if err := checkVersion(c.data(), version); err != nil {
		return nil, err
	}
	if err := c.awaitPrevious(ctx); err != nil {
		return nil, err
	}
	if err := c.letIn(ctx); err != nil {
		return nil, err
	}
	if err := c.makeSocket(); err != nil {
		return nil, err
	}
	if err := c.run(ctx); err != nil {
		close(c.ended)
		c.Stop()
		return nil, err
	}
	go c.supervise()
	return c, nil
}

// Running gives the address of the database of a cluster that another process has
// started in dir; "" when none runs there.
func Running(ctx context.Context, dir string) (string, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	c := &Cluster{dir: dir}
	word, err := os.ReadFile(c.passwordFile())
	if err != nil {
		return "", err
	}
	at, err := os.ReadFile(c.socketFile())
	if errors.Is(err, os.ErrNotExist) {
		return "", nil
	} else if err != nil {
		return "", err
	}
	c.password, c.socket = strings.TrimSpace(string(word)), strings.TrimSpace(string(at))
	conn, err := pgx.Connect(ctx, c.DSN())
	if err != nil {
		return "", nil
	}
	return c.DSN(), conn.Close(ctx)
}

// DSN is the address of the database.
func (c *Cluster) DSN() string {
	u := url.URL{Scheme: "postgres", User: url.UserPassword(role, c.password), Path: "/" + database}
	q := url.Values{"host": {c.socket}, "port": {port}, "require_auth": {"scram-sha-256"}, "sslmode": {"disable"}}
	return u.String() + "?" + q.Encode()
}

// Ended is closed when the server has ended for good: it was stopped, or ended by
// itself and could not be started again. Err tells which.
func (c *Cluster) Ended() <-chan struct{} { return c.ended }

// Err says why the server ended for good; nil when it was stopped.
func (c *Cluster) Err() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.why
}

// Stop ends the server, letting running transactions be rolled back.
func (c *Cluster) Stop() {
	c.mu.Lock()
	again, server := c.stopping, c.server
	c.stopping = true
	c.mu.Unlock()
	if again {
		<-c.ended
		return
	}
	close(c.stop)
	if server != nil {
		server.end()
	}
	<-c.ended
	if c.socket != c.ownSocket() {
		_ = os.RemoveAll(c.socket)
	}
}

// end ends a process, politely at first.
func (s *child) end() {
	_ = s.cmd.Process.Signal(syscall.SIGINT)
	select {
	case <-s.ended:
	case <-time.After(10 * time.Second):
		_ = s.cmd.Process.Signal(syscall.SIGQUIT)
		<-s.ended
	}
}

// How a server that ends by itself is started again: so often, the pauses
// doubling from the first to the longest; one that ran for a while begins anew.
const (
	restarts     = 6
	firstPause   = 250 * time.Millisecond
	longestPause = 5 * time.Second
	ranWell      = time.Minute
)

// supervise starts the server again when it ends by itself, and gives up after a
// few times.
func (c *Cluster) supervise() {
	defer close(c.ended)
	for try, began := 0, time.Now(); ; {
		c.mu.Lock()
		server := c.server
		c.mu.Unlock()
		<-server.ended
		if time.Since(began) > ranWell {
			try = 0
		}
		err := errors.New(c.lastLog())
		for again := true; again; again = err != nil {
			if c.stopped() {
				return
			}
			if try == restarts {
				c.mu.Lock()
				c.why = fmt.Errorf("PostgreSQL ended and could not be started again: %w", err)
				c.mu.Unlock()
				return
			}
			c.log.Error("PostgreSQL has ended; it is started again", "said", c.lastLog(), "try", try+1)
			select {
			case <-c.stop:
				return
			case <-time.After(min(firstPause<<try, longestPause)):
			}
			try++
			began = time.Now()
			err = c.startAgain()
		}
		c.log.Info("PostgreSQL runs again")
	}
}

// stopped says whether Stop was called.
func (c *Cluster) stopped() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.stopping
}

// startAgain starts the server once its predecessor is gone.
func (c *Cluster) startAgain() error {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	go func() {
		select {
		case <-c.stop:
			cancel()
		case <-ctx.Done():
		}
	}()
	if err := c.awaitPrevious(ctx); err != nil {
		return err
	}
	return c.run(ctx)
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
func (c *Cluster) prepare(ctx context.Context) error {
	if err := os.MkdirAll(c.dir, 0o700); err != nil {
		return err
	}
	if err := own(c.dir, c.as); err != nil {
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
	if err := own(c.passwordFile(), c.as); err != nil {
		return err
	}
	if out, err := c.program(ctx, "initdb", "-D", c.data()+".new", "-U", "postgres", "--auth-local=scram-sha-256",
		"--auth-host=reject", "--pwfile="+c.passwordFile(), "--no-instructions", "-E", "UTF8",
		"--locale=C.UTF-8").CombinedOutput(); err != nil {
		return fmt.Errorf("making the database in %s: %w: %s", c.data(), err, lastLine(out))
	}
	return os.Rename(c.data()+".new", c.data())
}

// program is one of PostgreSQL's programs, as the user it runs as.
func (c *Cluster) program(ctx context.Context, name string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, filepath.Join(c.bin, name), args...)
	// not the data directory, which a lent right opens only after the exec
	cmd.SysProcAttr, cmd.Dir, cmd.Env = c.as, "/", environment()
	return cmd
}

// ownership makes the role that is let in, and gives it what an earlier form of
// the cluster kept as superuser. Each is one line, as the server reads them
// without a network.
const ownership = `do $$ begin if not exists (select from pg_roles where rolname = '` + role + `') then create role ` + role + ` login; end if; end $$
alter role current_user password null
alter role ` + role + ` with nosuperuser nocreaterole %s password '%s'
alter database ` + database + ` owner to ` + role + `
do $$ declare r record; begin ` +
	`for r in select c.oid::regclass as name from pg_class c where c.relnamespace = 'public'::regnamespace and c.relkind in ('r', 'p', 'v', 'm', 'S') and pg_get_userbyid(c.relowner) <> '` + role + `' and not exists (select from pg_depend d where d.objid = c.oid and d.deptype in ('a', 'i')) loop execute format('alter table %%s owner to ` + role + `', r.name); end loop; ` +
	`for r in select p.oid::regprocedure as name from pg_proc p where p.pronamespace = 'public'::regnamespace and pg_get_userbyid(p.proowner) <> '` + role + `' loop execute format('alter routine %%s owner to ` + role + `', r.name); end loop; ` +
	`for r in select t.oid::regtype as name from pg_type t where t.typnamespace = 'public'::regnamespace and t.typtype in ('e', 'd') and pg_get_userbyid(t.typowner) <> '` + role + `' loop execute format('alter type %%s owner to ` + role + `', r.name); end loop; end $$
`

// letIn says who is let in: the service's role to its database, over the socket,
// with its password. What needs a superuser is done without a network before the
// server starts, once.
func (c *Cluster) letIn(ctx context.Context) error {
	which, more := database, "nocreatedb"
	if c.opts.Disposable {
		which, more = "all", "createdb"
	}
	rules := filepath.Join(c.data(), "pg_hba.conf")
	if err := os.WriteFile(rules,
		fmt.Appendf(nil, "# written by insegna at each start\nlocal %s %s scram-sha-256\n", which,
			role), 0o600); err != nil {
		return err
	}
	if err := own(rules, c.as); err != nil {
		return err
	}
	done := filepath.Join(c.dir, "role")
	if _, err := os.Stat(done); err == nil {
		return nil
	}
	out, err := c.alone(ctx, "postgres", "create database "+database+"\n")
	if err != nil && !strings.Contains(string(out), "already exists") {
		return fmt.Errorf("making the database in %s: %w: %s", c.data(), err, lastLine(out))
	}
	if out, err := c.alone(ctx, database, fmt.Sprintf(ownership, more, c.password)); err != nil {
		return fmt.Errorf("making the service's role in %s: %w: %s", c.data(), err, lastLine(out))
	}
	return os.WriteFile(done, []byte(role+"\n"), 0o600)
}

// alone runs statements, one a line, with no server running.
func (c *Cluster) alone(ctx context.Context, database, statements string) ([]byte, error) {
	cmd := c.program(ctx, "postgres", "--single", "-D", c.data(), "-c", "exit_on_error=true", "-c", "log_statement=none",
		"-c", "log_min_error_statement=panic", database)
	cmd.Stdin = strings.NewReader(statements)
	return cmd.CombinedOutput()
}

// ownSocket is where the socket lies, unless its path would be too long.
func (c *Cluster) ownSocket() string { return filepath.Join(c.dir, "socket") }

// longestSocket is how long a socket's path may be on Linux (unix(7)), in bytes.
const longestSocket = 107

// makeSocket makes the directory the socket lies in: for the server's user alone.
func (c *Cluster) makeSocket() error {
	c.socket = c.ownSocket()
	if len(c.socket)+len("/.s.PGSQL."+port) > longestSocket || strings.ContainsAny(c.socket, `,"`) {
		var err error
		if c.socket, err = os.MkdirTemp("", "insegna-"); err != nil {
			return err
		}
	} else if err := os.MkdirAll(c.socket, 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(c.socketFile(), []byte(c.socket+"\n"), 0o600); err != nil {
		return err
	}
	return own(c.socket, c.as)
}

// socketFile says where the socket is.
func (c *Cluster) socketFile() string { return filepath.Join(c.dir, "socket.path") }

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

// logFile is what the server says.
func (c *Cluster) logFile() string { return filepath.Join(c.dir, "log") }

// run starts the server and waits until it answers. What it said before is kept
// in one file more.
func (c *Cluster) run(ctx context.Context) error {
	_ = os.Rename(c.logFile(), c.logFile()+".before")
	logFile, err := os.OpenFile(c.logFile(), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer func() { _ = logFile.Close() }()
	args := []string{"-D", c.data(), "-p", port, "-c", "listen_addresses=", "-c", "unix_socket_directories=" + c.socket,
		"-c", "unix_socket_permissions=0700", "-c", "max_connections=100",
		"-c", "timezone=UTC", "-c", "log_timezone=UTC", "-c", "shared_buffers=64MB"}
	if c.opts.Disposable {
		args = append(args, "-c", "fsync=off", "-c", "synchronous_commit=off", "-c", "full_page_writes=off",
			"-c", "min_wal_size=32MB", "-c", "max_wal_size=64MB")
	}
	server := &child{cmd: c.program(context.Background(), "postgres", args...), ended: make(chan struct{})}
	server.cmd.Stderr, server.cmd.Stdout = logFile, logFile
	started := make(chan error)
	go func() {
		runtime.LockOSThread() // the death signal follows the thread that started the child
		err := server.cmd.Start()
		started <- err
		if err == nil {
			_ = server.cmd.Wait()
			close(server.ended)
		}
	}()
	if err := <-started; err != nil {
		return err
	}
	if err := c.await(ctx, server); err != nil {
		server.end()
		return err
	}
	c.mu.Lock()
	stopping := c.stopping
	c.server = server
	c.mu.Unlock()
	if stopping {
		server.end()
	}
	return nil
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

// await waits until the server answers.
func (c *Cluster) await(ctx context.Context, server *child) error {
	for deadline := time.Now().Add(time.Minute); ; {
		conn, err := pgx.Connect(ctx, c.DSN())
		if err == nil {
			return conn.Close(ctx)
		}
		select {
		case <-server.ended:
			return fmt.Errorf("PostgreSQL did not start: %s; its log is %s", c.lastLog(), c.logFile())
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(25 * time.Millisecond):
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("PostgreSQL did not answer within a minute: %w; its log is %s", err, c.logFile())
		}
	}
}

// lastLog is what the server said last.
func (c *Cluster) lastLog() string {
	out, err := os.ReadFile(c.logFile())
	if err != nil {
		return err.Error()
	}
	return lastLine(out)
}
