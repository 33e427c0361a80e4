package haproxy

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"insegna.example/internal/kind"
	"insegna.example/internal/kind/source"
)

// What is read at most of one configuration.
const (
	fileLimit     = 64 << 20  // bytes of one file; lists and maps are generated
	totalLimit    = 256 << 20 // bytes of all files
	linesLimit    = 2_000_000 // in force
	conditions    = 20        // .if blocks inside each other (MAX_CFG_RECURSION bounds it)
	problemsLimit = 500
	assumed       = "2.6" // the version that is taken for granted
)

// statement is one line in force, with its variables put in.
type statement struct {
	place kind.Place // of its first word
	words []word
	texts []string // of the words, once they stay as they are
	file  *file
}

// arg gives a word, "" when there are fewer.
func (s *statement) arg(i int) string {
	if i < len(s.words) {
		return s.words[i].text
	}
	return ""
}

// args are the texts of the words from one on.
func (s *statement) args(from int) []string {
	if s.texts != nil {
		return s.texts[min(from, len(s.texts)):len(s.texts):len(s.texts)]
	}
	var out []string
	for i := from; i < len(s.words); i++ {
		out = append(out, s.words[i].text)
	}
	return out
}

// at is the place of a word.
func (s *statement) at(i int) kind.Place {
	p := s.place
	p.Column = s.words[min(i, len(s.words)-1)].from + 1
	return p
}

// section is a part of the configuration that begins with a word of its own.
type section struct {
	kind     string // such as frontend
	name     string
	head     *statement
	list     []*statement
	defaults *section           // whose settings it takes over; nil for none
	ruled    map[string][]ruled // its lines by keyword, once they stay as they are
}

// file is one file as it was read.
type file struct {
	path string
	text string
	link string
	info fs.FileInfo // nil in a stored reading
	list bool        // of certificates, or a map: no part of the text
}

// loader reads a configuration in the order the server does: variables that are
// set count for what follows.
type loader struct {
	fs       fs.FS
	stored   map[string]string // files of a reading, in the place of a source; nil for none
	main     string
	files    map[string]*file
	order    []*file // in which they were met
	started  []*file // what says how it is started
	env      map[string]string
	whole    bool   // env is all there is
	begins   string // folder it is started in; "" when that is not known
	named    []string
	sections []*section
	problems []kind.Problem
	total    int64
	count    int // lines in force
	lost     error
}

// problem notes a problem; a configuration that is nothing but problems does not
// fill the memory with them.
func (l *loader) problem(at kind.Place, e kind.Effect, expected, format string, args ...any) {
	if len(l.problems) < problemsLimit {
		l.problems = append(l.problems, kind.Problem{Place: at, Effect: e, Message: fmt.Sprintf(format, args...),
			Expected: expected})
	}
}

// newLoader prepares reading.
func newLoader(fsys fs.FS, main string) *loader {
	return &loader{fs: fsys, main: main, files: map[string]*file{}, env: map[string]string{}}
}

// read reads a file once; the error is worded for who knows the path.
func (l *loader) read(p string) (*file, error) {
	if f, had := l.files[p]; had {
		if f == nil {
			return nil, errors.New("it cannot be read")
		}
		return f, nil
	}
	if l.stored != nil {
		text, had := l.stored[p]
		if !had {
			return nil, fs.ErrNotExist
		}
		l.files[p] = &file{path: p, text: text}
		return l.files[p], nil
	}
	data, info, err := source.ReadFile(l.fs, p, fileLimit)
	if kind.Lost(err) {
		l.lost = err
	}
	if err == nil && l.total+int64(len(data)) > totalLimit {
		err = fmt.Errorf("more than %d MB are not read of one configuration", totalLimit>>20)
	}
	if err != nil {
		l.files[p] = nil
		return nil, err
	}
	l.total += int64(len(data))
	f := &file{path: p, text: string(data), info: info}
	if to := source.LinkTarget(l.fs, p); to != p {
		f.link = to
	}
	l.files[p] = f
	return f, nil
}

// folder lists the files of a folder by name; false when it is none.
func (l *loader) folder(p string) ([]string, bool, error) {
	var out []string
	if l.stored != nil {
		for f := range l.stored {
			if path.Dir(f) == p {
				out = append(out, path.Base(f))
			}
		}
		slices.Sort(out)
		return out, len(out) > 0, nil
	}
	info, err := fs.Stat(l.fs, source.InFS(p))
	if err != nil || !info.IsDir() {
		if kind.Lost(err) {
			l.lost = err
		}
		return nil, false, nil //nolint:nilerr // it is no folder: reading it tells why
	}
	entries, err := fs.ReadDir(l.fs, source.InFS(p))
	if err != nil {
		if kind.Lost(err) {
			l.lost = err
		}
		return nil, true, source.Worded(err)
	}
	for _, e := range entries {
		out = append(out, e.Name())
	}
	return out, true, nil
}

