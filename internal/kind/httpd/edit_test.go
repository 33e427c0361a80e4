package httpd_test

import (
	"crypto/x509"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"insegna.example/internal/core/names"
	"insegna.example/internal/install"
	"insegna.example/internal/kind"
	"insegna.example/internal/kind/httpd"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/truthtest"
)

// TestEditsOfEveryConfiguration exchanges the certificate of every site of every
// configuration: what is not edited says why and what to do, what is keeps the
// server's own test green, as a copy and in place, is done after it, and changes
// nothing for anybody else.
func TestEditsOfEveryConfiguration(t *testing.T) {
	list, err := filepath.Glob("testdata/truth/*.txtar")
	require.NoError(t, err)
	pairs := truthtest.Pairs(t)
	leaf := pkitest.Leaf(pkitest.CA("root", nil), "nobody.example").Certificate
	edited, refused, secured := 0, 0, 0
	for _, file := range list {
		archive, err := txtar.ParseFile(file)
		require.NoError(t, err)
		c := server.Unpack(t, archive, pairs)
		if c.Refused != "" {
			continue
		}
		before := c.Read(t)
		main := c.Dir + "/httpd.conf"
		wanted := kind.Wanted{Certificate: c.Dir + "/new cert.pem", Key: c.Dir + "/new.key", Proofs: c.Dir + "/proofs"}
		require.NoError(t, os.WriteFile(wanted.Certificate, pairs["d.pem"], 0o644))
		require.NoError(t, os.WriteFile(wanted.Key, pairs["d.key"], 0o644))
		for i := range before.Sites {
			if few := 60; len(before.Sites) > few && i%(len(before.Sites)/few*5) != 0 {
				continue // of generated ones a few are enough
			}
			what := filepath.Base(file) + " " + before.Sites[i].Place.String()
			wanted.Site, wanted.Port = before.Sites[i].Place, uint16(truthtest.FreePort(t))
			plain, leaf := len(before.Sites[i].Pairs) == 0, leaf
			if plain {
				var own []string
				for n := range before.Sites[i].Names {
					own = append(own, before.Sites[i].Names[n].Covers...)
				}
				leaf = pkitest.Leaf(pkitest.CA("root", nil), "x.example", func(x *x509.Certificate) { x.DNSNames = own }).Certificate
			}
			edits, err := httpd.Edit(os.DirFS("/"), main, []kind.Wanted{wanted})
			var no *kind.EditError
			if errors.As(err, &no) {
				refused++
				assert.True(t, no.Known(), what)
				assert.NotEmpty(t, no.Remedy, what)
				continue
			}
			require.NoError(t, err, what)
			require.NotEmpty(t, edits.Files, what)
			edited++
			try(t, c, edits.Files, main, what)
			for _, e := range edits.Files {
				require.NoError(t, os.WriteFile(e.Path, []byte(e.After), 0o644))
			}
			out, err := server.Command(c, "-t").CombinedOutput()
			require.NoError(t, err, "%s: %s", what, out)
			after := c.Read(t)
			if at := edits.Site(wanted.Site); !plain {
				again, err := httpd.Edit(os.DirFS("/"), main,
					[]kind.Wanted{{Site: at, Certificate: wanted.Certificate, Key: wanted.Key}})
				require.NoError(t, err, what)
				assert.Empty(t, again.Files, what)
			} else {
				secured++
			}
			compared := &kind.Compared{Before: kind.Side{Reading: before, Answers: httpd.NewIndex(before)},
				After: kind.Side{Reading: after, Answers: httpd.NewIndex(after)}, Edits: edits, Wanted: []kind.Wanted{wanted},
				Own: func(host string) bool { return names.Covers(leaf, host).Covered }, Most: 5}
			assert.Empty(t, compared.Touched(), what)
			for _, e := range edits.Files {
				require.NoError(t, os.WriteFile(e.Path, []byte(e.Before), 0o644))
			}
		}
	}
	t.Logf("%d edited, %d of them from plain http, %d refused", edited, secured, refused)
	assert.Greater(t, edited, 60)
	assert.Greater(t, secured, 25)
	assert.Greater(t, refused, 10)
}

