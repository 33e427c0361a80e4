// Package registry lists the kinds of server this program knows: one line each.
package registry

import (
	"insegna.example/internal/core/estate"
	"insegna.example/internal/kind"
	"insegna.example/internal/kind/haproxy"
	"insegna.example/internal/kind/httpd"
	"insegna.example/internal/kind/nginx"
)

// Kinds are all kinds, as people are shown them; the last one stands for a
// server whose kind nobody says.
var Kinds = kind.Registry{
	nginx.Kind,
	httpd.Kind,
	haproxy.Kind,
	named("windows", "Windows web servers", 2),
	named("ingress", "Kubernetes ingresses", 1),
	named("edge", "edge services", 0),
	named("other", "other servers", 2),
}

// named is a kind of which nothing but its name is known yet.
func named(name, title string, hops int) *kind.Kind {
	return &kind.Kind{Declared: estate.Kind{Name: name}, Title: title, Hops: hops}
}
