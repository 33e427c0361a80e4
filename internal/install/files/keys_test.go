package files_test

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"io/fs"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/install"
	"insegna.example/internal/issue"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/reach"
)

// overheard is a way on which everything is kept that goes either way but what the
// reader of a configuration reads.
type overheard struct {
	reach.Connection
	heard strings.Builder
	path  string // of programs; "" for the usual
}

// Write implements reach.Connection.
func (o *overheard) Write(path string, data []byte, as reach.Attributes) error {
	o.heard.Write(data)
	return o.Connection.Write(path, data, as)
}

// Run implements reach.Connection.
func (o *overheard) Run(ctx context.Context, command string, limit time.Duration) (*reach.Output, error) {
	if o.path != "" {
		command = "PATH=" + o.path + "; " + command
	}
	out, err := o.Connection.Run(ctx, command, limit)
	if out != nil {
		o.heard.WriteString(command + out.Text)
	}
	return out, err
}

// signed has the pier's CA issue for a request.
func (p *pier) signed(t *testing.T, request []byte) *certs.Certificate {
	r, err := x509.ParseCertificateRequest(request)
	require.NoError(t, err)
	require.NoError(t, r.CheckSignature())
	like := *pkitest.Leaf(p.root, host).X509()
	der, err := x509.CreateCertificate(rand.Reader, &like, p.root.X509(), r.PublicKey, p.root.Key)
	require.NoError(t, err)
	leaf, err := certs.Parse(der)
	require.NoError(t, err)
	return leaf
}

