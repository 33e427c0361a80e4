package files_test

import (
	"os"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/check"
	"insegna.example/internal/install"
	"insegna.example/internal/reach"
)

// TestAKeyStaysReadableToItsServer closes a key that the server's user could read only as
// one of all others: its own test tells, and the key is as it was; once it is that user's it
// is closed.
func TestAKeyStaysReadableToItsServer(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("another user is needed")
	}
	p := newPier(t)
	a, _ := p.ail(t, olderNamed, 1)
	require.NoError(t, exec.Command("chmod", "-R", "a+rX", p.dir).Run())
	key := p.dir + "/certs/old.key"
	d := p.destination(reach.Local())
	d.Test = "runuser -u nobody -- /usr/bin/openssl pkey -noout -in " + key
	mend := func() *trial {
		planned, err := d.Mend(t.Context(), &install.Mending{Server: "pier", Version: "v", Faults: []install.Fault{{Finding: 1, Code: check.KeyOpen, Subject: key}}})
		require.NoError(t, err)
		require.Equal(t, []int64{1}, numbersOf(planned.Mends), "%+v", planned.Left)
		x := &trial{Connection: reach.Local()}
		x.run(t, p, &install.Installation{ID: 1, State: install.Staging, Plan: planned.Plan})
		return x
	}
	mode := func() os.FileMode {
		info, err := os.Stat(key)
		require.NoError(t, err)
		return info.Mode().Perm()
	}
	before, state := mode(), a.state(t)
	x := mend()
	require.Equal(t, install.Returned, x.kept.State, "%v", x.steps)
	assert.Contains(t, x.kept.Reason, "Permission denied")
	assert.Contains(t, x.kept.Advice, "as its owner, or by its group")
	assert.Equal(t, before, mode())
	assert.Equal(t, state, a.state(t))
	require.NoError(t, exec.Command("chown", "nobody", key).Run())
	x = mend()
	require.Equal(t, install.Done, x.kept.State, "%v", x.steps)
	assert.Zero(t, mode()&0o007)
}