// test has the server test a copy with edits made.
func try(t *testing.T, c *truthtest.Truth, edits []install.File, main, what string) {
	copied, err := httpd.Copy(os.DirFS("/"), main, edits, nil)
	require.NoError(t, err, what)
	at := c.Dir + "/.copy"
	require.NoError(t, os.WriteFile(at, []byte(copied.Text), 0o600))
	cmd := exec.Command("/bin/sh", "-c",
		httpd.OnFile("SITE_HOME="+c.Dir+" "+program+" -d "+c.Dir+" "+strings.Join(c.Args, " ")+" -t", main, at))
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s: %s\n%s", what, out, copied.Text)
	assert.NotContains(t, string(out), "AH00526")
}

// TestHowLinesAreWritten changes no more than the lines it has to, in the way the
// file is written.
func TestHowLinesAreWritten(t *testing.T) {
	const head = "LoadModule ssl_module x\nListen 443\n"
	for name, c := range map[string]struct{ before, after, no string }{
		"both lines": {
			"<VirtualHost *:443>\n\tServerName a\n\tsslengine on\n\t SSLcertificateFILE \"old.pem\"\n\tSSLCertificateKeyFile " +
				"\\\n\t  old.key\n</VirtualHost>\n",
			"<VirtualHost *:443>\n\tServerName a\n\tsslengine on\n\t SSLcertificateFILE /new/c.pem\n\tSSLCertificateKeyFile " +
				"/new/c.key\n</VirtualHost>\n", ""},
		"the key in the same file": {
			"<VirtualHost *:443>\n  SSLEngine on\n  SSLCertificateFile both.pem\n  # end\n</VirtualHost>\n",
			"<VirtualHost *:443>\n  SSLEngine on\n  SSLCertificateFile /new/c.pem\n  SSLCertificateKeyFile /new/c.key\n  # " +
				"end\n</VirtualHost>\n", ""},
		"the chain goes": {
			"<VirtualHost *:443>\r\n  SSLEngine on\r\n  SSLCertificateChainFile ca.pem\r\n  SSLCertificateFile a\r\n  " +
				"SSLCertificateKeyFile b\r\n</VirtualHost>\r\n",
			"<VirtualHost *:443>\r\n  SSLEngine on\r\n  SSLCertificateFile /new/c.pem\r\n  SSLCertificateKeyFile " +
				"/new/c.key\r\n</VirtualHost>\r\n", ""},
		"inherited": {
			"SSLCertificateFile a\nSSLCertificateKeyFile b\n<VirtualHost *:443>\n    SSLEngine on\n</VirtualHost>\n",
			"SSLCertificateFile a\nSSLCertificateKeyFile b\n<VirtualHost *:443>\n    SSLEngine on\n    SSLCertificateFile " +
				"/new/c.pem\n    SSLCertificateKeyFile /new/c.key\n</VirtualHost>\n", ""},
		"two pairs": {"<VirtualHost *:443>\nSSLEngine on\nSSLCertificateFile a\nSSLCertificateFile b\n</VirtualHost>\n", "",
			"/etc/httpd/conf/httpd.conf:6: the site shows 2 certificates"},
		"a chain for all": {
			"SSLCertificateChainFile ca.pem\n<VirtualHost *:443>\nSSLEngine on\nSSLCertificateFile a\n</VirtualHost>\n", "",
			"/etc/httpd/conf/httpd.conf:6: the chain /etc/httpd/ca.pem is sent by every virtual host, also behind the new " +
				"certificate"},
		"an included file of several": {
			"Define N 1\n<VirtualHost *:443>\nSSLEngine on\nInclude conf/tls\n</VirtualHost>\n<VirtualHost *:443>\nInclude " +
				"conf/tls\n</VirtualHost>\n", "",
			"/etc/httpd/conf/tls:1: the file /etc/httpd/conf/tls is included more than once"},
		"plain, without what it takes": {"Listen 80\n<VirtualHost *:80>\n</VirtualHost>\n", "",
			"/etc/httpd/conf/httpd.conf:4: mod_rewrite is not loaded"},
		"plain": {"LoadModule rewrite_module x\nListen 80\n<VirtualHost *:80>\n  ServerName a.example\n  DocumentRoot /w\n</VirtualHost>",
			"LoadModule rewrite_module x\nListen 80\n<VirtualHost *:80>\n" +
				"  # Visitors are led to https, but for what a CA asks for as proof of these names.\n  RewriteEngine On\n" +
				"  RewriteCond %{HTTP_HOST} ^(a\\.example)\\.?(:[0-9]+)?$ [NC]\n" +
				"  RewriteRule ^/\\.well-known/acme-challenge/([^/]+)$ \"/p/.well-known/acme-challenge/$1\" [END]\n" +
				"  RewriteCond %{HTTP_HOST} ^(a\\.example)\\.?(:[0-9]+)?$ [NC]\n  RewriteRule ^ https://%1%{REQUEST_URI} [R=301,END]\n" +
				"  ServerName a.example\n  DocumentRoot /w\n  <Directory /p/.well-known/acme-challenge>\n    AllowOverride None\n" +
				"    Options None\n    Require all granted\n  </Directory>\n</VirtualHost>\n\n<VirtualHost *:443>\n" +
				"  ServerName a.example\n  DocumentRoot /w\n  SSLEngine on\n  SSLCertificateFile /new/c.pem\n" +
				"  SSLCertificateKeyFile /new/c.key\n</VirtualHost>\n", ""},
	} {
		t.Run(name, func(t *testing.T) {
			fsys := tree(map[string]string{"httpd.conf": head + c.before,
				"tls": "SSLCertificateFile a\nSSLCertificateKeyFile b\n"})
			r, err := httpd.Read(fsys, "/etc/httpd/conf/httpd.conf")
			require.NoError(t, err)
			edits, err := httpd.Edit(fsys, "/etc/httpd/conf/httpd.conf",
				[]kind.Wanted{{Site: r.Sites[0].Place, Certificate: "/new/c.pem", Key: "/new/c.key", Port: 443, Proofs: "/p"}})
			if c.no != "" {
				assert.EqualError(t, err, c.no)
				return
			}
			require.NoError(t, err)
			require.Len(t, edits.Files, 1)
			assert.Equal(t, head+c.after, edits.Files[0].After)
		})
	}
}

