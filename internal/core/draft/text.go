package draft

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"unicode"

	"go.yaml.in/yaml/v3"

	"insegna.example/internal/core/estate"
)

// Text writes the draft as an estate file.
func (d *Draft) Text() string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("# A draft to correct. Where each line comes from stands beside it; what stands as a comment\n# is not watched until you take the # away.")
	line("estate: %s\n", scalar(d.Name))
	line("audiences:\n  - name: browsers            # the first is the default of every host")
	if d.Public {
		line("    public: true              # false for CAs of your own")
	}
	line("    roots: [%s]\n", scalars(d.Roots))
	line("servers:")
	for _, s := range d.Servers {
		d.server(line, s)
	}
	watched, doubted := d.Hosts(true), d.Hosts(false)
	groups := grouped(watched)
	if len(groups) > 0 {
		line("\ngroups:   # by domain; an owner of each can be told, see below")
	}
	for _, name := range groups {
		line("  - {name: %s}", scalar(name))
	}
	line("\nhosts:")
	for _, h := range watched {
		line("  - name: %s   # %s", scalar(h.Name), sources(h.From))
		line("    at: [%s]", refs(h.At))
		if at := domain(h.Name); slices.Contains(groups, at) {
			line("    group: %s", scalar(at))
		}
	}
	if len(doubted) > 0 {
		line("\n# Met, and not watched:")
	}
	for _, h := range doubted {
		line("#  - name: %s   # %s; %s", scalar(h.Name), comment(h.Doubt), sources(h.From))
		if len(h.At) > 0 {
			line("#    at: [%s]", refs(h.At))
		}
	}
	if len(d.untold) > 0 {
		line("\n# What could not be told:")
	}
	for i, text := range d.untold {
		if i == untoldMost {
			line("# and %d more", len(d.untold)-i)
			break
		}
		line("# - %s", comment(text))
	}
	line("\n# Who is told of what is wrong; nobody until you take the # away:")
	line("# owner: operations\n# owners:\n#   - {name: operations, mail: [operations@example.com]}")
	line("# notices:\n#   mail: {server: mail.example.com, from: insegna@example.com, user: insegna, credential: mail}\n#   digest: 07:00")
	return b.String()
}

// Groups are made where hosts are of so many domains.
const (
	groupsLeast = 2
	groupsMost  = 20
)

// grouped are the domains hosts are put together by; none where there is one alone, or too many.
func grouped(hosts []*Host) (out []string) {
	for _, h := range hosts {
		if at := domain(h.Name); at != "" && !slices.Contains(out, at) {
			if out = append(out, at); len(out) > groupsMost {
				return nil
			}
		}
	}
	if len(out) < groupsLeast {
		return nil
	}
	slices.Sort(out)
	return out
}

// domain is the last two labels of a name; "" for an address or a name that makes no group.
func domain(name string) string {
	if _, err := netip.ParseAddr(name); err == nil {
		return ""
	}
	labels := strings.Split(name, ".")
	if len(labels) < 2 {
		return ""
	}
	at := strings.Join(labels[len(labels)-2:], ".")
	if len(at) > 63 {
		return ""
	}
	return at
}

// server writes one server.
func (d *Draft) server(line func(string, ...any), s *Server) {
	line("  - name: %s   # %s", scalar(s.Name), comment(s.From))
	if s.Kind != "" {
		line("    kind: %s", s.Kind)
	}
	addresses := make([]string, len(s.Addresses))
	for i, a := range s.Addresses {
		addresses[i] = a.String()
	}
	line("    addresses: [%s]", scalars(addresses))
	if len(s.Ports) > 0 && !slices.Equal(s.Ports, []uint16{443}) {
		line("    ports: [%s]", ranges(s.Ports))
	}
	if s.Plain {
		line("    without_sni: false")
	}
	if s.Reach == nil {
		return
	}
	line("#    hosts: all              # watches every site it comes to have as well")
	line("    reach:\n      by: %s", s.Reach.By)
	usual := s.Usual
	if usual == nil {
		usual = &estate.Reach{}
	}
	for _, f := range [][3]string{{"address", s.Reach.Address, usual.Address}, {"user", s.Reach.User, ""}, {"key", s.Reach.Key, ""},
		{"known_hosts", s.Reach.KnownHosts, ""}, {"configuration", s.Reach.Configuration, usual.Configuration}} {
		if f[1] != "" && f[1] != f[2] {
			line("      %s: %s", f[0], scalar(f[1]))
		}
	}
	for _, key := range s.Commands {
		if command := s.Reach.Commands[key]; command != "" && command != usual.Commands[key] {
			line("      %s: %s", key, scalar(command))
		}
	}
}

// scalar writes a text as YAML takes it.
func scalar(s string) string {
	out, err := yaml.Marshal(s)
	if err != nil || strings.Count(string(out), "\n") > 1 {
		return fmt.Sprintf("%q", s)
	}
	return strings.TrimSuffix(string(out), "\n")
}

// scalars writes a list between brackets.
func scalars(list []string) string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = scalar(s)
		if strings.ContainsAny(s, ",[]{}:") && !strings.HasPrefix(out[i], `"`) && !strings.HasPrefix(out[i], "'") {
			out[i] = fmt.Sprintf("%q", s)
		}
	}
	return strings.Join(out, ", ")
}

// refs writes where a host is served.
func refs(list []estate.Ref) string {
	out := make([]string, len(list))
	for i, r := range list {
		out[i] = r.String()
	}
	return strings.Join(out, ", ")
}

// ranges writes ports, those in a row together.
func ranges(ports []uint16) string {
	var out []string
	for i := 0; i < len(ports); {
		last := i
		for last+1 < len(ports) && ports[last+1] == ports[last]+1 {
			last++
		}
		if last > i {
			out = append(out, fmt.Sprintf("%d-%d", ports[i], ports[last]))
		} else {
			out = append(out, fmt.Sprint(ports[i]))
		}
		i = last + 1
	}
	return strings.Join(out, ", ")
}

// sourcesTold is how many places are told of one host.
const sourcesTold = 3

// sources writes where something was found.
func sources(list []string) string {
	if n := len(list); n > sourcesTold {
		return comment(fmt.Sprintf("%s and %d more", strings.Join(list[:sourcesTold], ", "), n-sourcesTold))
	}
	return comment(strings.Join(list, ", "))
}

// commentMost is the length of a comment at most, in characters.
const commentMost = 300

// comment makes a text from outside fit for a comment: on one line, and short.
func comment(s string) string {
	s = strings.Map(func(c rune) rune {
		if unicode.IsControl(c) || unicode.Is(unicode.Cf, c) || c == '\u2028' || c == '\u2029' || c == unicode.ReplacementChar {
			return '·'
		}
		return c
	}, s)
	if r := []rune(s); len(r) > commentMost {
		return string(r[:commentMost]) + "…"
	}
	return s
}
