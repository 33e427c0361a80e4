package httpd

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sync/errgroup"

	"insegna.example/internal/kind"
	"insegna.example/internal/kind/expression"
	"insegna.example/internal/kind/source"
)

// What is read at most of one configuration.
const (
	fileLimit     = 4 << 20   // bytes of one file
	totalLimit    = 256 << 20 // bytes of all files
	filesLimit    = 50_000
	directives    = 1_000_000 // in force, with includes and macros in place
	includesDeep  = 128       // files that include each other
	macrosDeep    = 32        // macros that use each other
	problemsLimit = 500
	longestValue  = 8192 // of an argument with its variables put in
)

// Directive is a directive or a section in force, with its variables put in.
type Directive struct {
	Place   kind.Place   // where it is written; for one of a macro where that is used
	Name    string       // in lower case
	Args    []string     // words
	Raw     string       // the rest of the line, its variables put in
	Section bool         // it has a block
	Block   []*Directive // of a section
	Macro   bool         // it comes out of a macro
	node    *node        // as it is written
}

// Arg gives an argument, "" when there are fewer.
func (d *Directive) Arg(i int) string {
	if i < len(d.Args) {
		return d.Args[i]
	}
	return ""
}

// loader reads a configuration in the order the server does: what is defined,
// loaded and included counts for what follows.
type loader struct {
	fs       fs.FS
	main     string
	root     string           // relative paths begin here
	files    map[string]*file // read, by path; nil for one that cannot be
	infos    map[string]fs.FileInfo
	links    map[string]bool     // included paths that are symbolic links
	order    []*file             // in which they were met
	started  []*file             // what sets the environment it is started with
	brought  map[*node][][]*file // what each include brought, each time it was met
	used     map[*file]int       // how often a file is included
	inForce  map[string]bool     // files that are included
	patterns []string            // includes with wildcards, to find what none matches
	defined  map[string]string   // by Define and -D
	env      map[string]string   // the environment it is started with
	modules  map[string]bool     // loaded, by identifier and by source file
	macros   map[string]*macro   // by name in lower case
	problems []kind.Problem
	total    int64                 // bytes read
	count    int                   // directives in force
	overrun  bool                  // told that there are too many
	lost     error                 // the source failed as a whole
	stored   []string              // the files of a reading, in the place of a source; nil for none
	accessed map[string]*kind.File // files in folders that are served, by path; nil for one that is not there
}

// accessFile says whether a file is there that holds directives for the folder it
// lies in.
func (l *loader) accessFile(p string) bool {
	if l.stored != nil {
		return slices.Contains(l.stored, p)
	}
	f, met := l.accessed[p]
	if met {
		return f != nil
	}
	if l.accessed == nil {
		l.accessed = map[string]*kind.File{}
	}
	const limit = 64 << 10
	data, info, err := source.ReadFile(l.fs, p, limit)
	switch {
	case kind.Lost(err):
		l.lost = err
	case err == nil:
		f = &kind.File{Path: p, Text: string(data), Modified: info.ModTime().UTC(), InForce: true}
	case err.Error() != source.Missing && err.Error() != source.Folder:
		f = &kind.File{Path: p, InForce: true} // it is there and cannot be read
	}
	l.accessed[p] = f
	return f != nil
}

// macro is a text that is used with arguments (mod_macro).
type macro struct {
	at     *node
	params []string
}

// inherent are modules that are part of the program in most builds.
var inherent = []string{"core.c", "mod_so.c", "so_module", "http_core.c", "mod_watchdog.c", "watchdog_module",
	"mod_log_config.c",
	"log_config_module", "mod_logio.c", "logio_module", "mod_version.c", "version_module", "mod_unixd.c", "unixd_module"}

// sysconfig is where Red Hat keeps what the server is started with.
const sysconfig = "/etc/sysconfig/httpd"

// argumentKeys are the variables that hold arguments of the server.
var argumentKeys = []string{"APACHE_ARGUMENTS", "OPTIONS"}

