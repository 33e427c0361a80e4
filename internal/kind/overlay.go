package kind

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"insegna.example/internal/install"
)

// linksDeep is how many links in a row are followed.
const linksDeep = 16

// Resolved follows the links of a path's last part, which is where sites are
// switched on. The path is absolute.
func Resolved(fsys fs.FS, p string) (string, error) {
	for range linksDeep {
		to, err := fs.ReadLink(fsys, strings.TrimPrefix(p, "/"))
		if errors.Is(err, fs.ErrInvalid) || err != nil && !Lost(err) {
			return p, nil // no link, or a source that knows none
		} else if err != nil {
			return "", err
		}
		if !path.IsAbs(to) {
			to = path.Join(path.Dir(p), to)
		}
		p = path.Clean(to)
	}
	return "", fmt.Errorf("%s leads through more than %d links", p, linksDeep)
}

// Overlaid is a file system in which some files are as they will be.
func Overlaid(fsys fs.FS, edits []install.File) fs.FS { return overlaid{fsys, edits} }

// Linked is a file system with some links more.
func Linked(fsys fs.FS, links []install.Link) fs.FS { return linked{fsys, links} }

// linked implements fs.FS.
type linked struct {
	fs.FS
	links []install.Link // that will be there
}

// to gives the link a name is; nil when it is none that will be there.
func (l linked) to(name string) *install.Link {
	if i := slices.IndexFunc(l.links, func(x install.Link) bool { return x.Path == "/"+name }); i >= 0 {
		return &l.links[i]
	}
	return nil
}

// followed gives the name to open in the place of a link.
func (l linked) followed(name string) string {
	if x := l.to(name); x != nil {
		return strings.TrimPrefix(x.To, "/")
	}
	return name
}

// Open implements fs.FS.
func (l linked) Open(name string) (fs.File, error) { return l.FS.Open(l.followed(name)) }

// Stat implements fs.StatFS.
func (l linked) Stat(name string) (fs.FileInfo, error) { return fs.Stat(l.FS, l.followed(name)) }

// Lstat implements fs.ReadLinkFS.
func (l linked) Lstat(name string) (fs.FileInfo, error) {
	if x := l.to(name); x != nil {
		return linkInfo{path.Base(name)}, nil
	}
	return fs.Lstat(l.FS, name)
}

// ReadLink implements fs.ReadLinkFS.
func (l linked) ReadLink(name string) (string, error) {
	if x := l.to(name); x != nil {
		return x.To, nil
	}
	return fs.ReadLink(l.FS, name)
}

// ReadDir implements fs.ReadDirFS.
func (l linked) ReadDir(name string) ([]fs.DirEntry, error) {
	list, err := fs.ReadDir(l.FS, name)
	for _, x := range l.links {
		if err == nil && path.Dir(x.Path) == "/"+name {
			list = append(list, fs.FileInfoToDirEntry(linkInfo{path.Base(x.Path)}))
		}
	}
	slices.SortFunc(list, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	return list, err
}

// linkInfo is a link that will be there.
type linkInfo struct{ name string }

// Name implements fs.FileInfo.
func (i linkInfo) Name() string { return i.name }

// Size implements fs.FileInfo.
func (linkInfo) Size() int64 { return 0 }

// Mode implements fs.FileInfo.
func (linkInfo) Mode() fs.FileMode { return fs.ModeSymlink | fs.ModePerm }

// ModTime implements fs.FileInfo.
func (linkInfo) ModTime() time.Time { return time.Time{} }

// IsDir implements fs.FileInfo.
func (linkInfo) IsDir() bool { return false }

// Sys implements fs.FileInfo.
func (linkInfo) Sys() any { return nil }

// overlaid implements fs.FS.
type overlaid struct {
	fs.FS
	edits []install.File // laid over the file system
}

// Open implements fs.FS.
func (o overlaid) Open(name string) (fs.File, error) {
	f, err := o.FS.Open(name)
	if err != nil {
		return nil, err
	}
	at, err := Resolved(o.FS, "/"+name)
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	if i := slices.IndexFunc(o.edits, func(x install.File) bool { return x.Path == at }); i >= 0 {
		return overlaidFile{f, strings.NewReader(o.edits[i].After)}, nil
	}
	return f, nil
}

// ReadLink implements fs.ReadLinkFS.
func (o overlaid) ReadLink(name string) (string, error) { return fs.ReadLink(o.FS, name) }

// Lstat implements fs.ReadLinkFS.
func (o overlaid) Lstat(name string) (fs.FileInfo, error) { return fs.Lstat(o.FS, name) }

// ReadDir implements fs.ReadDirFS.
func (o overlaid) ReadDir(name string) ([]fs.DirEntry, error) { return fs.ReadDir(o.FS, name) }

// Stat implements fs.StatFS.
func (o overlaid) Stat(name string) (fs.FileInfo, error) { return fs.Stat(o.FS, name) }

// overlaidFile is a file as it would be after the edits.
type overlaidFile struct {
	fs.File
	text *strings.Reader // in place of what lies on the disk
}

// Read implements fs.File.
func (f overlaidFile) Read(p []byte) (int, error) { return f.text.Read(p) }
