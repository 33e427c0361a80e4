package draft

import (
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
)

// mounted gives a file system in which a copy lies where the server has it, and the main file;
// nil when the copy is not of that kind. The copy is the server's root, the folder of the main
// file, or the main file itself.
func mounted(at, usual string) (fs.FS, string) {
	info, err := os.Stat(at)
	switch {
	case err != nil:
		return nil, ""
	case !info.IsDir():
		if filepath.Base(at) != path.Base(usual) {
			return nil, ""
		}
		return below{path.Dir(usual)[1:], os.DirFS(filepath.Dir(at))}, usual
	}
	if _, err := os.Stat(filepath.Join(at, usual)); err == nil {
		return os.DirFS(at), usual
	}
	if _, err := os.Stat(filepath.Join(at, path.Base(usual))); err == nil {
		return below{path.Dir(usual)[1:], os.DirFS(at)}, usual
	}
	return nil, ""
}

// below is a file system that lies below a folder; nothing else is there.
type below struct {
	folder string
	fs.FS
}

// inside gives the name in the file system that lies below.
func (b below) inside(op, name string) (string, error) {
	switch rest, is := strings.CutPrefix(name, b.folder); {
	case name == b.folder:
		return ".", nil
	case is && strings.HasPrefix(rest, "/"):
		return rest[1:], nil
	}
	return "", &fs.PathError{Op: op, Path: name, Err: fs.ErrNotExist}
}

// Open implements fs.FS.
func (b below) Open(name string) (fs.File, error) {
	name, err := b.inside("open", name)
	if err != nil {
		return nil, err
	}
	return b.FS.Open(name)
}

// Stat implements fs.StatFS.
func (b below) Stat(name string) (fs.FileInfo, error) {
	name, err := b.inside("stat", name)
	if err != nil {
		return nil, err
	}
	return fs.Stat(b.FS, name)
}

// ReadDir implements fs.ReadDirFS.
func (b below) ReadDir(name string) ([]fs.DirEntry, error) {
	name, err := b.inside("readdir", name)
	if err != nil {
		return nil, err
	}
	return fs.ReadDir(b.FS, name)
}

// ReadLink implements fs.ReadLinkFS.
func (b below) ReadLink(name string) (string, error) {
	name, err := b.inside("readlink", name)
	if err != nil {
		return "", err
	}
	return fs.ReadLink(b.FS, name)
}

// Lstat implements fs.ReadLinkFS.
func (b below) Lstat(name string) (fs.FileInfo, error) {
	name, err := b.inside("lstat", name)
	if err != nil {
		return nil, err
	}
	return fs.Lstat(b.FS, name)
}

// readAtMost reads a file up to a size; what is more is cut.
func readAtMost(fsys fs.FS, name string, limit int64) ([]byte, error) {
	f, err := fsys.Open(name)
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }()
	return io.ReadAll(io.LimitReader(f, limit))
}