// load reads the files in their order into sections.
func (l *loader) load() error {
	l.start()
	for _, p := range l.configured() {
		f, err := l.read(p)
		if err != nil {
			l.problem(kind.Place{File: p, Line: 1, Column: 1}, effectOf(err), "", "the file cannot be read: %v", err)
			continue
		}
		l.order = append(l.order, f)
		l.lines(f)
	}
	l.inherit()
	return l.lost
}

// effectOf says what it means that a file cannot be read: one that is not
// permitted from here may well be for the server.
func effectOf(err error) kind.Effect {
	if errors.Is(err, fs.ErrPermission) {
		return kind.Unread
	}
	return kind.Refused
}

// configured are the files the server is told to read, in their order: of a folder
// those that end with .cfg, by name.
func (l *loader) configured() (out []string) {
	for _, p := range l.named {
		list, is, err := l.folder(p)
		switch {
		case err != nil:
			l.problem(kind.Place{File: p, Line: 1, Column: 1}, effectOf(err), "", "the folder cannot be listed: %v", err)
		case !is:
			out = append(out, p)
		}
		for _, name := range list {
			if is && strings.HasSuffix(name, ".cfg") && !strings.HasPrefix(name, ".") {
				out = append(out, path.Join(p, name))
			}
		}
	}
	return out
}

// sectionWords are the words a section begins with.
var sectionWords = map[string]bool{"global": true, "defaults": true, "frontend": true, "backend": true, "listen": true,
	"peers": true, "resolvers": true, "mailers": true, "userlist": true, "program": true, "http-errors": true,
	"cache": true,
	"ring":  true, "log-forward": true, "fcgi-app": true, "crt-store": true, "traces": true, "log-profile": true,
	"acme": true}

// named says whether sections of a kind have a name.
func needsName(of string) bool {
	return of != "global" && of != "defaults" && of != "traces" && of != "crt-store"
}

// lines reads the lines of one file.
func (l *loader) lines(f *file) {
	blocks := &blocks{loader: l}
	var open *section // sections do not go on in the next file
	n, ends := 0, strings.Count(f.text, "\n")
	for line := range strings.SplitSeq(f.text, "\n") {
		n++
		at := kind.Place{File: f.path, Line: n, Column: 1}
		if n > ends { // behind the last end of a line
			if line != "" {
				l.problem(at, kind.Refused, "an end of the line", "the last line has no end, the file may have been cut off")
			}
			break
		}
		line = strings.TrimSuffix(line, "\r")
		if l.count++; l.count > linesLimit {
			l.problem(at, kind.Unread, "", "more than %d lines are not read", linesLimit)
			return
		}
		if i := strings.IndexByte(line, 0); i >= 0 {
			at.Column = i + 1
			l.problem(at, kind.Refused, "text", "there is a NUL character in the line")
			continue
		}
		words, err := cut(line, func(name string) (string, bool) { return l.variable(name, f, n, open) })
		if err != nil {
			at.Column = err.at + 1
			l.problem(at, kind.Refused, "", "%s", err.message)
			continue
		}
		if len(words) == 0 {
			continue
		}
		s := &statement{place: kind.Place{File: f.path, Line: n, Column: words[0].from + 1}, words: words, file: f}
		if strings.HasPrefix(s.arg(0), ".") {
			blocks.directive(s)
			continue
		}
		if blocks.skips() {
			continue
		}
		for i := range words {
			if words[i].unknown != "" && s.arg(0) != "log" {
				l.problem(s.at(i), kind.Unread, "setenv or presetenv in the global section, or Environment of its unit",
					"the environment variable %s is not known here, and is taken as empty", words[i].unknown)
			}
		}
		open = l.statement(s, open)
	}
	blocks.end(f)
}

// statement takes a line in, and gives the section that is open behind it.
func (l *loader) statement(s *statement, open *section) *section {
	of := s.arg(0)
	switch {
	case of == "no" || of == "default":
		return l.into(s, open)
	case !sectionWords[of]:
		return l.into(s, open)
	case of == "crt-store" && open == nil && len(s.words) == 1, !needsName(of):
	case s.arg(1) == "":
		l.problem(s.place, kind.Refused, "a name", "the section %s has no name", of)
	case strings.Trim(s.arg(1), nameSigns) != "":
		l.problem(s.at(1), kind.Refused, "letters, digits, - _ . :", "the name %s of the section %s has another character",
			s.arg(1), of)
	}
	next := &section{kind: of, name: s.arg(1), head: s}
	if of == "defaults" && s.arg(1) == "from" {
		next.name = ""
	}
	l.sections = append(l.sections, next)
	return next
}