// storedFiles is the source of a reading that is read again: nothing but what it
// holds is there.
type storedFiles struct{}

// Open implements fs.FS.
func (storedFiles) Open(p string) (fs.File, error) {
	return nil, &fs.PathError{Op: "open", Path: p, Err: fs.ErrNotExist}
}

// problemAt words a problem.
func problemAt(at kind.Place, e kind.Effect, expected, format string, args ...any) kind.Problem {
	return kind.Problem{Place: at, Effect: e, Message: fmt.Sprintf(format, args...), Expected: expected}
}

// problem notes a problem; a configuration that is nothing but problems does not
// fill the memory with them.
func (l *loader) problem(at kind.Place, e kind.Effect, expected, format string, args ...any) {
	if len(l.problems) < problemsLimit {
		l.problems = append(l.problems, problemAt(at, e, expected, format, args...))
	}
}

// newLoader prepares reading; what the server is started with is read beside the
// main file, as Debian and Red Hat lay it.
func newLoader(fsys fs.FS, main string) *loader {
	l := &loader{fs: fsys, main: main, root: path.Dir(main), files: map[string]*file{}, infos: map[string]fs.FileInfo{},
		links: map[string]bool{}, inForce: map[string]bool{}, defined: map[string]string{}, env: map[string]string{},
		modules: map[string]bool{}, macros: map[string]*macro{}, brought: map[*node][][]*file{}, used: map[*file]int{}}
	if path.Base(l.root) == "conf" {
		l.root = path.Dir(l.root)
	}
	for _, m := range inherent {
		l.modules[m] = true
	}
	for _, p := range []string{path.Join(l.root, "envvars"), sysconfig} {
		if p == sysconfig && l.root != "/etc/httpd" {
			continue
		}
		text, info, err := source.ReadFile(fsys, p, fileLimit)
		switch {
		case err == nil:
			l.environment(string(text))
			l.infos[p] = info
			l.started = append(l.started, &file{path: p, text: string(text)})
		case kind.Lost(err):
			l.lost = err
		}
	}
	for _, key := range argumentKeys {
		l.arguments(l.env[key])
	}
	return l
}

// assignment is a line of a shell that sets a variable.
var assignment = regexp.MustCompile(`^\s*(?:export\s+)?([A-Za-z_][A-Za-z0-9_]*)=(.*)$`)

// environment takes in what a file of shell variables sets. What it sets only
// under a condition is taken as said last.
func (l *loader) environment(text string) {
	for line := range strings.SplitSeq(text, "\n") {
		m := assignment.FindStringSubmatch(line)
		if m == nil {
			continue
		}
		value := strings.TrimSpace(m[2])
		if !strings.HasPrefix(value, "'") {
			value = shellVariable.ReplaceAllStringFunc(value, func(s string) string {
				return l.env[strings.Trim(s, "${}")]
			})
		}
		if len(value) > 1 && (value[0] == '"' || value[0] == '\'') && value[len(value)-1] == value[0] {
			value = value[1 : len(value)-1]
		}
		if strings.HasPrefix(m[2], `"-`) || !strings.Contains(m[2], "${") || !strings.Contains(m[2], "##") {
			l.env[m[1]] = value
		}
	}
}

// shellVariable is a variable in a shell's text.
var shellVariable = regexp.MustCompile(`\$(\{[A-Za-z_][A-Za-z0-9_]*\}|[A-Za-z_][A-Za-z0-9_]*)`)

// arguments takes in -D and -d of a command line.
func (l *loader) arguments(line string) {
	words := strings.Fields(line)
	for i := 0; i < len(words); i++ {
		for _, flag := range []string{"-D", "-d"} {
			value, is := strings.CutPrefix(words[i], flag)
			if !is {
				continue
			}
			if value == "" && i+1 < len(words) {
				i++
				value = words[i]
			}
			if value = strings.Trim(value, `'"`); flag == "-D" && value != "" {
				name, v, _ := strings.Cut(value, "=")
				l.defined[name] = v
			} else if value != "" {
				l.root = value
			}
			break
		}
	}
}

