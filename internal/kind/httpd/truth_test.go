package httpd_test

import (
	"os"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/require"

	"insegna.example/internal/kind/httpd"
	"insegna.example/internal/truthtest"
)

const program = "/usr/sbin/apache2"

// head is what every configuration needs to run by itself.
const head = `ServerRoot @dir@
DefaultRuntimeDir @dir@
PidFile @dir@/pid
Mutex file:@dir@ default
ErrorLog @dir@/error.log
LoadModule mpm_event_module /usr/lib/apache2/modules/mod_mpm_event.so
LoadModule authz_core_module /usr/lib/apache2/modules/mod_authz_core.so
LoadModule authz_host_module /usr/lib/apache2/modules/mod_authz_host.so
LoadModule access_compat_module /usr/lib/apache2/modules/mod_access_compat.so
LoadModule mime_module /usr/lib/apache2/modules/mod_mime.so
LoadModule dir_module /usr/lib/apache2/modules/mod_dir.so
LoadModule alias_module /usr/lib/apache2/modules/mod_alias.so
LoadModule rewrite_module /usr/lib/apache2/modules/mod_rewrite.so
LoadModule proxy_module /usr/lib/apache2/modules/mod_proxy.so
LoadModule proxy_http_module /usr/lib/apache2/modules/mod_proxy_http.so
LoadModule socache_shmcb_module /usr/lib/apache2/modules/mod_socache_shmcb.so
LoadModule ssl_module /usr/lib/apache2/modules/mod_ssl.so
LoadModule headers_module /usr/lib/apache2/modules/mod_headers.so
LoadModule macro_module /usr/lib/apache2/modules/mod_macro.so
SSLSessionCache none
TypesConfig /etc/mime.types
ServerName main.example
`

// server is httpd as the tests run it.
var server = &truthtest.Server{
	Kind: httpd.Kind, Main: "httpd.conf", Marks: map[string]string{"@head@": head}, Least: 40,
	Run: []string{"-D", "FOREGROUND"}, Test: []string{"-t"}, Log: "error.log",
	Pairs: truthtest.Pairs,
	Command: func(c *truthtest.Truth, more ...string) *exec.Cmd {
		args := append([]string{"-d", c.Dir, "-f", c.Dir + "/httpd.conf"}, c.Args...)
		cmd := exec.Command(program, append(args, more...)...)
		cmd.Env = append(os.Environ(), "SITE_HOME="+c.Dir)
		return cmd
	},
}

// TestWhatHttpdServesIsWhatTheReaderSays starts a real httpd with every
// configuration of testdata/truth, connects with each name, and compares.
func TestWhatHttpdServesIsWhatTheReaderSays(t *testing.T) {
	_, err := os.Stat(program)
	require.NoError(t, err, "apache2 is not installed; make setup-test installs it")
	server.Each(t)
}

// TestVisitorsOfEveryConfigurationAreLed leads every host of every configuration from
// plain http to https.
func TestVisitorsOfEveryConfigurationAreLed(t *testing.T) { server.LeadEverywhere(t) }

// TestTLSOfEveryConfigurationIsSet sets versions and suites everywhere.
func TestTLSOfEveryConfigurationIsSet(t *testing.T) { server.SettleEverywhere(t) }

// TestEveryConfigurationIsPledged has every host send the header of RFC 6797.
func TestEveryConfigurationIsPledged(t *testing.T) { server.PledgeEverywhere(t) }
