package service_test

import (
	"encoding/base64"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/servicetest"
)

// TestTheSafesKeyIsMadeOnceAndMissedWhenLost starts the service as a process:
// fresh, again, without its key, with another's, and with its own in the
// environment.
func TestTheSafesKeyIsMadeOnceAndMissedWhenLost(t *testing.T) {
	dsn, data, listen := servicetest.Database(t), t.TempDir(), servicetest.FreeAddress(t)
	args := []string{"--database", dsn, "--data", data}
	stop := func(p *servicetest.Process) { p.Signal(os.Interrupt) }
	stop(servicetest.StartProcess(t, listen, args...))
	path := data + "/safe.key"
	st, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), st.Mode())
	key, err := os.ReadFile(path)
	require.NoError(t, err)
	p := servicetest.StartProcess(t, listen, args...)
	stop(p)
	require.NoError(t, os.Rename(path, data+"/vault.key"), "as an earlier version called it")
	stop(servicetest.StartProcess(t, listen, args...))
	assert.FileExists(t, path)
	assert.NotContains(t, p.Log(), strings.TrimSpace(string(key)))

	refused := func(why string) {
		out := servicetest.FailedStart(t, listen, args...)
		assert.Contains(t, out, why)
		assert.NotContains(t, out, strings.TrimSpace(string(key)))
	}
	require.NoError(t, os.Remove(path))
	refused("the safe's key in " + path +
		" is missing, and the database holds what was encrypted with it; put the file back")
	_, err = os.Stat(path)
	assert.ErrorIs(t, err, os.ErrNotExist, "no new key hides that the old one is lost")
	other := base64.StdEncoding.EncodeToString(make([]byte, 32))
	require.NoError(t, os.WriteFile(path, []byte(other), 0o600))
	refused("put it back from your backup: without it nothing it encrypted can be read")
	require.NoError(t, os.WriteFile(path, key, 0o644))
	require.NoError(t, os.Chmod(path, 0o644))
	refused("may be read by others (mode 0644); chmod 600")
	require.NoError(t, os.Remove(path))
	t.Setenv("INSEGNA_VAULT_KEY", other)
	refused("is not read any more; name the variable INSEGNA_SAFE_KEY")
	require.NoError(t, os.Unsetenv("INSEGNA_VAULT_KEY"))
	t.Setenv("INSEGNA_SAFE_KEY", other+" "+strings.TrimSpace(string(key)))
	stop(servicetest.StartProcess(t, listen, args...))
	var marks int
	servicetest.Query(t, dsn, "select count(*) from safe_marks", &marks)
	assert.Equal(t, 2, marks, "a new key in front encrypts from now on")
}