// load reads the main file and all it brings into force.
func (l *loader) load() ([]*Directive, error) {
	var out []*Directive
	l.prefetch([]string{l.main}, kind.Place{File: l.main, Line: 1, Column: 1})
	if f := l.files[l.main]; f != nil {
		l.enter(f)
		l.run(f.nodes, &out, &frame{trail: []string{l.main}})
	}
	return out, l.lost
}

// frame is how deep the reading is.
type frame struct {
	trail []string    // files that include each other
	used  *kind.Place // where the outermost macro is used
	uses  []string    // macros that use each other
	n     *int        // directives that came out of that macro, to tell them apart
}

// enter notes that a file is in force.
func (l *loader) enter(f *file) {
	if !l.inForce[f.path] {
		l.inForce[f.path] = true
		l.order = append(l.order, f)
		l.problems = append(l.problems, f.problems[:min(len(f.problems), max(0, problemsLimit-len(l.problems)))]...)
	}
}

// prefetch reads files side by side, each once; at is told of those that cannot be
// read.
func (l *loader) prefetch(paths []string, at kind.Place) {
	type read struct {
		file *file
		info fs.FileInfo
		err  error
	}
	var fresh []string
	for _, p := range paths {
		if _, met := l.files[p]; !met && len(l.files)+len(fresh) < filesLimit {
			fresh = append(fresh, p)
		}
	}
	results := make([]read, len(fresh))
	var g errgroup.Group
	g.SetLimit(source.SideBySide)
	for i, p := range fresh {
		g.Go(func() error {
			text, info, err := source.ReadFile(l.fs, p, fileLimit)
			if results[i] = (read{info: info, err: err}); err == nil {
				results[i].file = parse(p, string(text))
			}
			return nil
		})
	}
	_ = g.Wait()
	for i, r := range results {
		p := fresh[i]
		switch {
		case r.err != nil && kind.Lost(r.err):
			l.lost = r.err
		case r.err != nil:
			l.files[p] = nil
			l.faults(p, at, r.err)
		case l.total+r.info.Size() > totalLimit:
			l.files[p] = nil
			l.problem(at, kind.Unread, fmt.Sprintf("at most %d MB in all", totalLimit>>20),
				"%s is not read: the configuration is too large", p)
		default:
			l.total += r.info.Size()
			l.files[p], l.infos[p] = r.file, r.info
		}
	}
}

// faults tells why a file cannot be read.
func (l *loader) faults(p string, at kind.Place, err error) {
	effect := kind.Unread
	if s := err.Error(); s == source.Missing || s == source.Folder {
		effect = kind.Refused
	}
	l.problem(at, effect, "a readable file", "%s: %s", p, err)
}

// run takes directives in, in their order.
func (l *loader) run(list []*node, into *[]*Directive, f *frame) {
	for _, n := range list {
		if l.lost != nil || l.overrun {
			return
		}
		if l.count++; l.count > directives {
			l.overrun = true
			l.problem(n.place(), kind.Unread, "", "includes and macros make more than %d directives; the rest is not read",
				directives)
			return
		}
		l.one(n, into, f)
	}
}

// one takes one directive in, or does what it says while reading.
func (l *loader) one(n *node, into *[]*Directive, f *frame) {
	name := strings.ToLower(n.name)
	if n.section {
		switch name {
		case "ifmodule", "ifdefine", "ifversion", "iffile":
			if l.holds(name, n) {
				l.run(n.block, into, f)
			}
			return
		case "ifdirective", "ifsection":
			if !strings.HasPrefix(n.args, "!") {
				l.run(n.block, into, f)
			}
			return
		case "macro":
			l.define(n)
			return
		}
		d := l.directive(n, f)
		*into = append(*into, d)
		l.run(n.block, &d.Block, f)
		return
	}
	switch name {
	case "include", "includeoptional":
		l.include(n, into, f, name == "includeoptional")
		return
	case "use":
		l.use(n, into, f)
		return
	case "undefmacro":
		delete(l.macros, strings.ToLower(l.resolved(n, 0)))
		return
	case "define":
		l.defined[l.resolved(n, 0)] = l.resolved(n, 1)
		return
	case "undefine":
		delete(l.defined, l.resolved(n, 0))
		return
	case "loadmodule":
		l.module(l.resolved(n, 0))
	case "serverroot":
		l.root = path.Clean(l.resolved(n, 0))
	}
	*into = append(*into, l.directive(n, f))
}

