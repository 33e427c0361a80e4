package haproxy

import (
	"regexp"
	"strings"
)

// mapped is a map file, or one of patterns.
type mapped struct {
	keys, values []string
	exact        map[string]string // the first value of each key
	err          error
}

// mapMethod says how a converter compares the keys of its map.
func mapMethod(name string) (string, bool) {
	if name == "map" {
		return "str", true
	}
	method, ok := strings.CutPrefix(name, "map_")
	if !ok {
		return "", false
	}
	method, _, _ = strings.Cut(method, "_") // what it gives is told behind: map_str_int
	switch method {
	case "str", "beg", "end", "sub", "dir", "dom", "reg", "ip", "int":
		return method, true
	}
	return "", false
}

// mapping looks a sample up in a map.
func (t *tree) mapping(f *fetched, method string, s sample) sample {
	m := t.mapFile(f.arg(0))
	other := sample{f.arg(1), len(f.args) > 1, true}
	switch {
	case m.err != nil:
		return sample{}
	case method == "str":
		if value, ok := m.exact[s.text]; ok {
			return known(value)
		}
		return other
	}
	// Of beginnings the longest counts, as of addresses; else the first line.
	best, longest := other, -1
	for i, key := range m.keys {
		switch matches(method, s.text, m.keys, i, false) {
		case perhaps:
			return sample{}
		case yes:
			if method != "beg" && method != "ip" {
				return known(m.values[i])
			}
			if len(key) > longest {
				best, longest = known(m.values[i]), len(key)
			}
		}
	}
	return best
}

// patterns are the lines of a file an acl names.
func (t *tree) patterns(p string) ([]string, error) {
	m := t.lines(p, false)
	return m.keys, m.err
}

// mapFile reads a map once.
func (t *tree) mapFile(p string) *mapped { return t.lines(p, true) }

// lines reads a file of keys, with values or without.
func (t *tree) lines(p string, valued bool) *mapped {
	t.mu.Lock()
	defer t.mu.Unlock()
	key := p
	if valued {
		key = "map " + p
	}
	if m, had := t.maps[key]; had {
		return m
	}
	m := &mapped{exact: map[string]string{}}
	t.maps[key] = m
	f, err := t.read(p)
	if err != nil {
		m.err = err
		return m
	}
	for line := range strings.SplitSeq(f.text, "\n") {
		line = strings.Trim(line, " \t\r")
		if line == "" || line[0] == '#' {
			continue
		}
		key, value := line, ""
		if i := strings.IndexAny(line, " \t"); valued && i >= 0 {
			key, value = line[:i], strings.TrimLeft(line[i:], " \t")
		}
		m.keys, m.values = append(m.keys, key), append(m.values, value)
		if _, had := m.exact[key]; !had {
			m.exact[key] = value
		}
	}
	return m
}

var (
	// what requests are led by
	leading = regexp.MustCompile(`(?i)hdr\w*\(host|\bpath|\bbase|sni\b|\burl`)
	// what only few know, and is compared with what lies in files
	secretive = regexp.MustCompile(`(?i)\(\s*[^()]*(?:token|secret|key|auth|passw|cookie|session)[^()]*\)|\bcook\b`)
)

// leads says whether a line compares what requests are led by, and no secret: files
// it names may be kept and shown.
func leads(s *statement) bool {
	text := strings.Join(s.args(1), " ")
	return leading.MatchString(text) && !secretive.MatchString(text)
}

// beside reads the maps and files of patterns the rules of a configuration name, so
// that they are part of its reading.
func (r *reader) beside() {
	take := func(p string, s *statement) {
		if p == "" || strings.Contains(p, "@") {
			return
		}
		f, err := r.loader.read(p)
		if err != nil {
			r.problem(s.place, effectOf(err), "", "%s cannot be read: %v", p, err)
			return
		}
		for _, o := range r.order {
			if o == f {
				return
			}
		}
		f.list = true
		r.order = append(r.order, f)
	}
	for _, s := range r.sections {
		for _, o := range s.list {
			if !leads(o) {
				continue
			}
			for i := 1; i < len(o.words); i++ {
				w := o.arg(i)
				if w == "-f" && (o.arg(0) == "acl" || o.words[i].from > 0) && o.arg(0) != "bind" {
					take(o.arg(i+1), o)
				}
				for rest := w; ; {
					_, after, found := strings.Cut(rest, "map")
					if !found {
						break
					}
					rest = after
					name, behind, called := strings.Cut(after, "(")
					if !called || strings.Trim(name, "_abcdefghijklmnopqrstuvwxyz") != "" {
						continue
					}
					if _, is := mapMethod("map" + name); !is {
						continue
					}
					p, _, _ := strings.Cut(behind, ",")
					p, _, _ = strings.Cut(p, ")")
					take(strings.Trim(strings.TrimSpace(p), `"'`), o)
				}
			}
		}
	}
}
