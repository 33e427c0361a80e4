package haproxy

import (
	"path"
	"slices"
	"strings"

	"insegna.example/internal/kind/source"
)

// unit is the service that starts the server (systemd.unit(5)).
const unit = "haproxy.service"

// unitFolders are where units and additions to them lie, the first before the
// others (systemd.unit(5)).
var unitFolders = []string{"/etc/systemd/system", "/run/systemd/system", "/usr/lib/systemd/system",
	"/lib/systemd/system"}

// start finds how the server is started: with which files, in which environment
// and folder. Where its unit starts it with other files than the main one, nothing
// is known but that.
func (l *loader) start() {
	l.named = []string{l.main}
	u := l.unit()
	if u == nil {
		return
	}
	named := filesOf(u.command())
	if !slices.Contains(named, l.main) {
		return
	}
	l.named, l.env, l.whole, l.begins, l.started = named, u.env, true, u.folder, u.files
	l.env["HAPROXY_MWORKER"] = "1"
	if host, ok := source.Hostname(l.fs); ok {
		l.env["HAPROXY_LOCALPEER"] = host
	}
}

// service is what a unit says.
type service struct {
	env    map[string]string
	starts string // its ExecStart
	folder string // it is started in
	files  []*file
}

// unit reads the unit with its additions; nil when there is none.
func (l *loader) unit() *service {
	s := &service{env: map[string]string{}, folder: "/"}
	for _, dir := range unitFolders {
		if f, err := l.read(path.Join(dir, unit)); err == nil {
			l.apply(s, f)
			break
		}
	}
	if len(s.files) == 0 {
		return nil
	}
	added := map[string]string{} // by name: the first folder counts
	for _, dir := range unitFolders {
		list, _, _ := l.folder(path.Join(dir, unit+".d")) // one that cannot be listed adds nothing that is known
		for _, name := range list {
			if _, had := added[name]; !had && strings.HasSuffix(name, ".conf") {
				added[name] = path.Join(dir, unit+".d", name)
			}
		}
	}
	for _, name := range sortedKeys(added) {
		if f, err := l.read(added[name]); err == nil {
			l.apply(s, f)
		}
	}
	return s
}

// sortedKeys gives the keys of a map in their order.
func sortedKeys(m map[string]string) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// apply takes in what a file of a unit says.
func (l *loader) apply(s *service, f *file) {
	s.files = append(s.files, f)
	for line := range strings.SplitSeq(strings.ReplaceAll(f.text, "\\\n", " "), "\n") {
		key, value, found := strings.Cut(strings.TrimSpace(line), "=")
		if !found || strings.HasPrefix(key, "#") {
			continue
		}
		switch value = strings.TrimSpace(value); strings.TrimSpace(key) {
		case "Environment":
			for _, w := range shellWords(value) {
				if name, text, ok := strings.Cut(w, "="); ok {
					s.env[name] = text
				}
			}
		case "EnvironmentFile":
			if e, err := l.read(strings.TrimPrefix(value, "-")); err == nil {
				s.files = append(s.files, e)
				s.assignments(e.text)
			}
		case "ExecStart":
			s.starts = value
		case "WorkingDirectory":
			s.folder = strings.TrimPrefix(value, "-")
		}
	}
}

// assignments reads NAME=value lines (systemd.exec(5), EnvironmentFile).
func (s *service) assignments(text string) {
	for line := range strings.SplitSeq(text, "\n") {
		line = strings.TrimSpace(line)
		if name, value, ok := strings.Cut(line, "="); ok && !strings.HasPrefix(line, "#") && !strings.HasPrefix(line, ";") {
			s.env[strings.TrimSpace(name)] = strings.Join(shellWords(value), " ")
		}
	}
}

// command is what starts the server, its variables put in: $NAME that stands alone
// becomes as many words as it has (systemd.service(5)).
func (s *service) command() (out []string) {
	for _, w := range shellWords(s.starts) {
		if name, alone := strings.CutPrefix(w, "$"); alone && !strings.HasPrefix(name, "{") &&
			!strings.ContainsAny(name, "/.") {
			out = append(out, strings.Fields(s.env[name])...)
			continue
		}
		for name, value := range s.env {
			w = strings.ReplaceAll(w, "${"+name+"}", value)
		}
		out = append(out, w)
	}
	return out
}

// filesOf are the files a command names by -f and behind --.
func filesOf(words []string) (out []string) {
	for i := 1; i < len(words); i++ {
		switch w := words[i]; {
		case w == "--":
			return append(out, words[i+1:]...)
		case w == "-f" && i+1 < len(words):
			i++
			out = append(out, path.Clean(words[i]))
		case strings.HasPrefix(w, "-f") && len(w) > 2:
			out = append(out, path.Clean(w[2:]))
		}
	}
	return out
}

// shellWords cuts a text into words, of which quotes hold some together.
func shellWords(text string) (out []string) {
	var b strings.Builder
	in, quote := false, rune(0)
	for _, r := range text {
		switch {
		case quote != 0 && r == quote:
			quote = 0
		case quote == 0 && (r == '"' || r == '\''):
			in, quote = true, r
		case quote == 0 && (r == ' ' || r == '\t'):
			if in {
				out = append(out, b.String())
				b.Reset()
			}
			in = false
		default:
			in = true
			b.WriteRune(r)
		}
	}
	if in {
		out = append(out, b.String())
	}
	return out
}
