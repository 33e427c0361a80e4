package nginx

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"insegna.example/internal/kind"
)

// usualDepth is proxy_ssl_verify_depth where it is not written. It counts what is
// between leaf and root, which are the ends.
const usualDepth, ends = 1, 2

// behind is what a block says of the servers it passes on to: a hop, and whether the
// name is sent along.
type behind struct {
	kind.Hop
	sends bool
}

// hops lists where a server passes requests or connections on to.
func (r *reader) hops(server *Directive, s *scope) []kind.Hop {
	var out []kind.Hop
	seen := map[string]bool{}
	site := ""
	r.each(server.Block, func(d *Directive) {
		if d.Name() == "server_name" && site == "" {
			site = d.Arg(0)
		}
	})
	var visit func(list []*Directive, h behind)
	visit = func(list []*Directive, h behind) {
		var passes, inner []*Directive
		r.each(list, func(d *Directive) {
			switch d.Name() {
			case "proxy_pass", "grpc_pass":
				passes = append(passes, d)
			case "location", "if", "limit_except":
				inner = append(inner, d)
			case "proxy_protocol":
				h.Proxied = d.Arg(0) == "on"
			default:
				r.sayBehind(&h, d)
			}
		})
		for _, d := range passes {
			hop := r.hop(d, h, s, site)
			if key := hop.To + hop.Place.String(); !seen[key] {
				seen[key] = true
				out = append(out, hop)
			}
		}
		for _, d := range inner {
			visit(d.Block, h)
		}
	}
	if s.behind == nil { // once for all servers of the block
		s.behind = &behind{Hop: kind.Hop{Depth: usualDepth + ends}}
		r.each(s.outer, func(d *Directive) { r.sayBehind(s.behind, d) })
	}
	visit(server.Block, *s.behind)
	return out
}

// sayBehind takes one directive about servers behind in.
func (r *reader) sayBehind(h *behind, d *Directive) {
	name, is := strings.CutPrefix(d.Name(), "proxy_ssl")
	if !is {
		if name, is = strings.CutPrefix(d.Name(), "grpc_ssl"); !is {
			return
		}
	}
	switch name {
	case "":
		h.TLS = d.Arg(0) == "on"
	case "_verify":
		h.Checked = d.Arg(0) == "on"
	case "_name":
		h.Name = d.Arg(0)
	case "_server_name":
		h.sends = d.Arg(0) == "on"
	case "_trusted_certificate":
		h.Trust = r.named(d.Arg(0), d.Place())
	case "_verify_depth":
		if n, err := strconv.Atoi(d.Arg(0)); err == nil {
			h.Depth = n + ends
		}
	}
}

// hop is what one directive passes on to.
func (r *reader) hop(d *Directive, h behind, s *scope, site string) kind.Hop {
	hop := h.Hop
	hop.Place, hop.To = d.Place(), d.Arg(0)
	hop.Group = d.Place().String()
	scheme, rest, ok := strings.Cut(hop.To, "://")
	if !ok {
		scheme, rest = "", hop.To
	}
	usual := "80"
	if scheme == "https" || scheme == "grpcs" {
		hop.TLS, usual = true, "443"
	}
	name := rest
	if !strings.HasPrefix(rest, "unix:") {
		name, _, _ = strings.Cut(rest, "/")
	}
	if group := s.groups[name]; group != nil {
		r.each(group.Block, func(d *Directive) {
			if d.Name() != "server" || slices.ContainsFunc(d.Args(), func(w Word) bool { return w.Text == "down" }) {
				return
			}
			if address, is := kind.Behind(d.Arg(0), "80"); is {
				hop.Servers = append(hop.Servers, address)
			}
		})
	} else if address, is := kind.Behind(name, usual); is {
		hop.Servers = []string{address}
	} else {
		hop.Unknown = "its address is chosen for each request"
	}
	expected := nameBehind(cmp.Or(h.Name, name), site)
	if expected == "" && hop.TLS && hop.Unknown == "" {
		hop.Unknown = "the name asked for there is worked out for each request"
	}
	hop.Sends, hop.Name = "", ""
	if !hop.TLS {
		hop.Checked, hop.Trust, hop.Depth = false, "", 0
	}
	if h.sends && hop.TLS {
		hop.Sends = expected
	}
	if hop.Checked && hop.TLS {
		hop.Name = expected
	}
	hop.Dates = hop.Checked
	return hop
}

// nameBehind is the name asked for behind; "" when it is worked out for each
// request.
func nameBehind(text, site string) string {
	switch text {
	case "$host", "$http_host", "$ssl_server_name", "$ssl_preread_server_name":
		return kind.Visitors
	case "$server_name":
		return site
	}
	if strings.Contains(text, "$") {
		return ""
	}
	if strings.HasPrefix(text, "unix:") {
		return "localhost"
	}
	if host, _, ok := strings.Cut(text, ":"); ok && !strings.HasPrefix(text, "[") {
		return host
	}
	return text
}
