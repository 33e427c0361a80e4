package files_test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ocsp"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/install"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/reach"
)

// Shapes of a HAProxy before an installation, besides those of every kind.
const (
	inFolder     = "in a folder"
	moreInList   = "one more in a list"
	moreInFolder = "one more in a folder"
	moreOnLine   = "one more on the line"
)

// newQuay is a pier with a real HAProxy.
func newQuay(t *testing.T) *pier {
	p := newPier(t)
	p.quay, p.main = true, p.dir+"/haproxy.cfg"
	return p
}

func (p *pier) quayCommand(more string) string {
	switch more {
	case "":
		return "/usr/sbin/haproxy -W -p " + p.dir + "/pid -f " + p.main
	case "-s reload":
		// HAProxy takes its file away before it writes it anew
		return "for i in $(seq 100); do p=$(cat " + p.dir + "/pid 2>/dev/null); test -n \"$p\" && exec kill -USR2 $p; sleep 0.05; done; exit 1"
	}
	return "/usr/sbin/haproxy -c -f " + p.main
}

// quayText is a configuration that names certificates somehow; each second version
// has a runtime socket.
func (p *pier) quayText(version int, names string) string {
	socket := ""
	if version%2 == 0 {
		socket = "  stats socket " + p.dir + "/admin.sock mode 600 level admin expose-fd listeners\n"
	}
	return fmt.Sprintf("global\n%s  hard-stop-after 1s\ndefaults\n  mode http\n  timeout client 5s\n  timeout server 5s\n"+
		"  timeout connect 1s\nfrontend web\n  bind %s\n  bind %s ssl %s\n  http-request return\n", socket, p.plain,
		p.secure, names)
}

// both is a certificate with its key in one file.
func both(t *testing.T, e *pkitest.Entity) string {
	key, err := certs.KeyPEM(e.Key)
	require.NoError(t, err)
	return string(certs.PEM(e.Raw)) + string(key)
}

