package files_test

import (
	"crypto/tls"
	"errors"
	"fmt"
	"os"
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

// TestADefaultSiteGetsOutOfTheWay has a site answer for its name where the default site did,
// which listens at the address itself while the site listens at all of them. Unknown names
// go on getting the default site, whichever stands first.
func TestADefaultSiteGetsOutOfTheWay(t *testing.T) {
	nginx := func(at, name, file string) string {
		return fmt.Sprintf("server { listen %s ssl; server_name %s; ssl_certificate %s; ssl_certificate_key %[3]s; return 200 %[2]s; }\n", at, name, file)
	}
	httpd := func(at, name, file string) string {
		return fmt.Sprintf("<VirtualHost %s>\n  ServerName %s\n  SSLEngine on\n  SSLCertificateFile %s\n</VirtualHost>\n", at, name, file)
	}
	for name, c := range map[string]struct {
		pierOf func(*testing.T) *pier
		site   func(at, name, file string) string
		all    string // before the port
		head   string
		first  bool // the site stands before the default
		cannot string
	}{
		"nginx":                   {newPier, nginx, "", "", false, ""},
		"nginx, the site first":   {newPier, nginx, "", "", true, ""},
		"httpd":                   {newHouse, httpd, "*:", "Listen PORT\n", false, ""},
		"httpd, the site first":   {newHouse, httpd, "*:", "Listen PORT\n", true, "hosts without a site"},
		"another certificate":     {newPier, nginx, "", "", false, "its certificate does not fit: "},
		"two sites with the name": {newPier, nginx, "", "", false, "is for a person to say"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := c.pierOf(t)
			own, other := pkitest.Leaf(p.root, host), pkitest.Leaf(p.root, "default.example")
			for file, e := range map[string]*pkitest.Entity{"own": own, "other": other} {
				p.put(t, p.dir+"/certs/"+file, string(certs.PEM(e.Raw))+keyText(t, e))
			}
			port := fmt.Sprint(p.secure.Port())
			list := []string{c.site(p.secure.String(), "default.example", p.dir+"/certs/other"), c.site(c.all+port, host, p.dir+"/certs/own")}
			if c.first {
				list[0], list[1] = list[1], list[0]
			}
			if strings.HasPrefix(name, "two") {
				list = append(list, c.site("127.0.0.9:"+port, host, p.dir+"/certs/own"))
			}
			plain, _, _ := strings.Cut(p.siteText("", ""), host)
			closing := map[bool]string{true: "plain.example\n</VirtualHost>\n", false: "plain.example; }\n"}[p.httpd]
			p.put(t, p.site, strings.ReplaceAll(c.head, "PORT", port)+strings.Join(list, "")+plain+closing)
			p.start(t)
			require.Eventually(t, func() bool { return p.serves(other.Certificate.Fingerprint.String()) }, 5*time.Second, 50*time.Millisecond)
			before := p.state(t)
			planned, err := p.destination(reach.Local()).Mend(t.Context(), &install.Mending{Server: "pier", Version: "v1",
				Faults: []install.Fault{{Finding: 1, Code: check.OtherSiteAnswers, Means: check.OtherSiteAnswers.Before(), Host: host, At: p.secure}},
				Fit: func(string, []*certs.Certificate) error {
					if strings.HasPrefix(name, "another") {
						return errors.New("it is of another CA")
					}
					return nil
				}})
			if c.cannot != "" {
				if err == nil {
					require.Empty(t, planned.Mends)
					err = errors.New(planned.Left[0].Reason)
				}
				require.ErrorContains(t, err, c.cannot)
				return
			}
			require.NoError(t, err)
			require.Equal(t, []int64{1}, numbersOf(planned.Mends), "%+v", planned.Left)
			assert.Equal(t, before, p.state(t))
			x := &trial{Connection: reach.Local()}
			x.run(t, p, &install.Installation{ID: 1, State: install.Staging, Plan: planned.Plan, Bindings: planned.Bindings})
			require.Equal(t, install.Done, x.kept.State, "%v", x.steps)
			assert.True(t, p.serves(own.Certificate.Fingerprint.String()))
			p.unknown(t, other)
			again, err := p.destination(reach.Local()).Mend(t.Context(), &install.Mending{Server: "pier", Version: "v2", Faults: []install.Fault{
				{Finding: 1, Code: check.OtherSiteAnswers, Means: check.ByOpening, Host: host, At: p.secure}}})
			require.NoError(t, err)
			require.Empty(t, again.Mends)
			assert.Contains(t, again.Left[0].Reason, "a site with that name answers there already")
			require.NoError(t, os.RemoveAll(p.dir+"/insegna"))
			x.kept.State = install.Returning
			x.run(t, p, &x.kept)
			require.Equal(t, install.Returned, x.kept.State, "%v", x.steps)
			assert.Equal(t, before, p.state(t))
		})
	}
}

// unknown asks for a name no site has, and wants a certificate to be shown.
func (p *pier) unknown(t *testing.T, wanted *pkitest.Entity) {
	conn, err := tls.Dial("tcp", p.secure.String(), &tls.Config{ServerName: "nobody.example", InsecureSkipVerify: true})
	require.NoError(t, err)
	defer func() { _ = conn.Close() }()
	assert.Equal(t, wanted.Certificate.Fingerprint.String(), certs.FingerprintOf(conn.ConnectionState().PeerCertificates[0].Raw).String())
}