// directive is a node in force.
func (l *loader) directive(n *node, f *frame) *Directive {
	d := &Directive{Place: n.place(), Name: strings.ToLower(n.name), Section: n.section, Macro: f.used != nil, node: n}
	if f.used != nil {
		*f.n++
		d.Place = *f.used
		d.Place.Column = *f.n
	}
	d.Raw = l.expand(n.args, n.place())
	for _, w := range wordsOf(n.args, 0) {
		d.Args = append(d.Args, l.expand(w.text, n.place()))
	}
	return d
}

// resolved gives an argument with its variables put in.
func (l *loader) resolved(n *node, i int) string {
	if words := wordsOf(n.args, i+1); i < len(words) {
		return l.expand(words[i].text, n.place())
	}
	return ""
}

// expand puts in ${NAME}, from Define and else from the environment; what is not
// known stays as it is, and is told.
func (l *loader) expand(text string, at kind.Place) string {
	var b strings.Builder
	for depth := 0; ; depth++ {
		from := strings.Index(text, "${")
		if from < 0 || b.Len()+len(text) > longestValue {
			return b.String() + text
		}
		end := strings.IndexByte(text[from:], '}')
		if end < 0 {
			return b.String() + text
		}
		name := text[from+2 : from+end]
		b.WriteString(text[:from])
		value, known := l.defined[name]
		if !known {
			value, known = l.env[name]
		}
		switch {
		case !known && !strings.ContainsAny(name, ":{ $") && name != "":
			l.problem(at, kind.Suspect, "Define, or the environment the server is started with",
				"the variable ${%s} is not defined here", name)
			fallthrough
		case !known:
			b.WriteString(text[from : from+end+1])
			text = text[from+end+1:]
		case depth > deepest: // a variable that stands in itself
			return b.String() + text[from:]
		default:
			text = value + text[from+end+1:]
		}
	}
}

// module notes a module under its identifier and the name of its source file.
func (l *loader) module(id string) {
	l.modules[id] = true
	name := strings.TrimSuffix(id, "_module")
	switch file := strings.TrimPrefix(name, "mpm_"); {
	case file != name:
		l.modules[file+".c"] = true
	default:
		l.modules["mod_"+name+".c"] = true
	}
}

// hasModule asks for a module by one of its two names.
func (l *loader) hasModule(name string) bool { return l.modules[name] }

// holds works out a condition of reading.
func (l *loader) holds(name string, n *node) bool {
	arg := l.expand(n.args, n.place())
	words := wordsOf(arg, 0)
	if len(words) == 0 {
		l.problem(n.place(), kind.Refused, "a condition", "<%s> says no condition", n.name)
		return false
	}
	text, not := strings.CutPrefix(words[0].text, "!")
	var is bool
	switch name {
	case "ifmodule":
		is = l.hasModule(text)
	case "ifdefine":
		_, is = l.defined[text]
	case "iffile":
		_, err := fs.Stat(l.fs, source.InFS(l.full(text)))
		if kind.Lost(err) {
			l.lost = err
		}
		is = err == nil
	case "ifversion":
		return l.version(n, words)
	}
	return is != not
}

// assumedVersion is the version taken for the server's; it is not to be seen in
// its configuration.
var assumedVersion = [3]int{2, 4, 60}