// nameSigns may stand in names of sections.
const nameSigns = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_.:"

// into puts a line into the section that is open.
func (l *loader) into(s *statement, open *section) *section {
	if open == nil {
		l.problem(s.place, kind.Refused, "a section such as global, defaults, frontend or backend",
			"unknown keyword %s out of section", s.arg(0))
		return nil
	}
	open.list = append(open.list, s)
	if open.kind == "global" {
		l.global(s)
	}
	return open
}

// global follows what counts for the lines behind it.
func (l *loader) global(s *statement) {
	switch s.arg(0) {
	case "setenv":
		l.env[s.arg(1)] = s.arg(2)
	case "presetenv":
		if _, had := l.env[s.arg(1)]; !had {
			l.env[s.arg(1)] = s.arg(2)
			if !l.whole {
				l.problem(s.place, kind.Suspect, "setenv, which always counts",
					"%s is taken as %s, unless the environment the server was started with has it", s.arg(1), s.arg(2))
			}
		}
	case "unsetenv":
		for _, name := range s.args(1) {
			delete(l.env, name)
		}
	case "resetenv":
		keep := s.args(1)
		maps.DeleteFunc(l.env, func(name, _ string) bool { return !slices.Contains(keep, name) })
		l.whole = l.whole || len(keep) == 0
	}
}

// variable gives the value of a variable.
func (l *loader) variable(name string, f *file, line int, open *section) (string, bool) {
	switch name {
	case ".FILE":
		return f.path, true
	case ".LINE":
		return strconv.Itoa(line), true
	case ".SECTION":
		if open == nil {
			return "", true
		}
		return open.kind, true
	}
	value, had := l.env[name]
	return value, had || l.whole
}

// inherit finds the defaults of each section: those it names, or the last before
// it.
func (l *loader) inherit() {
	named := map[string]*section{}
	defer l.backends()
	var last *section
	met := map[string]*section{}
	for _, s := range l.sections {
		from := s.from()
		switch {
		case s.kind != "defaults" && s.kind != "frontend" && s.kind != "backend" && s.kind != "listen":
			continue
		case from != "":
			if s.defaults = named[from]; s.defaults == nil {
				l.problem(s.head.place, kind.Refused, "the name of a defaults section above",
					"defaults section %s not found for %s %s",
					from, s.kind, s.name)
			}
		case s.kind != "defaults":
			s.defaults = last
		}
		if s.kind == "defaults" {
			last = s
			if s.name != "" {
				named[s.name] = s
			}
			continue
		}
		sides := []string{s.kind}
		if s.kind == "listen" {
			sides = []string{"frontend", "backend"}
		}
		for _, side := range sides {
			key := side + " " + s.name
			if had := met[key]; had != nil && s.name != "" {
				l.problem(s.head.place, kind.Refused, "a name of its own", "%s %s has the same name as that of %s", s.kind, s.name,
					had.head.place)
				break
			}
			met[key] = s
		}
	}
}

// backends tells backends that are named and are not there.
func (l *loader) backends() {
	there := map[string]bool{}
	for _, s := range l.sections {
		there[s.name] = there[s.name] || s.kind == "backend" || s.kind == "listen"
	}
	for _, s := range l.sections {
		if s.kind != "frontend" && s.kind != "listen" {
			continue
		}
		for _, o := range s.list {
			if (o.arg(0) == "default_backend" || o.arg(0) == "use_backend" && !strings.Contains(o.arg(1), "%")) &&
				!there[o.arg(1)] {
				l.problem(o.at(1), kind.Refused, "a backend or listen section of that name", "there is no backend %s", o.arg(1))
			}
		}
	}
}

// from is the name of the defaults a section's first line names.
func (s *section) from() string {
	for i := 1; i+1 < len(s.head.words); i++ {
		if s.head.arg(i) == "from" && (i == 2 || s.kind == "defaults") {
			return s.head.arg(i + 1)
		}
	}
	return ""
}

// setting finds the last line of a section with a keyword, or that of its defaults.
func (s *section) setting(keyword string) *statement {
	for at := s; at != nil; at = at.defaults {
		for i := len(at.list) - 1; i >= 0; i-- {
			if at.list[i].arg(0) == keyword {
				return at.list[i]
			}
		}
	}
	return nil
}

// mode is what a section speaks.
func (s *section) mode() kind.Protocol {
	if m := s.setting("mode"); m != nil && m.arg(1) == "http" {
		return kind.HTTP
	}
	return kind.TCP
}
