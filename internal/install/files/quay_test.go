package files_test

import (
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/install"
	"insegna.example/internal/pkitest"
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
		return "kill -USR2 $(cat " + p.dir + "/pid)"
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
