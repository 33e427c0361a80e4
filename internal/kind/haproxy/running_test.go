package haproxy

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
		{[]string{"/usr/sbin/haproxy", "-Ws", "-f", "/etc/haproxy/haproxy.cfg", "-p", "/run/haproxy.pid"}, &kind.Running{Main: usualMain}},
		{[]string{"/usr/sbin/haproxy", "-f/srv/a.cfg"}, &kind.Running{Main: "/srv/a.cfg", Commands: map[string]string{"reload": "false"},
			Untold: "the command that reloads it, for which reload says false until you write it"}},
		{[]string{"/usr/sbin/haproxy", "-f", "a.cfg"}, nil},
		{[]string{"/usr/bin/less", "-f", "/etc/haproxy/haproxy.cfg"}, nil},
		{nil, nil},
	} {
		assert.Equal(t, c.want, running(c.words), c.words)
	}
}
