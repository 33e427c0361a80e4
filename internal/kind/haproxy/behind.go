package haproxy

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"insegna.example/internal/kind"
)

// Bounds of the servers behind one front that are told: many for few sites, and fewer
// where each of very many sites has them.
const (
	mostHops, fewestHops = 1000, 50
	hopsInAll            = 20_000
)

// firstHops keeps the first hops of a list; what is left out is told.
func firstHops(list []kind.Hop, most int) []kind.Hop {
	if len(list) <= most {
		return list
	}
	last := list[most]
	last.Servers, last.Fails = nil, ""
	last.To, last.Unknown = fmt.Sprintf("%d more", len(list)-most), fmt.Sprintf("only the first %d servers behind are told", most)
	return append(list[:most:most], last)
}

// hops are the servers of a section, and what is asked of each.
func (s *section) hops(g *globals) (out []kind.Hop) {
	var usual []*statement
	for at := s; at != nil; at = at.defaults {
		var own []*statement
		for _, o := range at.list {
			if o.arg(0) == "default-server" {
				own = append(own, o)
			}
		}
		usual = append(own, usual...)
	}
	for _, o := range s.servers() {
		if len(out) > mostHops {
			break
		}
		if slices.Contains(o.args(1), "disabled") {
			continue
		}
		to := o.arg(2)
		if o.arg(0) == "server-template" {
			to = o.arg(3)
		}
		h := behind{Hop: kind.Hop{Place: o.place, To: to, Group: s.name}, verify: "required"}
		if g.unchecked {
			h.verify = "none"
		}
		for _, from := range usual {
			h.say(from)
		}
		h.say(o)
		out = append(out, h.hop(g))
	}
	return out
}

// behind is what lines say of a server behind.
type behind struct {
	kind.Hop
	verify, host, sni, trust string
}

// say takes what one line says in.
func (h *behind) say(from *statement) {
	for i := 1; i < len(from.words); i++ {
		switch from.arg(i) {
		case "ssl":
			h.TLS = true
		case "no-ssl":
			h.TLS = false
		case "send-proxy", "send-proxy-v2", "send-proxy-v2-ssl", "send-proxy-v2-ssl-cn":
			h.Proxied = true
		case "no-send-proxy", "no-send-proxy-v2":
			h.Proxied = false
		case "verify":
			h.verify = from.arg(i + 1)
		case "verifyhost":
			h.host = from.arg(i + 1)
		case "sni":
			h.sni = from.arg(i + 1)
		case "ca-file":
			h.trust = from.arg(i + 1)
		}
	}
}

// hop is what comes of all lines. The name that is sent is the one expected, and
// verifyhost counts where none is sent; neither is looked at without a chain that is
// verified.
func (h *behind) hop(g *globals) kind.Hop {
	out := h.Hop
	if address, is := serverAddress(out.To); is {
		out.Servers = []string{address}
	} else {
		out.Unknown = "its address or port is worked out when it is needed"
	}
	if !out.TLS {
		return out
	}
	out.Checked = h.verify == "required"
	out.Dates = out.Checked
	if h.sni != "" {
		out.Sends = sent(h.sni)
		if out.Sends == "" {
			out.Unknown = "the name asked for there is worked out for each request"
		}
	}
	if !out.Checked {
		return out
	}
	if out.Name = out.Sends; h.sni == "" {
		out.Name = h.host
	}
	switch out.Trust = h.trust; {
	case out.Trust == "@system-ca":
		out.Trust = systemTrust
	case out.Trust != "" && !path.IsAbs(out.Trust) && g.caBase != "":
		out.Trust = path.Join(g.caBase, out.Trust)
	}
	return out
}

// systemTrust is where Debian and its kin keep the CAs everybody trusts.
const systemTrust = "/etc/ssl/certs/ca-certificates.crt"

// sent is the name an expression for sni gives: a fixed one, or the visitor's.
func sent(expression string) string {
	f := fetchOf(expression)
	switch f.name {
	case "str":
		return f.arg(0)
	case "req.hdr", "hdr", "req.fhdr":
		if strings.EqualFold(f.arg(0), "host") {
			return kind.Visitors
		}
	case "ssl_fc_sni", "req.ssl_sni", "req_ssl_sni":
		return kind.Visitors
	}
	return ""
}

// serverAddress is the address of a server line.
func serverAddress(text string) (string, bool) {
	for _, family := range []string{"unix@", "ipv4@", "ipv6@"} {
		if rest, is := strings.CutPrefix(text, family); is {
			if text = rest; family == "unix@" {
				text = "unix:" + rest
			}
		}
	}
	if strings.HasPrefix(text, "/") {
		text = "unix:" + text
	}
	return kind.Behind(text, "")
}
