package nginx

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/install"
	"insegna.example/internal/kind"
)

// Limits of what is read besides the configuration itself.
const (
	materialLimit = 1 << 20 // bytes of one certificate or key file
	besideLimit   = 500     // files of one folder looked at beside a named one
	besideFolders = 40
	idleLimit     = 2000 // files not in force that are read
)

// material reads the certificate and key files the sites name, and those that
// lie beside them.
func (r *reader) material() error {
	named, maybe := r.asked()
	beside, err := r.beside(named)
	if err != nil {
		return err
	}
	paths := append(slices.Collect(maps.Keys(named)), beside...)
	paths = slices.AppendSeq(paths, maps.Keys(maybe))
	slices.Sort(paths)
	paths = slices.Compact(paths)
	read := make([]materialRead, len(paths))
	var g errgroup.Group
	g.SetLimit(sideBySide)
	for i, p := range paths {
		g.Go(func() error {
			read[i] = readMaterial(r.fs, p)
			return read[i].lost
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	for name, text := range r.inline {
		var m materialRead
		m.Path, m.Named = name, true
		m.take([]byte(text))
		r.out.Material[name] = &m.Material
		for f, der := range m.certificates {
			r.out.Certificates[f] = der
		}
	}
	for i, m := range read {
		held := len(m.Chain) > 0 || m.Public != "" || m.Hidden
		if m.Named = named[paths[i]] || maybe[paths[i]] && held; !m.Named && len(m.Chain) == 0 {
			continue
		}
		r.out.Material[paths[i]] = &m.Material
		for f, der := range m.certificates {
			r.out.Certificates[f] = der
		}
	}
	return nil
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

// beside lists files in the folders of certificates, where a newer one may lie.
func (r *reader) beside(named map[string]bool) ([]string, error) {
	folders := map[string]bool{}
	for p := range named {
		folders[path.Dir(p)] = true
	}
	var out []string
	if len(folders) > besideFolders {
		return nil, nil // each site has a folder of its own
	}
	for dir := range folders {
		entries, err := fs.ReadDir(r.fs, inFS(dir))
		if err != nil {
			if kind.Lost(err) {
				return nil, err
			}
			continue
		}
		if len(entries) > besideLimit {
			continue
		}
		for _, e := range entries {
			p := path.Join(dir, e.Name())
			if !named[p] && !e.IsDir() && looksLikeCertificate(e.Name()) {
				out = append(out, p)
			}
		}
	}
	return out, nil
}

// looksLikeCertificate goes by the ending, to look beside a configured file for
// one that is newer.
func looksLikeCertificate(name string) bool {
	switch strings.ToLower(path.Ext(name)) {
	case ".pem", ".crt", ".cer", ".cert":
		return true
	}
	return false
}

// materialRead is a file of certificates or keys, with what is in it.
type materialRead struct {
	kind.Material
	certificates map[string][]byte // DER by fingerprint
	lost         error             // the source failed as a whole
}

// readMaterial reads a file of certificates or a key. Of a key only the public
// half's fingerprint is kept, and the bytes are wiped.
func readMaterial(fsys fs.FS, p string) (m materialRead) {
	m.Path = p
	data, info, err := readFile(fsys, p, materialLimit)
	if err != nil {
		if kind.Lost(err) {
			m.lost = err
		}
		m.Fault, m.Hidden = err.Error(), errors.Is(err, fs.ErrPermission)
		return m
	}
	m.Mode, m.Modified = uint32(info.Mode().Perm()), info.ModTime().UTC()
	m.take(data)
	return m
}

// take reads certificates and key out of what a file holds, and wipes that.
func (m *materialRead) take(data []byte) {
	defer clear(data) // it may be a private key
	list, certErr := certs.ReadCertificates(data)
	if certErr == nil {
		m.certificates = make(map[string][]byte, len(list))
		for _, c := range list {
			f := c.Fingerprint.String()
			m.Chain = append(m.Chain, f)
			m.certificates[f] = c.Raw
		}
	}
	public, keyErr := certs.PublicOf(data)
	switch {
	case keyErr == nil:
		m.Public = public.String()
	case certErr != nil && errors.Is(keyErr, certs.ErrNoKey):
		m.Fault = certErr.Error()
	case !errors.Is(keyErr, certs.ErrNoKey):
		m.Fault, m.Hidden = keyErr.Error(), errors.Is(keyErr, certs.ErrEncrypted)
	}
}

// leafKind is the kind of key a certificate is for, "" when it cannot be read.
func leafKind(der []byte) string {
	c, err := certs.Parse(der)
	if err != nil {
		return ""
	}
	return c.Key().Kind
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
			entries, err := fs.ReadDir(r.fs, inFS(dir))
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

// target follows a symbolic link, when the file system can tell.
func (r *reader) target(p string) string {
	links, ok := r.fs.(fs.ReadLinkFS)
	if !ok || !r.links[p] {
		return p
	}
	to, err := links.ReadLink(inFS(p))
	if err != nil {
		return p
	}
	if !path.IsAbs(to) {
		to = path.Join(path.Dir(p), to)
	}
	return path.Clean(to)
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

// loaded finds out when the running server last took its configuration in: a
// reload starts new workers, so it is the moment the oldest worker began
// (proc(5)).
func (r *reader) loaded() {
	pid := r.pid
	if pid == "" {
		pid = "/run/nginx.pid"
	}
	pid, _ = r.full(pid)
	text, err := fs.ReadFile(r.fs, inFS(pid))
	if err != nil {
		return
	}
	master := strings.TrimSpace(string(text))
	if _, err := strconv.Atoi(master); err != nil {
		return
	}
	boot, ok := r.bootTime()
	children, err := fs.ReadFile(r.fs, "proc/"+master+"/task/"+master+"/children")
	if err != nil || !ok {
		return
	}
	for child := range strings.FieldsSeq(string(children)) {
		if began, ok := r.began(child, boot); ok && (r.out.Loaded.IsZero() || began.Before(r.out.Loaded)) {
			r.out.Loaded = began
		}
	}
}

// bootTime is when the machine started, from which /proc counts the start of
// processes.
func (r *reader) bootTime() (time.Time, bool) {
	stat, err := fs.ReadFile(r.fs, "proc/stat")
	if err != nil {
		return time.Time{}, false
	}
	_, after, found := strings.Cut(string(stat), "btime ")
	line, _, _ := strings.Cut(after, "\n")
	seconds, err := strconv.ParseInt(strings.TrimSpace(line), 10, 64)
	return time.Unix(seconds, 0).UTC(), found && err == nil
}

// began reads field 22 of a process's stat: its start in ticks after boot, of
// which Linux has 100 a second.
func (r *reader) began(pid string, boot time.Time) (time.Time, bool) {
	const startField, ticks = 22, 100
	stat, err := fs.ReadFile(r.fs, "proc/"+pid+"/stat")
	if err != nil {
		return time.Time{}, false
	}
	text := string(stat)
	fields := strings.Fields(text[strings.LastIndexByte(text, ')')+1:]) // the name in front may hold blanks
	const behindName = 3
	if len(fields) <= startField-behindName {
		return time.Time{}, false
	}
	n, err := strconv.ParseInt(fields[startField-behindName], 10, 64)
	return boot.Add(time.Duration(n) * (time.Second / ticks)), err == nil
}
