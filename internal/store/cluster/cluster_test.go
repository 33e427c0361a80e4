package cluster_test

import (
	"context"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/store/cluster"
)

// TestMain becomes an owner of a cluster when a test starts it as one.
func TestMain(m *testing.M) {
	if dir := os.Getenv("OWN_CLUSTER"); dir != "" {
		if _, err := cluster.Start(context.Background(), dir, cluster.Options{Disposable: true}); err != nil {
			panic(err)
		}
		_, _ = os.Stdout.WriteString("up\n")
		select {}
	}
	os.Exit(m.Run())
}

func newDir(t *testing.T) string {
	dir, err := os.MkdirTemp("", "insegna-cluster-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	return filepath.Join(dir, "postgres")
}

func query(t *testing.T, c *cluster.Cluster, sql string) {
	conn, err := pgx.Connect(t.Context(), c.DSN())
	require.NoError(t, err)
	defer func() { _ = conn.Close(context.Background()) }()
	_, err = conn.Exec(t.Context(), sql)
	require.NoError(t, err)
}

func TestWhatIsStoredOutlivesTheServer(t *testing.T) {
	dir := newDir(t)
	c, err := cluster.Start(t.Context(), dir, cluster.Options{})
	require.NoError(t, err)
	query(t, c, "create table kept (x int)")
	c.Stop()
	_, err = pgx.Connect(t.Context(), c.DSN())
	assert.Error(t, err, "it is stopped")
	c, err = cluster.Start(t.Context(), dir, cluster.Options{})
	require.NoError(t, err)
	defer c.Stop()
	query(t, c, "insert into kept values (1)")
	st, err := os.Stat(filepath.Join(dir, "password"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), st.Mode().Perm())
	wrong := strings.Replace(c.DSN(), "insegna_service:", "insegna_service:x", 1)
	_, err = pgx.Connect(t.Context(), wrong)
	assert.ErrorContains(t, err, "password authentication failed")
	for _, other := range []string{"postgres", "insegna"} { // the superuser is not let in, whatever its password
		_, err = pgx.Connect(t.Context(), strings.Replace(c.DSN(), "insegna_service:", other+":", 1))
		assert.ErrorContains(t, err, "no pg_hba.conf entry")
	}
	assert.True(t,
		one[bool](t, c, "select not (rolsuper or rolcreaterole or rolcreatedb or rolbypassrls or rolreplication) "+
			"from pg_roles where rolname = current_user"))
	assert.Empty(t, one[string](t, c, "show listen_addresses"), "there is no network port anybody could take")
	st, err = os.Stat(socket(t, c))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), st.Mode().Perm())
}

// TestAnEarlierClusterIsTakenOver begins with one whose only role is a superuser
// that is let in and owns everything, as earlier versions made it.
func TestAnEarlierClusterIsTakenOver(t *testing.T) {
	dir := newDir(t)
	c, err := cluster.Start(t.Context(), dir, cluster.Options{})
	require.NoError(t, err)
	query(t, c, "select 1")
	c.Stop()
	alone := func(statements string) {
		cmd := exec.Command("/bin/sh", "-c", "exec $(ls -d /usr/lib/postgresql/*/bin/postgres | tail -1) --single -D "+
			dir+"/data -c exit_on_error=true insegna")
		cmd.Stdin = strings.NewReader(statements)
		if os.Geteuid() == 0 {
			u, err := user.Lookup("postgres")
			require.NoError(t, err)
			id, _ := strconv.Atoi(u.Uid)
			cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(id), Gid: uint32(id)}}
			cmd.Dir = "/"
		}
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
	}
	alone("alter database insegna owner to postgres\ndrop owned by insegna_service\ndrop role insegna_service\n" +
		"create type kind as enum ('a', 'b')\ncreate table kept (id bigint generated always as identity, x kind)\n" +
		"create function never() returns trigger language plpgsql as 'begin return null; end'\n" +
		"create trigger never before delete on kept for each row execute function never()\n" +
		"create view seen as select * from kept\ninsert into kept (x) values ('a')\n")
	require.NoError(t, os.Remove(filepath.Join(dir, "role")))
	c, err = cluster.Start(t.Context(), dir, cluster.Options{})
	require.NoError(t, err)
	defer c.Stop()
	query(t, c, "insert into kept (x) values ('b'); alter table kept add y int; alter type kind add value 'c'; "+
		"create or replace function never() returns trigger language plpgsql as 'begin return old; end'; drop view seen")
	assert.EqualValues(t, 2, one[int64](t, c, "select count(*) from kept"))
}

