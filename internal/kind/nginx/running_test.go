package nginx

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"insegna.example/internal/kind"
)

func TestRunning(t *testing.T) {
	for title, want := range map[string]*kind.Running{
		"nginx: master process /usr/sbin/nginx -g daemon on; master_process on;": {Main: usualMain},
		"nginx: master process /usr/sbin/nginx -c /srv/it's.conf": {Main: "/srv/it's.conf",
			Commands: map[string]string{"test": `/usr/sbin/nginx -c '/srv/it'\''s.conf' -t`, "reload": `/usr/sbin/nginx -c '/srv/it'\''s.conf' -s reload`}},
		"nginx: master process /opt/nginx -p /srv/a -c conf/n.conf -e stderr": {Main: "/srv/a/conf/n.conf",
			Commands: map[string]string{"test": "/opt/nginx -p /srv/a -c /srv/a/conf/n.conf -e stderr -t", "reload": "/opt/nginx -p /srv/a -c /srv/a/conf/n.conf -e stderr -s reload"}},
		"nginx: worker process":             nil,
		"/usr/sbin/nginx -t":                nil,
		"nginx: master process nginx":       {Main: usualMain}, // started by its name
		"nginx: master process nginx -c /a": {Main: "/a", Commands: map[string]string{"test": "nginx -c /a -t", "reload": "nginx -c /a -s reload"}},
		"nginx: master process ./nginx":     nil,
		"nginx: master process ":            nil,
	} {
		assert.Equal(t, want, running([]string{title}), title)
	}
	assert.Nil(t, running(nil))
}
