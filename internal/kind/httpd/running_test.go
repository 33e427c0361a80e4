package httpd

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"insegna.example/internal/kind"
)

func TestRunning(t *testing.T) {
	for _, c := range []struct {
		words []string
		want  *kind.Running
	}{
		{[]string{"/usr/sbin/apache2", "-k", "start"}, &kind.Running{Main: debianMain}},
		{[]string{"/usr/sbin/httpd", "-DFOREGROUND"}, &kind.Running{Main: redHatMain}},
		{[]string{"/usr/sbin/apache2", "-d", "/srv/a", "-f", "own.conf", "-D", "FOREGROUND"}, &kind.Running{Main: "/srv/a/own.conf", Commands: map[string]string{
			"test": "/usr/sbin/apache2 -d /srv/a -f /srv/a/own.conf -t", "reload": "/usr/sbin/apache2 -d /srv/a -f /srv/a/own.conf -k graceful"}}},
		{[]string{"/usr/sbin/apache2", "-d", "/srv/a"}, &kind.Running{Main: "/srv/a/apache2.conf", Commands: map[string]string{
			"test": "/usr/sbin/apache2 -d /srv/a -f /srv/a/apache2.conf -t", "reload": "/usr/sbin/apache2 -d /srv/a -f /srv/a/apache2.conf -k graceful"}}},
		{[]string{"/usr/sbin/apache2", "-f", "own.conf"}, nil},
		{[]string{"apache2", "-k", "start"}, &kind.Running{Main: debianMain}},
		{[]string{"sbin/apache2", "-f", "/a"}, nil},
		{[]string{"/usr/bin/vim", "/etc/apache2/apache2.conf"}, nil},
		{nil, nil},
	} {
		assert.Equal(t, c.want, running(c.words), c.words)
	}
}
