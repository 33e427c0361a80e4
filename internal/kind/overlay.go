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

// Linked is a file system with some links more, or in the place of files.
func Linked(fsys fs.FS, links []install.Link) fs.FS { return linked{fsys, links, nil} }

// Laid is a file system with links as Linked has them, and with files that will lie
// there, by their paths.
func Laid(fsys fs.FS, links []install.Link, files map[string]string) fs.FS {
	return linked{fsys, links, files}
}

// linked implements fs.FS.
type linked struct {
	fs.FS
	links []install.Link    // that will be there
	laid  map[string]string // files that will be there, by path
}

// to gives the link a name is; nil when it is none that will be there.
func (l linked) to(name string) *install.Link {
	if i := slices.IndexFunc(l.links, func(x install.Link) bool { return x.Path == "/"+name }); i >= 0 {
		return &l.links[i]
	}
	return nil
}

// followed gives the name to open in the place of a link; false when nothing will be
// there.
func (l linked) followed(name string) (string, bool) {
	x := l.to(name)
	if x == nil {
		return name, true
	}
	to := x.To
	if to != "" && !path.IsAbs(to) {
		to = path.Join(path.Dir(x.Path), to)
	}
	return strings.TrimPrefix(to, "/"), to != ""
}

// gone is the error for what will not be there.
func gone(op, name string) error { return &fs.PathError{Op: op, Path: name, Err: fs.ErrNotExist} }

// Open implements fs.FS.
func (l linked) Open(name string) (fs.File, error) {
	to, is := l.followed(name)
	if !is {
		return nil, gone("open", name)
	}
	for _, n := range []string{name, to} {
		if text, ok := l.laid["/"+n]; ok {
			return laidFile{strings.NewReader(text), laidInfo{linkInfo{path.Base(name)}, int64(len(text))}}, nil
		}
	}
	return l.FS.Open(to)
}

// Stat implements fs.StatFS.
func (l linked) Stat(name string) (fs.FileInfo, error) {
	to, is := l.followed(name)
	if !is {
		return nil, gone("stat", name)
	}
	for _, n := range []string{name, to} {
		if text, ok := l.laid["/"+n]; ok {
			return laidInfo{linkInfo{path.Base(name)}, int64(len(text))}, nil
		}
	}
	return fs.Stat(l.FS, to)
}

// Lstat implements fs.ReadLinkFS.
func (l linked) Lstat(name string) (fs.FileInfo, error) {
	if x := l.to(name); x != nil && x.To != "" {
		return linkInfo{path.Base(name)}, nil
	} else if x != nil {
		return nil, gone("lstat", name)
	}
	return fs.Lstat(l.FS, name)
}

// ReadLink implements fs.ReadLinkFS.
func (l linked) ReadLink(name string) (string, error) {
	if x := l.to(name); x != nil && x.To != "" {
		return x.To, nil
	} else if x != nil {
		return "", gone("readlink", name)
	}
	return fs.ReadLink(l.FS, name)
}

// ReadDir implements fs.ReadDirFS.
func (l linked) ReadDir(name string) ([]fs.DirEntry, error) {
	list, err := fs.ReadDir(l.FS, name)
	for _, x := range l.links {
		if err != nil || path.Dir(x.Path) != path.Clean("/"+name) {
			continue
		}
		list = slices.DeleteFunc(list, func(e fs.DirEntry) bool { return e.Name() == path.Base(x.Path) })
		if x.To != "" {
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

// laidInfo is a file that will be there.
type laidInfo struct {
	linkInfo
	size int64
}

// Size implements fs.FileInfo.
func (i laidInfo) Size() int64 { return i.size }

// Mode implements fs.FileInfo.
func (laidInfo) Mode() fs.FileMode { return laidMode }

// laidMode is that of files with a private key.
const laidMode = 0o600

// laidFile is an open file that will be there.
type laidFile struct {
	*strings.Reader
	info laidInfo
}

// Stat implements fs.File.
func (f laidFile) Stat() (fs.FileInfo, error) { return f.info, nil }

// Close implements fs.File.
func (laidFile) Close() error { return nil }

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