// version compares the server's version as far as it is known: 2.4.
func (l *loader) version(n *node, words []word) bool {
	operator, want := "=", words[0].text
	if len(words) > 1 {
		operator, want = words[0].text, words[1].text
	}
	operator, not := strings.CutPrefix(operator, "!")
	if strings.HasPrefix(want, "/") || operator == "~" {
		re, err := expression.Compile(strings.Trim(want, "/"))
		ok := false
		if err == nil {
			ok, _ = re.MatchString("2.4.60")
		}
		return ok != not
	}
	var parts [3]int
	given := 0
	for i, p := range strings.SplitN(want, ".", 3) {
		parts[i], _ = strconv.Atoi(p)
		given++
	}
	c := 0
	for i := 0; i < 3 && c == 0; i++ {
		c = cmp.Compare(assumedVersion[i], parts[i])
	}
	if given == 3 && parts[0] == 2 && parts[1] == 4 {
		l.problem(n.place(), kind.Unread, "a condition on the version up to its second number",
			"the server's exact version is not known here; 2.4.60 is taken for it")
	}
	if given < 3 && operator == "=" && parts[0] == 2 && parts[1] == 4 {
		c = 0
	}
	var is bool
	switch operator {
	case "=", "==":
		is = c == 0
	case ">":
		is = c > 0
	case ">=":
		is = c >= 0
	case "<":
		is = c < 0
	case "<=":
		is = c <= 0
	}
	return is != not
}

// full makes a path absolute; relative ones begin in ServerRoot.
func (l *loader) full(p string) string {
	abs, _ := source.Absolute(l.root, p)
	return abs
}

// include reads files in the place of a directive: one, a folder with all below
// it, or what matches a pattern, in byte order.
func (l *loader) include(n *node, into *[]*Directive, f *frame, optional bool) {
	arg := l.resolved(n, 0)
	if arg == "" {
		l.problem(n.place(), kind.Refused, "a path", "%s names no file", n.name)
		return
	}
	p, outside := source.Absolute(l.root, arg)
	if outside {
		l.problem(n.place(), kind.Unread, "a path below the root", "the path %q climbs out of the file system", arg)
		return
	}
	var paths []string
	if l.stored != nil {
		for _, q := range l.again(p) {
			l.included(q, n, into, f)
		}
		return
	}
	if strings.ContainsAny(p, "*?[") {
		l.patterns = append(l.patterns, p)
		found, err := source.Glob(l.fs, p, func(dir string) {
			l.problem(n.place(), kind.Unread, "the right to list it",
				"cannot list the folder %s, so what is included from there is not known", dir)
		}, func(link string) { l.links[link] = true })
		if err != nil {
			l.lost = err
			return
		}
		slices.Sort(found)
		if len(found) == 0 && !optional {
			l.problem(n.place(), kind.Refused, "IncludeOptional, or a file that matches", "nothing matches %s", p)
		}
		for _, q := range found {
			paths = l.below(q, paths, n, 0)
		}
	} else {
		info, err := fs.Stat(l.fs, source.InFS(p))
		switch {
		case kind.Lost(err):
			l.lost = err
			return
		case errors.Is(err, fs.ErrNotExist) && optional:
			return
		case err == nil && info.IsDir():
			paths = l.below(p, nil, n, 0)
		default:
			paths = []string{p}
		}
	}
	l.prefetch(paths, n.place())
	turn := len(l.brought[n])
	l.brought[n] = append(l.brought[n], nil)
	for _, q := range paths {
		if file := l.included(q, n, into, f); file != nil {
			l.brought[n][turn] = append(l.brought[n][turn], file)
		}
	}
}

// again gives those files of a reading that an include names.
func (l *loader) again(p string) []string {
	var out []string
	for _, q := range l.stored {
		for up := q; up != "/" && up != "."; up = path.Dir(up) {
			if up == p || source.MatchesPath(p, up) {
				out = append(out, q)
				break
			}
		}
	}
	return out
}

