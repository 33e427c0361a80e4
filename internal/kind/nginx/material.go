package nginx

import (
	"fmt"
	"io/fs"
	"path"
	"strings"

	"insegna.example/internal/install"
	"insegna.example/internal/kind"
	"insegna.example/internal/kind/source"
)

// idleLimit is how many files not in force are read.
const idleLimit = 2000

// material reads the certificate and key files the sites name, and those that
// lie beside them.
func (r *reader) material() error {
	named, maybe := r.asked()
	if err := source.Material(r.fs, r.out, named, maybe); err != nil {
		return err
	}
	for name, text := range r.inline {
		source.Inline(r.out, name, text)
	}
	return source.Trust(r.fs, r.out)
}

// asked are the files of certificates and keys by path: those sites name, and
// those that a name with variables in it may stand for.
func (r *reader) asked() (named, maybe map[string]bool) {
	named, maybe = map[string]bool{}, map[string]bool{}
	for _, list := range [][]kind.Site{r.out.Sites, r.out.Idle} {
		for _, s := range list {
			for _, p := range s.Pairs {
				for _, f := range []string{p.Certificate, p.Key} {
					switch {
					case strings.Contains(f, "$"):
						exactly, fit := r.choices(&s, f)
						for _, c := range exactly {
							named[c] = true
						}
						for _, c := range fit {
							maybe[c] = true
						}
					case strings.HasPrefix(f, "/"):
						named[f] = true
					}
				}
			}
		}
	}
	return named, maybe
}

// idle reads the files that lie beside those in force and are not: in an
// included folder under a name the pattern leaves out, or in the folder
// NAME-available beside NAME-enabled.
func (r *reader) idle() error {
	inForce := map[string]bool{}
	for _, f := range r.order {
		inForce[f.Path], inForce[r.target(f.Path)] = true, true
	}
	var paths []string
	met := map[string]bool{}
	for _, p := range r.patterns {
		dirs := []string{p.folder}
		if stem, ok := strings.CutSuffix(p.folder, "-enabled"); ok {
			dirs = append(dirs, stem+"-available")
		}
		for _, dir := range dirs {
			if met[dir] || strings.ContainsAny(dir, "*?[") {
				continue
			}
			met[dir] = true
			entries, err := fs.ReadDir(r.fs, source.InFS(dir))
			if kind.Lost(err) {
				return err
			}
			for _, e := range entries {
				if full := path.Join(dir, e.Name()); !e.IsDir() && !inForce[full] && !strings.HasPrefix(e.Name(), ".") &&
					len(paths) < idleLimit {
					paths = append(paths, full)
				}
			}
		}
	}
	return r.readIdle(paths)
}

// readIdle reads files that are not in force, as if they were included where
// the others are. What is wrong with them is nobody's concern yet.
func (r *reader) readIdle(paths []string) error {
	t := &tree{fs: r.fs, folder: r.folder, files: map[string]*File{}, infos: r.infos, includes: map[*Directive][]*File{},
		links: map[string]bool{}}
	if err := t.read(paths, map[string]kind.Place{}); err != nil {
		return err
	}
	if _, err := t.follow(t.order); err != nil {
		return err
	}
	own := r.tree
	defer func() { r.tree, r.idling = own, false }()
	r.tree, r.idling = t, true
	for _, p := range paths {
		f := t.files[p]
		if f == nil {
			continue
		}
		before := len(r.out.Idle)
		switchOn, link := switchedOn(p)
		r.block(&Directive{File: f, Block: f.Nodes}, &scope{family: "http", groups: map[string]*Directive{}})
		for i := before; i < len(r.out.Idle); i++ {
			r.out.Idle[i].SwitchOn, r.out.Idle[i].Link = switchOn, link
		}
		if len(r.out.Idle) > before {
			r.idleFiles = append(r.idleFiles, f)
		}
	}
	return nil
}

// switchedOn says what puts a file in force: a link in NAME-enabled for one in
// NAME-available, otherwise a name that is included.
func switchedOn(p string) (words string, link *install.Link) {
	if stem, ok := strings.CutSuffix(path.Dir(p), "-available"); ok {
		return fmt.Sprintf("switch it on: ln -s %s %s-enabled/", p, stem),
			&install.Link{Path: path.Join(stem+"-enabled", path.Base(p)), To: p}
	}
	return fmt.Sprintf("give %s a name that is included", p), nil
}

// target follows a symbolic link that was included.
func (r *reader) target(p string) string {
	if !r.links[p] {
		return p
	}
	return source.LinkTarget(r.fs, p)
}

// files lists what was read, for showing.
func (r *reader) files() error {
	for _, f := range r.order {
		r.out.Files = append(r.out.Files, r.fileOf(f, true))
	}
	for _, f := range r.idleFiles {
		r.out.Files = append(r.out.Files, r.fileOf(f, false))
	}
	return nil
}

// fileOf is a configuration file as the reading keeps it, with the target of
// its link.
func (r *reader) fileOf(f *File, inForce bool) kind.File {
	out := kind.File{Path: f.Path, Text: f.Text, InForce: inForce, Modified: r.modified(f.Path)}
	if to := r.target(f.Path); to != f.Path {
		out.Link = to
	}
	return out
}

// loaded finds out when the running server last took its configuration in.
func (r *reader) loaded() {
	pid := r.pid
	if pid == "" {
		pid = "/run/nginx.pid"
	}
	pid, _ = r.full(pid)
	r.out.Loaded = source.Loaded(r.fs, pid)
}
