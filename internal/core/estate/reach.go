package estate

import (
	"net"
	"net/netip"
	"path"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
)

// sshPort is what an address without a port means.
const sshPort = "22"

// reach reads how to get at a server.
func (r *reader) reach(n *yaml.Node) *Reach {
	w := &Reach{Commands: map[string]string{}}
	list := []field{
		{"by", true, func(n *yaml.Node) {
			by, ok := r.text(n, "local or ssh")
			if w.By = by; ok && by != "local" && by != "ssh" {
				r.fault(r.place(n), "local or ssh", "unknown way %q", clip(by))
			}
		}},
		{"address", false, func(n *yaml.Node) { w.Address = r.sshAddress(n) }},
		{"user", false, func(n *yaml.Node) { w.User, _ = r.text(n, "the user to log in as") }},
		{"key", false, func(n *yaml.Node) { w.Key = r.absolute(n) }},
		{"known_hosts", false, func(n *yaml.Node) { w.KnownHosts = r.absolute(n) }},
		{"configuration", false, func(n *yaml.Node) { w.Configuration = r.absolute(n) }},
	}
	for _, c := range r.kinds.commands() {
		list = append(list, field{c.Key, false, func(n *yaml.Node) { w.Commands[c.Key] = r.command(n) }})
	}
	r.fields(n, "reach", list...)
	at := r.place(n)
	switch {
	case w.By == "ssh" && w.User == "":
		r.fault(at, "the key user", "reach by ssh has no user")
	case w.By == "local" && (w.Address != "" || w.User != "" || w.Key != "" || w.KnownHosts != ""):
		r.fault(at, "configuration and commands alone", "address, user, key and known_hosts belong to reach by ssh")
	}
	return w
}

// completeReach fills in what follows from the server's kind and address.
func (r *reader) completeReach(s *Server) {
	w := s.Reach
	if w == nil {
		return
	}
	k := r.kinds.of(s.Kind)
	if !k.Reached {
		r.fault(s.Place, "a server of kind "+r.kinds.reached(),
			"server %s has reach, and the configuration of kind %s cannot be read yet", s.Name, s.Kind)
		return
	}
	if w.By == "ssh" && w.Address == "" && len(s.Addresses) > 0 {
		w.Address = net.JoinHostPort(s.Addresses[0].String(), sshPort)
	}
	if w.Configuration == "" {
		w.Configuration = k.Main
	}
	for key := range w.Commands {
		if !k.takes(key) {
			r.fault(s.Place, "no command "+key, "server %s has the command %s, which servers of kind %s are not handled with",
				s.Name, key, s.Kind)
		}
	}
	for _, c := range k.Commands {
		if w.Commands[c.Key] == "" && c.Usual != nil {
			w.Commands[c.Key] = c.Usual(w.Configuration)
		}
	}
}

// sshAddress completes an address with the usual port; an IPv6 address may
// stand bare or in brackets.
func (r *reader) sshAddress(n *yaml.Node) string {
	const expected = "host:port, or an address such as 192.0.2.10"
	text, ok := r.text(n, expected)
	if !ok {
		return ""
	}
	if _, err := netip.ParseAddr(text); err == nil || !strings.Contains(text, ":") {
		return net.JoinHostPort(text, sshPort)
	}
	host, port, err := net.SplitHostPort(text)
	if p, perr := strconv.ParseUint(port, 10, 16); err != nil || perr != nil || p == 0 || host == "" {
		r.fault(r.place(n), expected, "bad address %q", clip(text))
	}
	return text
}

// absolute reads a path on the server, where no working directory is known that
// a relative one could start from.
func (r *reader) absolute(n *yaml.Node) string {
	const expected = "an absolute path"
	text, ok := r.text(n, expected)
	if ok && (!path.IsAbs(text) || strings.ContainsAny(text, "\x00\n")) {
		r.fault(r.place(n), expected, "found %s", describe(n))
	}
	return text
}

// command reads one line for the server's shell; more lines would hide a second
// command from whoever reviews the file.
func (r *reader) command(n *yaml.Node) string {
	const expected = "one line of command, at most 1000 characters"
	text, ok := r.text(n, expected)
	if ok && (len(text) > 1000 || strings.ContainsAny(text, "\x00\n\r")) {
		r.fault(r.place(n), expected, "found %s", describe(n))
	}
	return text
}
