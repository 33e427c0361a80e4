package nginx

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"insegna.example/internal/kind"
	"insegna.example/internal/kind/source"
)

// What is read at most of one configuration.
const (
	fileLimit  = 4 << 20   // bytes of one file
	totalLimit = 256 << 20 // bytes of all files
	filesLimit = 50_000
	stepsLimit = 500_000 // directives met in one block, those of a file included twice counted twice
	stepsInAll = 20_000_000

	listenersLimit = 20_000
	problemsLimit  = 500
)

// tree is a configuration with what it includes.
type tree struct {
	fs       fs.FS                  // of the server
	folder   string                 // of the main file; relative paths begin here
	files    map[string]*File       // read, by path; each once however often it is included
	order    []*File                // in which they were met
	infos    map[string]fs.FileInfo // of the files
	includes map[*Directive][]*File // what each include directive brought
	links    map[string]bool        // included paths that are symbolic links
	patterns []pattern              // includes with wildcards, to find files that none matches
	problems []kind.Problem         // so far
	total    int64                  // bytes read, of totalLimit
	steps    int                    // directives visited, with includes in place
	overrun  bool                   // told that there are too many
}

// pattern is an include with wildcards, to find what it leaves out.
type pattern struct{ folder, base string }

// load reads the main file and everything it includes. The error says that the
// source failed as a whole or that there is no main file.
func load(fsys fs.FS, main string) (*tree, error) {
	t := &tree{fs: fsys, folder: path.Dir(main), files: map[string]*File{}, infos: map[string]fs.FileInfo{},
		includes: map[*Directive][]*File{}, links: map[string]bool{}}
	if err := t.read([]string{main}, map[string]kind.Place{}); err != nil {
		return nil, err
	}
	if t.files[main] == nil {
		return t, nil // told in problems
	}
	for wave := []*File{t.files[main]}; len(wave) > 0; {
		next, err := t.follow(wave)
		if err != nil {
			return nil, err
		}
		wave = next
	}
	t.loops(t.files[main], nil, map[*File]bool{})
	return t, nil
}

// problem notes a problem; a configuration that is nothing but problems does
// not fill the memory with them.
func (t *tree) problem(at kind.Place, g kind.Effect, expected, format string, args ...any) {
	if len(t.problems) >= problemsLimit {
		return
	}
	t.problems = append(t.problems,
		kind.Problem{Place: at, Effect: g, Message: fmt.Sprintf(format, args...), Expected: expected})
}

// follow finds what the files of one wave include and reads what is new.
func (t *tree) follow(wave []*File) ([]*File, error) {
	var fresh []string
	from := map[string]kind.Place{}
	targets := map[*Directive][]string{}
	var order []*Directive
	var visit func(list []*Directive) error
	visit = func(list []*Directive) error {
		for _, d := range list {
			if d.Name() == "include" && len(d.Words) == 2 && d.Stop.Raw == ";" {
				paths, err := t.resolve(d)
				if err != nil {
					return err
				}
				targets[d] = paths
				order = append(order, d)
				for _, p := range paths {
					if _, met := from[p]; !met && t.files[p] == nil {
						from[p] = d.WordPlace(1)
						fresh = append(fresh, p)
					}
				}
			}
			if err := visit(d.Block); err != nil {
				return err
			}
		}
		return nil
	}
	for _, f := range wave {
		if err := visit(f.Nodes); err != nil {
			return nil, err
		}
	}
	if err := t.read(fresh, from); err != nil {
		return nil, err
	}
	for _, d := range order {
		for _, p := range targets[d] {
			if f := t.files[p]; f != nil {
				t.includes[d] = append(t.includes[d], f)
			}
		}
	}
	var next []*File
	for _, p := range fresh {
		if f := t.files[p]; f != nil {
			next = append(next, f)
		}
	}
	return next, nil
}

// full makes a path of the configuration absolute; relative ones begin in the
// main file's folder. outside tells that it climbs above the root.
func (t *tree) full(p string) (abs string, outside bool) { return source.Absolute(t.folder, p) }

// resolve gives the files an include names, in nginx's order: byte order of
// the whole path.
func (t *tree) resolve(d *Directive) ([]string, error) {
	at := d.WordPlace(1)
	p, outside := t.full(d.Arg(0))
	if outside {
		t.problem(at, kind.Unread, "a path below the root", "the path %s climbs out of the file system", shown(d.Arg(0)))
		return nil, nil
	}
	if !strings.ContainsAny(p, "*?[") {
		return []string{p}, nil
	}
	t.patterns = append(t.patterns, pattern{path.Dir(p), path.Base(p)})
	list, err := t.glob(p, at)
	slices.Sort(list)
	return list, err
}

