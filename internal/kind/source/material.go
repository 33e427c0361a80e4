package source

import (
	"errors"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sync/errgroup"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/kind"
	"insegna.example/internal/reach"
)

// Limits of what is read besides the configuration itself.
const (
	materialLimit = 1 << 20 // bytes of one certificate or key file
	besideLimit   = 500     // files of one folder looked at beside a named one
	besideFolders = 40
)

// Material reads files of certificates and keys into a reading: those that are
// named, those that may be, which count when something is in them, and what lies
// beside the named ones, where a newer one may be.
func Material(fsys fs.FS, out *kind.Reading, named, maybe map[string]bool) error {
	near, err := beside(fsys, named)
	if err != nil {
		return err
	}
	paths := append(slices.Collect(maps.Keys(named)), near...)
	paths = slices.AppendSeq(paths, maps.Keys(maybe))
	slices.Sort(paths)
	paths = slices.Compact(paths)
	read := make([]materialRead, len(paths))
	var g errgroup.Group
	g.SetLimit(SideBySide)
	for i, p := range paths {
		g.Go(func() error {
			read[i] = readMaterial(fsys, p)
			return read[i].lost
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	nameOwners(fsys, read)
	for i, m := range read {
		held := len(m.Chain) > 0 || m.Public != "" || m.Hidden
		if m.Named = named[paths[i]] || maybe[paths[i]] && held; !m.Named && len(m.Chain) == 0 && m.Public == "" {
			continue
		}
		m.keep(out, paths[i])
	}
	return nil
}

// Inline takes certificates and keys that stand in the configuration itself into
// a reading, under a name.
func Inline(out *kind.Reading, name, text string) {
	var m materialRead
	m.Path, m.Named = name, true
	m.take([]byte(text))
	m.keep(out, name)
}

// keep puts what was read into a reading.
func (m *materialRead) keep(out *kind.Reading, name string) {
	out.Material[name] = &m.Material
	for f, der := range m.certificates {
		out.Certificates[f] = der
	}
}

// beside lists files in the folders of certificates, where a newer one may lie.
func beside(fsys fs.FS, named map[string]bool) ([]string, error) {
	folders := map[string]bool{}
	for p := range named {
		folders[path.Dir(p)] = true
	}
	var out []string
	if len(folders) > besideFolders {
		return nil, nil // each site has a folder of its own
	}
	for dir := range folders {
		entries, err := fs.ReadDir(fsys, InFS(dir))
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
			if !named[p] && !e.IsDir() && looksLikeMaterial(e.Name()) {
				out = append(out, p)
			}
		}
	}
	return out, nil
}

// looksLikeMaterial goes by the ending, to look beside a configured file for one that
// is newer, or left over.
func looksLikeMaterial(name string) bool {
	switch strings.ToLower(path.Ext(name)) {
	case ".pem", ".crt", ".cer", ".cert", ".key", ".both":
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
	data, info, err := ReadFile(fsys, p, materialLimit)
	if err != nil {
		if kind.Lost(err) {
			m.lost = err
		}
		m.Fault, m.Hidden = err.Error(), errors.Is(err, fs.ErrPermission)
		return m
	}
	m.Mode, m.Modified = uint32(info.Mode().Perm()), info.ModTime().UTC()
	m.take(data)
	if m.Public != "" {
		m.Owner = ownerOf(fsys, p, info)
	}
	return m
}

// ownerOf gives whose a file is, by number; nil when that is not known.
func ownerOf(fsys fs.FS, p string, info fs.FileInfo) *kind.Owner {
	o, known := reach.OwnerOf(info)
	if !known {
		return nil
	}
	out := &kind.Owner{UID: o.UID, GID: o.GID}
	if real, err := kind.Resolved(fsys, p); err == nil {
		if dir, err := fs.Stat(fsys, InFS(path.Dir(real))); err == nil {
			at, known := reach.OwnerOf(dir)
			out.Folder = known && at.UID == o.UID
		}
	}
	return out
}

// accountsLimit bounds the files of users and groups, in bytes.
const accountsLimit = 1 << 20

// nameOwners gives users and groups their names on the machine, where its files have them.
func nameOwners(fsys fs.FS, list []materialRead) {
	var users, groups map[int]string
	for i := range list {
		o := list[i].Owner
		if o == nil {
			continue
		}
		if users == nil {
			users, groups = accounts(fsys, "/etc/passwd"), accounts(fsys, "/etc/group")
		}
		o.User, o.Group = users[o.UID], groups[o.GID]
	}
}

// accounts reads names by number from a file of users or groups.
func accounts(fsys fs.FS, file string) map[int]string {
	out := map[int]string{}
	data, _, err := ReadFile(fsys, file, accountsLimit)
	if err != nil {
		return out
	}
	const number = 2 // name:password:number:…
	for line := range strings.Lines(string(data)) {
		f := strings.Split(strings.TrimSpace(line), ":")
		if len(f) <= number {
			continue
		}
		if n, err := strconv.Atoi(f[number]); err == nil && out[n] == "" {
			out[n] = f[0]
		}
	}
	return out
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