// below lists a folder's files and those of the folders in it.
func (l *loader) below(p string, paths []string, n *node, depth int) []string {
	info, err := fs.Stat(l.fs, source.InFS(p))
	if kind.Lost(err) {
		l.lost = err
	}
	if err != nil || !info.IsDir() || depth > deepest {
		return append(paths, p)
	}
	entries, err := fs.ReadDir(l.fs, source.InFS(p))
	if err != nil {
		if kind.Lost(err) {
			l.lost = err
		} else {
			l.problem(n.place(), kind.Unread, "the right to list it",
				"cannot list the folder %s, so what is included from there is not known", p)
		}
		return paths
	}
	for _, e := range entries {
		if e.Type()&fs.ModeSymlink != 0 {
			l.links[path.Join(p, e.Name())] = true
		}
		if len(paths) < filesLimit {
			paths = l.below(path.Join(p, e.Name()), paths, n, depth+1)
		}
	}
	return paths
}

// included takes one included file in, and gives it; nil when it cannot be.
func (l *loader) included(p string, n *node, into *[]*Directive, f *frame) *file {
	file, met := l.files[p]
	if !met {
		l.problem(n.place(), kind.Unread, fmt.Sprintf("at most %d files", filesLimit),
			"too many files are included; %s is not read", p)
		return nil
	}
	if file == nil {
		return nil // told
	}
	if slices.Contains(f.trail, p) || len(f.trail) >= includesDeep {
		at := max(0, slices.Index(f.trail, p))
		l.problem(n.place(), kind.Refused, "files that do not include each other", "include loop: %s",
			strings.Join(append(slices.Clone(f.trail[at:min(len(f.trail), at+5)]), p), " → "))
		return nil
	}
	l.enter(file)
	inner := *f
	inner.trail = append(slices.Clone(f.trail), p)
	l.used[file]++
	l.run(file.nodes, into, &inner)
	return file
}

// define keeps a macro.
func (l *loader) define(n *node) {
	words := wordsOf(n.args, 0)
	if len(words) == 0 {
		l.problem(n.place(), kind.Refused, "a name", "<Macro> has no name")
		return
	}
	m := &macro{at: n}
	for _, w := range words[1:] {
		m.params = append(m.params, w.text)
	}
	l.macros[strings.ToLower(words[0].text)] = m
}

// use puts a macro in, its parameters exchanged in every line of it.
func (l *loader) use(n *node, into *[]*Directive, f *frame) {
	words := wordsOf(n.args, 0)
	if len(words) == 0 {
		l.problem(n.place(), kind.Refused, "a macro's name", "Use names no macro")
		return
	}
	name := strings.ToLower(l.expand(words[0].text, n.place()))
	m := l.macros[name]
	switch {
	case m == nil:
		l.problem(n.place(), kind.Refused, "<Macro "+words[0].text+"> before it", "the macro %s is not defined",
			words[0].text)
		return
	case slices.Contains(f.uses, name) || len(f.uses) >= macrosDeep:
		l.problem(n.place(), kind.Refused, "macros that do not use themselves", "the macro %s uses itself", words[0].text)
		return
	case len(words)-1 != len(m.params):
		l.problem(n.place(), kind.Refused, fmt.Sprintf("%d of them", len(m.params)), "the macro %s is used with %d arguments",
			words[0].text, len(words)-1)
		return
	}
	var pairs []string
	order := make([]int, len(m.params))
	for i := range order {
		order[i] = i
	}
	// the longest name first
	slices.SortStableFunc(order, func(a, b int) int { return len(m.params[b]) - len(m.params[a]) })
	for _, i := range order {
		pairs = append(pairs, m.params[i], words[i+1].text)
	}
	inner := *f
	if inner.used == nil {
		at := n.place()
		inner.used, inner.n = &at, new(int)
	}
	inner.uses = append(slices.Clone(f.uses), name)
	l.run(exchanged(m.at.block, strings.NewReplacer(pairs...)), into, &inner)
}

// exchanged is a macro's body with arguments in the place of parameters.
func exchanged(list []*node, r *strings.Replacer) []*node {
	out := make([]*node, len(list))
	for i, n := range list {
		c := *n
		c.name, c.args, c.block = r.Replace(n.name), r.Replace(n.args), exchanged(n.block, r)
		out[i] = &c
	}
	return out
}