// glob lists what matches a pattern. What cannot be listed is told at a place, if
// one is given.
func (t *tree) glob(p string, at kind.Place) ([]string, error) {
	return source.Glob(t.fs, p, func(dir string) {
		if at.Known() {
			t.problem(at, kind.Unread, "the right to list it",
				"cannot list the folder %s, so what is included from there is not known", dir)
		}
	}, func(link string) { t.links[link] = true })
}

// fileRead is one file of an include, read side by side with the others.
type fileRead struct {
	file  *File       // nil with a fault
	info  fs.FileInfo // its mode and time
	fault string      // why it could not be read
	lost  error       // the source failed as a whole
	size  int64       // in bytes
}

// read takes in files side by side, in the order of paths; from tells which
// include names each.
func (t *tree) read(paths []string, from map[string]kind.Place) error {
	results := make([]fileRead, len(paths))
	var g errgroup.Group
	g.SetLimit(source.SideBySide)
	for i, p := range paths {
		if len(t.files)+i >= filesLimit {
			t.problem(from[p], kind.Unread, fmt.Sprintf("at most %d files", filesLimit),
				"too many files are included; this one and those behind it are not read")
			results = results[:i]
			break
		}
		g.Go(func() error {
			results[i] = t.one(p)
			return results[i].lost
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	for i, r := range results {
		at, named := from[paths[i]]
		if !named {
			at = kind.Place{File: paths[i], Line: 1, Column: 1}
		}
		t.total += r.size
		switch {
		case r.fault != "":
			effect := kind.Unread
			if r.fault == source.Missing || r.fault == source.Folder {
				effect = kind.Refused
			}
			t.problem(at, effect, "a readable file", "%s: %s", paths[i], r.fault)
			continue
		case t.total > totalLimit:
			t.problem(at, kind.Unread, fmt.Sprintf("at most %d MB in all", totalLimit>>20),
				"%s is not read: the configuration is too large", paths[i])
			continue
		}
		t.files[paths[i]], t.infos[paths[i]] = r.file, r.info
		t.order = append(t.order, r.file)
		t.problems = append(t.problems, r.file.Problems...)
	}
	return nil
}

// one reads and parses one file. A source that failed as a whole is told apart
// from a file that cannot be read.
func (t *tree) one(p string) (r fileRead) {
	text, info, err := source.ReadFile(t.fs, p, fileLimit)
	if err != nil {
		if kind.Lost(err) {
			r.lost = err
		}
		r.fault = err.Error()
		return r
	}
	r.size = int64(len(text))
	r.info = info
	r.file = Parse(p, string(text))
	return r
}

// loops tells include loops, once each.
func (t *tree) loops(f *File, trail []*File, done map[*File]bool) {
	if done[f] {
		return
	}
	trail = append(trail, f)
	var visit func([]*Directive)
	visit = func(list []*Directive) {
		for _, d := range list {
			for _, to := range t.includes[d] {
				if at := slices.Index(trail, to); at >= 0 {
					var names []string
					for _, step := range append(slices.Clone(trail[at:]), to) {
						names = append(names, step.Path)
					}
					t.problem(d.WordPlace(1), kind.Refused, "files that do not include each other", "include loop: %s",
						strings.Join(names, " → "))
					t.includes[d] = slices.DeleteFunc(slices.Clone(t.includes[d]), func(x *File) bool { return x == to })
					continue
				}
				t.loops(to, trail, done)
			}
			visit(d.Block)
		}
	}
	visit(f.Nodes)
	done[f] = true
}

// each visits directives in the order they take effect, those of included
// files in the place of the include.
func (t *tree) each(list []*Directive, visit func(*Directive)) {
	t.walk(list, visit, new(int))
}

// walk visits the directives of a block with its includes in place. The number
// of steps is bounded, for includes can include each other in ways that grow
// without end.
func (t *tree) walk(list []*Directive, visit func(*Directive), steps *int) {
	for _, d := range list {
		*steps++
		if t.steps++; *steps > stepsLimit || t.steps > stepsInAll {
			if !t.overrun {
				t.problem(d.Place(), kind.Unread, "",
					"includes make more than %d directives of one block; what follows in it is not read", stepsLimit)
			}
			t.overrun = true
			return
		}
		if files, include := t.includes[d]; include {
			for _, f := range files {
				t.walk(f.Nodes, visit, steps)
			}
			continue
		}
		visit(d)
	}
}

// modified is when a file was last changed; zero when not known.
func (t *tree) modified(p string) time.Time {
	if info := t.infos[p]; info != nil {
		return info.ModTime().UTC()
	}
	return time.Time{}
}