// TestAKeyIsMadeOnItsServer makes keys of every kind on a server, and on real servers of
// each kind has one signed for and installed: what goes over the way holds no private
// key, another key in its place is refused, and what is destroyed is gone, but for what
// is in use.
func TestAKeyIsMadeOnItsServer(t *testing.T) {
	for name, of := range map[string]func(*testing.T) *pier{"nginx": newPier, "httpd": newHouse, "haproxy": newQuay} {
		t.Run(name, func(t *testing.T) {
			p := of(t)
			way := &overheard{Connection: reach.Local()}
			maker := p.destination(way)
			if name == "nginx" {
				for _, kind := range []string{"ecdsa-p256", "ecdsa-p384", "ecdsa-p521", "rsa-2048", "rsa-3072", "ed25519"} {
					key, err := maker.MakeKey(t.Context(), "kinds", kind, kind)
					require.NoError(t, err, kind)
					again, err := maker.MakeKey(t.Context(), "kinds", kind, kind)
					require.NoError(t, err)
					assert.Equal(t, key.Public(), again.Public(), "it is the one made before")
					request, err := issue.Request(key, []string{host, "*." + host}, pkix.Name{Organization: []string{"It's Ours"}}, true)
					require.NoError(t, err, kind)
					assert.Equal(t, strings.NewReplacer("ecdsa-p", "ECDSA P-", "rsa-", "RSA ", "ed25519", "Ed25519").Replace(kind), p.signed(t, request).Key().String())
					there, err := maker.DropKey(t.Context(), "kinds", kind)
					require.NoError(t, err)
					assert.True(t, there)
				}
				assert.NoDirExists(t, p.dir+"/insegna", "nothing is left")
				var f *install.FaultError
				_, err := maker.MakeKey(t.Context(), "kinds", "1", "dsa-1024")
				require.ErrorAs(t, err, &f)
				_, err = p.destination(&overheard{Connection: reach.Local(), path: "/nowhere"}).MakeKey(t.Context(), "kinds", "1", "rsa-2048")
				require.ErrorAs(t, err, &f)
				assert.Contains(t, f.Words, "there is no openssl on the server")
				assert.NoDirExists(t, p.dir+"/insegna")
			}
			p.lay(t, foreign, 2)
			planned := func(version string) *install.Installation {
				key, err := maker.MakeKey(t.Context(), "menu", version, "ecdsa-p256")
				require.NoError(t, err)
				request, err := issue.Request(key, []string{host}, pkix.Name{}, false)
				require.NoError(t, err)
				leaf := p.signed(t, request)
				planned, err := maker.Plan(t.Context(), &install.Wish{Mandate: "menu", Server: "pier", Names: []string{host}, Leaf: leaf, Version: version,
					Port: p.secure.Port(), KeyThere: true})
				require.NoError(t, err)
				return &install.Installation{State: install.Staging, Plan: planned.Plan, Bindings: planned.Bindings[:1], Leaf: leaf.Fingerprint.String(),
					Material: install.Material{Chain: certs.PEM(leaf.Raw)}}
			}
			i := planned("3")
			assert.Equal(t, install.Act{Does: "reload", What: p.command("-s reload")}, i.Plan.Acts[len(i.Plan.Acts)-1], "no running server is told the key")
			assert.Contains(t, i.Plan.Acts[0].What, "the key from "+p.folder+"/keys/3.pem")
			x := &trial{Connection: way}
			x.run(t, p, i)
			require.Equal(t, install.Done, x.kept.State, "%v", x.steps)
			assert.True(t, p.serves(i.Leaf))
			list, err := exec.Command("find", p.folder+"/keys", p.folder+"/versions", "-type", "f", "-exec", "grep", "-l", "PRIVATE KEY", "{}", ";").Output()
			require.NoError(t, err)
			private := strings.Fields(string(list))
			assert.Len(t, private, 2, "the key, and what the server reads: %v", private)
			for _, file := range private {
				info, err := os.Stat(file)
				require.NoError(t, err)
				assert.Equal(t, fs.FileMode(0o600), info.Mode().Perm(), file)
			}
			assert.NotContains(t, way.heard.String(), "PRIVATE KEY", "it is on no other machine")

			p.put(t, p.folder+"/keys/.31", "of another order, half made")
			for name, age := range map[string]time.Duration{"trial-now.pem": 0, "trial-then.pem": 2 * time.Hour} {
				p.put(t, p.folder+"/keys/"+name, "of a trial")
				require.NoError(t, os.Chtimes(p.folder+"/keys/"+name, time.Time{}, time.Now().Add(-age)))
			}
			_, err = maker.DropKey(t.Context(), "menu", "3")
			require.NoError(t, err)
			assert.FileExists(t, p.folder+"/keys/.31")
			assert.FileExists(t, p.folder+"/keys/trial-now.pem")
			assert.NoFileExists(t, p.folder+"/keys/trial-then.pem", "of somebody who died")
			assert.NoFileExists(t, p.folder+"/keys/3.pem")
			assert.True(t, p.serves(i.Leaf))
			assert.DirExists(t, p.folder+"/versions/3", "it is in use")

			i = planned("4")
			require.NoError(t, os.Remove(p.folder+"/keys/4.pem"))
			_, err = maker.MakeKey(t.Context(), "menu", "4", "ecdsa-p256")
			require.NoError(t, err)
			before := p.served()
			x = &trial{Connection: way}
			x.run(t, p, i)
			assert.Equal(t, install.Returned, x.kept.State)
			assert.Contains(t, x.kept.Reason, "keys/4.pem is another key than the certificate's")
			assert.Equal(t, before, p.served())

			i = planned("4")
			require.NoError(t, os.Remove(p.folder+"/keys/4.pem"))
			x = &trial{Connection: way}
			x.run(t, p, i)
			assert.Equal(t, install.Returned, x.kept.State)
			assert.Contains(t, x.kept.Reason, "keys/4.pem, the key that was made for it there, is gone")

			i = planned("5")
			x = &trial{Connection: way}
			x.run(t, p, i)
			require.Equal(t, install.Done, x.kept.State, "%v", x.steps)
			there, err := maker.DropKey(t.Context(), "menu", "3")
			require.NoError(t, err)
			assert.False(t, there, "its key went before, now what was laid for the server")
			assert.NoDirExists(t, p.folder+"/versions/3")
			assert.True(t, p.serves(i.Leaf))
			assert.NotContains(t, way.heard.String(), "PRIVATE KEY")
		})
	}
}