// layQuay brings a HAProxy into a shape, and works out an installation on it.
func (p *pier) layQuay(t *testing.T, shape string, version int) *install.Installation {
	for _, dir := range []string{"/insegna", "/certs", "/lists"} {
		require.NoError(t, os.RemoveAll(p.dir+dir))
	}
	mine, other := pkitest.Leaf(p.root, host), pkitest.Leaf(p.root, "other.example")
	shown, live := mine, version%2 == 0
	p.put(t, p.dir+"/certs/other.pem", both(t, other))
	switch shape {
	case renewed:
		p.put(t, fmt.Sprintf("%s/versions/%d/certificates-and-key.pem", p.folder, version-1), both(t, mine))
		require.NoError(t, os.Symlink(fmt.Sprintf("versions/%d", version-1), p.folder+"/now"))
		p.put(t, p.main, p.quayText(version, "crt "+p.folder+"/now/certificates-and-key.pem"))
	case foreign:
		p.put(t, p.dir+"/certs/old.pem", both(t, mine))
		p.put(t, p.main, p.quayText(version, "crt "+p.dir+"/certs/old.pem crt "+p.dir+"/certs/other.pem"))
	case inFolder:
		p.put(t, p.dir+"/certs/zz.pem", both(t, mine))
		p.put(t, p.main, p.quayText(version, "crt "+p.dir+"/certs/"))
	case moreInList:
		p.put(t, p.dir+"/lists/all.txt", p.dir+"/certs/other.pem other.example\n")
		p.put(t, p.main, p.quayText(version, "crt-list "+p.dir+"/lists/all.txt"))
		shown = other
	case moreInFolder:
		p.put(t, p.main, p.quayText(version, "crt "+p.dir+"/certs"))
		shown = other
	case moreOnLine:
		p.put(t, p.main, p.quayText(version, "crt "+p.dir+"/certs/other.pem alpn h2,http/1.1"))
		shown, live = other, false
	}
	old := shown.Certificate.Fingerprint.String()
	if p.nginx == nil {
		p.start(t)
	}
	for turn := 0; turn == 0 || !p.serves(old); turn++ { // a signal that comes while it starts anew may get lost
		require.Less(t, turn, 10)
		out, err := exec.Command("/bin/sh", "-c", p.command("-s reload")).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	i := p.plan(t, version)
	for n := range i.Bindings {
		i.Bindings[n].Before = old
		if i.Bindings[n].Neighbour {
			i.Bindings = i.Bindings[:n] // the pier looks at one name alone
			break
		}
	}
	assert.Equal(t, []install.Binding{{Host: host, At: p.secure, Before: old}}, i.Bindings)
	words := fmt.Sprint(i.Plan.Acts)
	assert.Equal(t, live, strings.Contains(words, "runtime socket"), words)
	return i
}

// answerOf is what a CA says of a certificate: that it is good, for an hour.
func answerOf(t *testing.T, root *pkitest.Entity, leaf *x509.Certificate) *install.Staple {
	now := time.Now().UTC()
	der, err := ocsp.CreateResponse(root.X509(), root.X509(), ocsp.Response{Status: ocsp.Good, SerialNumber: leaf.SerialNumber,
		ThisUpdate: now.Add(-time.Minute), NextUpdate: now.Add(time.Hour)}, root.Key)
	require.NoError(t, err)
	return &install.Staple{Response: der, Until: now.Add(time.Hour), From: "http://ca.example/ocsp"}
}

// TestTheCAsAnswerGoesAlong has a response of the CA beside the old certificate: visitors
// get the new one's with the new certificate, by a reload and by the runtime socket, and
// the old one's again on the way back. The next version brings its own; where there is
// none, nothing of the old one's lies there any more.
func TestTheCAsAnswerGoesAlong(t *testing.T) {
	for version, way := range map[int]string{3: "by a reload", 4: "by the runtime socket"} {
		t.Run(way, func(t *testing.T) {
			t.Parallel()
			p := newQuay(t)
			p.layQuay(t, foreign, version)
			shown := func() (leaf, staple string) {
				conn, err := tls.Dial("tcp", p.secure.String(), &tls.Config{ServerName: host, InsecureSkipVerify: true})
				if err != nil {
					return "", err.Error()
				}
				defer func() { _ = conn.Close() }()
				return certs.FingerprintOf(conn.ConnectionState().PeerCertificates[0].Raw).String(), string(conn.OCSPResponse())
			}
			shows := func(leaf string, staple *install.Staple, why string) {
				t.Helper()
				want := ""
				if staple != nil {
					want = string(staple.Response)
				}
				turn := 0
				assert.Eventually(t, func() bool {
					if turn++; version%2 == 1 && turn%20 == 0 { // a signal that comes while it starts anew may get lost
						_ = exec.Command("/bin/sh", "-c", p.command("-s reload")).Run()
					}
					l, s := shown()
					return l == leaf && s == want
				}, 20*time.Second, 50*time.Millisecond, why)
			}
			root := string(certs.PEM(p.root.Raw))
			old := pkitest.Leaf(p.root, host)
			was := answerOf(t, p.root, old.X509())
			p.put(t, p.dir+"/certs/old.pem", both(t, old)+root)
			p.put(t, p.dir+"/certs/old.pem.ocsp", string(was.Response))
			require.Eventually(t, func() bool {
				_ = exec.Command("/bin/sh", "-c", p.command("-s reload")).Run()
				time.Sleep(500 * time.Millisecond)
				l, _ := shown()
				return l == old.Certificate.Fingerprint.String()
			}, 20*time.Second, time.Millisecond)
			shows(old.Certificate.Fingerprint.String(), was, "as it was")

			to := p.destination(reach.Local())
			planned := func(version int, given *install.Staple) (*install.Planned, *install.Material, *certs.Certificate) {
				m, leaf := p.leaf(t)
				m.Chain = append(m.Chain, root...)
				wish := &install.Wish{Mandate: "menu", Server: "pier", Names: []string{host}, Leaf: leaf, Version: fmt.Sprint(version),
					Port: p.secure.Port(), Staple: func(context.Context) (*install.Staple, error) {
						if given == nil {
							return nil, errors.New("http://ca.example/ocsp does not answer")
						}
						*given = *answerOf(t, p.root, leaf.Certificate)
						return given, nil
					}}
				plan, err := to.Plan(t.Context(), wish)
				require.NoError(t, err)
				_, err = to.Stage(t.Context(), &plan.Plan, &m)
				require.NoError(t, err)
				_, err = to.Try(t.Context(), &plan.Plan)
				require.NoError(t, err)
				return plan, &m, leaf
			}
			act := func(p *install.Plan, acts ...func(context.Context, *install.Plan) (string, error)) (said string) {
				for _, do := range acts {
					var err error
					said, err = do(t.Context(), p)
					require.NoError(t, err)
				}
				return said
			}
			before := p.state(t)
			fresh := &install.Staple{}
			first, _, leaf := planned(10, fresh)
			assert.Contains(t, strings.Join(first.Notes, "; "), "is for the new certificate, from http://ca.example/ocsp")
			said := act(&first.Plan, to.Switch, to.TakeIn)
			assert.Equal(t, version%2 == 0, strings.Contains(said, "admin.sock"), said)
			shows(leaf.Fingerprint.String(), fresh, "the new one with its own")
			act(&first.Plan, to.Back, to.TakeIn)
			shows(old.Certificate.Fingerprint.String(), was, "the old one with its own")
			require.NoError(t, to.Clear(t.Context(), &first.Plan, false))
			assert.Equal(t, before, p.state(t))

			again, _, leaf := planned(11, fresh)
			act(&again.Plan, to.Switch, to.TakeIn)
			shows(leaf.Fingerprint.String(), fresh, "installed")
			next, _, leaf := planned(12, fresh)
			assert.Empty(t, next.Plan.Links, "what lies there leads to the version in use")
			act(&next.Plan, to.Switch, to.TakeIn)
			shows(leaf.Fingerprint.String(), fresh, "the next one with its own")
			none, _, leaf := planned(13, nil)
			assert.Contains(t, strings.Join(none.Notes, "; "), "no OCSP response for the new certificate")
			act(&none.Plan, to.Switch, to.TakeIn)
			shows(leaf.Fingerprint.String(), nil, "none at all rather than the old one's")
		})
	}
}
