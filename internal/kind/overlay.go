package kind

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

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