// TestACopyTellsWhereItsLinesComeFrom leads a test to a copy, and what it says back
// to the files.
func TestACopyTellsWhereItsLinesComeFrom(t *testing.T) {
	fsys := tree(map[string]string{"httpd.conf": "Listen 80\nInclude conf/sites/*\nServerAdmin x\n",
		"etc/httpd/conf/sites/a": "# a\n<IfDefine !X>\nInclude conf/in\n</IfDefine>\n", "in": "ServerSignature \\\n  on\n"})
	c, err := httpd.Copy(fsys, "/etc/httpd/conf/httpd.conf", nil, nil)
	require.NoError(t, err)
	assert.Equal(t,
		"ServerRoot /etc/httpd\nListen 80\n# a\n<IfDefine !X>\nServerSignature \\\n  on\n\n</IfDefine>\n\nServerAdmin x\n\n",
		c.Text)
	assert.Equal(t, "Syntax error on line 2 of /etc/httpd/conf/in: what; the staged copy",
		c.Translate("Syntax error on line 6 of /x/y: what; /x/y", "/x/y"))
	for command, want := range map[string]string{
		"apache2ctl -t":                  "apache2ctl -t -f '/c'",
		"/usr/sbin/httpd -f /m -t":       "/usr/sbin/httpd -f /c -t",
		"sudo -n /usr/sbin/apachectl -t": "sudo -n /usr/sbin/apachectl -t -f '/c'",
		"apachectl -t && true":           "",
		"systemctl test x":               "",
	} {
		assert.Equal(t, want, httpd.OnFile(command, "/m", "/c"), command)
	}
}
