package cluster_test

import (
	"context"
	"os"
	"os/exec"
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
	wrong := strings.Replace(c.DSN(), "insegna:", "insegna:x", 1)
	_, err = pgx.Connect(t.Context(), wrong)
	assert.ErrorContains(t, err, "password authentication failed")
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
	text, err := os.ReadFile(filepath.Join(dir, "data", "postmaster.pid"))
	require.NoError(t, err)
	pid, err := strconv.Atoi(strings.Split(string(text), "\n")[0])
	require.NoError(t, err)
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