// TestTheServerIsStartedAgain kills it, with SIGKILL and without: it comes back at
// the same address with what was stored. When it cannot, that is told, and
// nothing waits for ever.
func TestTheServerIsStartedAgain(t *testing.T) {
	dir := newDir(t)
	c, err := cluster.Start(t.Context(), dir, cluster.Options{})
	require.NoError(t, err)
	defer c.Stop()
	query(t, c, "create table kept (x int)")
	for _, sig := range []syscall.Signal{syscall.SIGKILL, syscall.SIGQUIT} {
		require.NoError(t, syscall.Kill(postmaster(t, dir), sig))
		require.Eventually(t, func() bool {
			conn, err := pgx.Connect(t.Context(), c.DSN())
			if err != nil {
				return false
			}
			_, err = conn.Exec(t.Context(), "insert into kept values (1)")
			return conn.Close(t.Context()) == nil && err == nil
		}, 20*time.Second, 20*time.Millisecond, "after %v", sig)
	}
	require.NoError(t, os.Rename(dir+"/data/global/pg_control", dir+"/data/global/gone"))
	require.NoError(t, syscall.Kill(postmaster(t, dir), syscall.SIGKILL))
	select {
	case <-c.Ended():
		assert.ErrorContains(t, c.Err(), "could not be started again")
		assert.ErrorContains(t, c.Err(), "pg_control")
	case <-time.After(time.Minute):
		t.Fatal("it goes on trying")
	}
}

// postmaster is the server's process.
func postmaster(t *testing.T, dir string) int {
	text, err := os.ReadFile(filepath.Join(dir, "data", "postmaster.pid"))
	require.NoError(t, err)
	pid, err := strconv.Atoi(strings.Split(string(text), "\n")[0])
	require.NoError(t, err)
	return pid
}

// one asks for one value.
func one[T any](t *testing.T, c *cluster.Cluster, sql string) (v T) {
	conn, err := pgx.Connect(t.Context(), c.DSN())
	require.NoError(t, err)
	defer func() { _ = conn.Close(context.Background()) }()
	require.NoError(t, conn.QueryRow(t.Context(), sql).Scan(&v))
	return v
}

// TestALongPath has a data directory whose path is too long for a socket.
func TestALongPath(t *testing.T) {
	dir := filepath.Join(newDir(t), strings.Repeat("long-", 20), "postgres")
	require.NoError(t, os.MkdirAll(filepath.Dir(dir), 0o755))
	c, err := cluster.Start(t.Context(), dir, cluster.Options{Disposable: true})
	require.NoError(t, err)
	query(t, c, "select 1")
	at := socket(t, c)
	assert.False(t, strings.HasPrefix(at, dir))
	c.Stop()
	assert.NoDirExists(t, at)
}

// TestTheServerEndsWithItsOwner kills the owner with SIGKILL; the server must
// go too, and the next owner must be able to start at once.
func TestTheServerEndsWithItsOwner(t *testing.T) {
	dir := newDir(t)
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), "OWN_CLUSTER="+dir)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	_, err = out.Read(make([]byte, 8))
	require.NoError(t, err)
	pid := postmaster(t, dir)
	require.NoError(t, cmd.Process.Kill())
	_ = cmd.Wait()
	c, err := cluster.Start(t.Context(), dir, cluster.Options{Disposable: true})
	require.NoError(t, err)
	defer c.Stop()
	assert.Eventually(t, func() bool { return syscall.Kill(pid, 0) != nil }, 20*time.Second, 20*time.Millisecond,
		"the server of the killed owner lives on")
}

func TestBrokenDataIsNeverThrownAway(t *testing.T) {
	dir := newDir(t)
	c, err := cluster.Start(t.Context(), dir, cluster.Options{Disposable: true})
	require.NoError(t, err)
	c.Stop()
	require.NoError(t, os.Remove(filepath.Join(dir, "password")))
	_, err = cluster.Start(t.Context(), dir, cluster.Options{Disposable: true})
	require.ErrorContains(t, err, "has lost its password file")
	assert.FileExists(t, filepath.Join(dir, "data", "PG_VERSION"))

	interrupted := newDir(t) // an initdb that was killed half-way
	require.NoError(t, os.MkdirAll(filepath.Join(interrupted, "data.new", "base"), 0o700))
	c, err = cluster.Start(t.Context(), interrupted, cluster.Options{Disposable: true})
	require.NoError(t, err)
	c.Stop()
}

// socket is the directory the server's socket lies in.
func socket(t *testing.T, c *cluster.Cluster) string {
	cfg, err := pgx.ParseConfig(c.DSN())
	require.NoError(t, err)
	return cfg.Host
}
