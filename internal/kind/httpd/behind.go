package httpd

import (
	"net/netip"
	"strconv"
	"strings"

	"insegna.example/internal/kind"
)

// usualDepth is SSLProxyVerifyDepth where it is not written. It counts what is above
// the leaf, the root as well.
const usualDepth = 1

// behind is what blocks say of the servers they pass on to.
type behind struct {
	engine, preserve   bool
	verify, trust      string
	name, common, ends string // SSLProxyCheckPeer..., "" for not said
	depth              int
}

// hops lists where a virtual host passes requests on to.
func (r *reader) hops(v *vhost) []kind.Hop {
	var out []kind.Hop
	var visit func(list []*Directive, h behind)
	visit = func(list []*Directive, h behind) {
		for _, d := range list {
			r.sayBehind(&h, d)
		}
		for _, d := range list {
			to := ""
			switch d.Name {
			case "proxypass", "proxypassmatch":
				if to = d.Arg(1); to == "" || !strings.Contains(d.Raw, " ") && !strings.Contains(d.Raw, "\t") {
					to = d.Arg(0)
				}
			case "rewriterule":
				if strings.Contains(","+strings.Trim(d.Arg(2), "[]")+",", ",P,") {
					to = d.Arg(1)
				}
			}
			if to != "" && to != "!" {
				out = append(out, r.hop(d, to, h)...)
			} else if d.Section && d.Name != "virtualhost" {
				visit(d.Block, h)
			}
		}
	}
	usual := behind{verify: "none", depth: usualDepth}
	if v.d != nil {
		usual = r.saidBehind()
	}
	visit(v.block, usual)
	return out
}

// saidBehind is what the main server says of servers behind, for every virtual host.
func (r *reader) saidBehind() behind {
	if r.behind == nil {
		r.behind = &behind{verify: "none", depth: usualDepth}
		for _, d := range r.mainly.block {
			r.sayBehind(r.behind, d)
		}
	}
	return *r.behind
}

// sayBehind takes one directive about servers behind in.
func (r *reader) sayBehind(h *behind, d *Directive) {
	text := strings.ToLower(d.Arg(0))
	switch d.Name {
	case "sslproxyengine":
		h.engine = text == "on"
	case "proxypreservehost":
		h.preserve = text == "on"
	case "sslproxyverify":
		h.verify = text
	case "sslproxycacertificatefile", "sslproxycacertificatepath":
		h.trust = r.full(d.Arg(0))
	case "sslproxycheckpeername":
		h.name = text
	case "sslproxycheckpeercn":
		h.common = text
	case "sslproxycheckpeerexpire":
		h.ends = text
	case "sslproxyverifydepth":
		if n, err := strconv.Atoi(text); err == nil {
			h.depth = n
		}
	}
}

// hop gives the servers one directive passes on to: one, or those of a balancer.
func (r *reader) hop(d *Directive, to string, h behind) []kind.Hop {
	members := []member{{to, d}}
	if rest, is := strings.CutPrefix(to, "balancer://"); is {
		group, _, _ := strings.Cut(rest, "/")
		members = r.members(group, &h)
	}
	out := make([]kind.Hop, 0, len(members))
	for _, m := range members {
		hop := kind.Hop{Place: m.from.Place, To: m.to, Group: to, Depth: h.depth + 1}
		scheme, rest, _ := strings.Cut(m.to, "://")
		usual := "80"
		switch {
		case strings.HasPrefix(m.to, "unix:"):
			rest, _, _ = strings.Cut(m.to, "|")
		case scheme == "https" || scheme == "wss" || scheme == "h2":
			hop.TLS, usual = true, "443"
		case scheme == "ajp":
			usual = "8009"
		case scheme == "fcgi" || scheme == "scgi" || scheme == "uwsgi":
			usual = ""
		}
		if !strings.HasPrefix(m.to, "unix:") {
			rest, _, _ = strings.Cut(rest, "/")
		}
		if address, is := kind.Behind(rest, usual); is {
			hop.Servers = []string{address}
		} else {
			hop.Unknown = "its address is worked out for each request"
		}
		if hop.TLS {
			h.over(&hop, rest)
		}
		out = append(out, hop)
	}
	return out
}

// over says what is asked of a server behind that is spoken to over TLS. Name and
// dates are looked at whether the chain is verified or not.
func (h *behind) over(hop *kind.Hop, host string) {
	if !h.engine {
		hop.Fails = "SSLProxyEngine is not on, so every request to https is answered with 500"
	}
	hop.Checked = h.verify != "none" && h.verify != "optional_no_ca"
	hop.Dates = hop.Checked || h.ends != "off"
	hop.Trust = h.trust
	if name, _, ok := strings.Cut(host, ":"); ok && !strings.HasPrefix(host, "[") {
		host = name
	}
	if h.preserve {
		host = kind.Visitors
	}
	if _, err := netip.ParseAddr(strings.Trim(host, "[]")); err != nil {
		hop.Sends = host
	}
	byName := h.name != "off" && (h.common != "off" || h.name == "on")
	if byName || h.common == "on" {
		hop.Name = host
	}
}

// member is one server of a balancer.
type member struct {
	to   string
	from *Directive
}

// members are the servers of a balancer. What its section says of TLS counts for
// them.
func (r *reader) members(group string, h *behind) (out []member) {
	for _, d := range r.balancer(group) {
		for _, m := range d.Block {
			r.sayBehind(h, m)
			if m.Name == "balancermember" {
				out = append(out, member{m.Arg(0), m})
			}
		}
	}
	return out
}

// balancer gives the sections that declare one, wherever they stand.
func (r *reader) balancer(group string) []*Directive {
	if r.balancers == nil {
		r.balancers = map[string][]*Directive{}
		lists := [][]*Directive{r.mainly.block}
		for _, v := range r.virtual {
			lists = append(lists, v.block)
		}
		for _, list := range lists {
			for _, d := range list {
				if d.Name != "proxy" || !d.Section {
					continue
				}
				if name, is := strings.CutPrefix(strings.TrimSuffix(d.Arg(0), "/"), "balancer://"); is {
					r.balancers[name] = append(r.balancers[name], d)
				}
			}
		}
	}
	return r.balancers[group]
}
