package files_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/check"
	"insegna.example/internal/install"
	"insegna.example/internal/pkitest"
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

// TestAKeyIsGivenToWhomTheOthersBelong finds keys that are another user's than all others, but
// for those he keeps in his own folder, and gives them to whom the others belong, whatever was
// done of that before the service stopped.
func TestAKeyIsGivenToWhomTheOthersBelong(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("another user is needed")
	}
	p := newPier(t)
	sites := ""
	for i, name := range []string{"own", "moved", "tool/kept", "open"} {
		e := pkitest.Leaf(p.root, name+".example")
		p.put(t, p.dir+"/certs/"+name, string(certs.PEM(e.Raw))+keyText(t, e))
		sites += fmt.Sprintf("server { listen %s ssl; server_name n%d.example; ssl_certificate %s; ssl_certificate_key %[3]s; }\n", p.secure, i, p.dir+"/certs/"+name)
	}
	p.put(t, p.site, sites+p.siteText("", ""))
	at := func(name string) string { return p.dir + "/certs/" + name }
	state := func(name string) string {
		info, err := os.Stat(at(name))
		require.NoError(t, err)
		o, known := reach.OwnerOf(info)
		require.True(t, known)
		return fmt.Sprintf("%d:%d %04o", o.UID, o.GID, info.Mode().Perm())
	}
	for _, command := range []string{"chmod -R a+rX " + p.dir, "chmod 0640 " + at("own") + " " + at("moved") + " " + at("tool/kept"),
		"chown nobody:daemon " + at("moved") + " " + at("open"), "chown -R nobody:daemon " + at("tool")} {
		require.NoError(t, exec.Command("/bin/sh", "-c", command).Run())
	}
	p.start(t)
	d := p.destination(reach.Local())
	reading, err := d.Reader.Read(d.Over.FS(), d.Main)
	require.NoError(t, err)
	require.NotNil(t, reading.Foreign(at("moved")))
	assert.Equal(t, "root:root", reading.Foreign(at("moved")).String())
	assert.Equal(t, "nobody:daemon", reading.Material[at("moved")].Owner.String())
	assert.Nil(t, reading.Foreign(at("own")))
	assert.Nil(t, reading.Foreign(at("tool/kept")), "he keeps it there himself")
	planned, err := d.Mend(t.Context(), &install.Mending{Server: "pier", Version: "v", Faults: []install.Fault{
		{Finding: 1, Code: check.KeyOpen, Subject: at("moved")}, {Finding: 2, Code: check.KeyOpen, Subject: at("open")},
		{Finding: 3, Code: check.KeyOpen, Subject: at("tool/kept")}}})
	require.NoError(t, err)
	require.Equal(t, []int64{1, 2}, numbersOf(planned.Mends), "%+v", planned.Left)
	assert.Contains(t, planned.Left[0].Reason, "is closed to others already")
	assert.Equal(t, []string{at("moved") + " belongs to nobody:daemon, who can read it no longer then",
		at("open") + " belongs to nobody:daemon, who can read it no longer then"}, planned.Notes)
	was := []string{state("moved"), state("open")}
	require.NoError(t, exec.Command("chown", "daemon", at("open")).Run())
	i := install.Installation{ID: 1, State: install.Staging, Plan: planned.Plan}
	x := &trial{Connection: reach.Local()}
	x.run(t, p, &i)
	assert.Contains(t, x.kept.Reason, at("open")+" is not as the preview showed it")
	i.State, i.Switched = install.Switching, true // the preview was looked at before
	x = &trial{Connection: reach.Local()}
	x.run(t, p, &i)
	assert.Contains(t, x.kept.Reason+x.kept.Advice+strings.Join(x.steps, " "), at("open")+" is not as the preview showed it")
	require.NoError(t, exec.Command("chown", "nobody", at("open")).Run())
	require.NoError(t, exec.Command("chown", "nobody:daemon", at("moved")).Run())

	for _, done := range []string{"true", "chown 0:0 " + at("moved") + " && chown 0:0 " + at("open")} {
		x := &trial{Connection: reach.Local()}
		i := install.Installation{ID: 1, State: install.Staging, Plan: planned.Plan}
		if done != "true" {
			i.State, i.Switched = install.Switching, true
			require.NoError(t, exec.Command("/bin/sh", "-c", done).Run())
		}
		x.run(t, p, &i)
		require.Equal(t, install.Done, x.kept.State, "%v", x.steps)
		assert.Equal(t, []string{"0:0 0640", "0:0 0640"}, []string{state("moved"), state("open")})
		x.kept.State = install.Returning
		x.run(t, p, &x.kept)
		require.Equal(t, install.Returned, x.kept.State, "%v", x.steps)
		assert.Equal(t, was, []string{state("moved"), state("open")})
	}
	// One who is not root there closes what is his own, and says what is left to do.
	d.Over = &commoner{reach.Local()}
	planned, err = d.Mend(t.Context(), &install.Mending{Server: "pier", Version: "v", Faults: []install.Fault{
		{Finding: 1, Code: check.KeyOpen, Subject: at("moved")}, {Finding: 2, Code: check.KeyOpen, Subject: at("open")}}})
	require.NoError(t, err)
	require.Len(t, planned.Mends, 1)
	assert.Contains(t, planned.Mends[0].Does, "it stays nobody:daemon's, for only root may give it to root:root")
	assert.Equal(t, "as root there: chown root:root "+at("moved"), planned.Left[0].Next)
}

// commoner is a connection of a user who is not root.
type commoner struct{ reach.Connection }

func (c *commoner) Run(ctx context.Context, command string, limit time.Duration) (*reach.Output, error) {
	if command == "id -u" {
		command = "echo 1000"
	}
	return c.Connection.Run(ctx, command, limit)
}
