// Package source reads what lies on a server's machine for readers of its
// configuration: files in bounds, folders by pattern, certificates and keys with
// what lies beside them, and when processes began. It knows no syntax of any kind
// of server.
package source

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/netip"
	"path"
	"strings"

	"insegna.example/internal/kind"
)

// SideBySide is how many files are read at once.
const SideBySide = 16

// deniedError is a file that may not be read from here.
type deniedError struct{}

// Error is short, for a reader who knows the path already.
func (deniedError) Error() string { return "permission denied" }

// Is tells it from a file that is not there.
func (deniedError) Is(target error) bool { return target == fs.ErrPermission }

// errDenied is the only one.
var errDenied = deniedError{}

// Faults of files, as problems say them.
const (
	Missing = "no such file"
	Folder  = "it is a folder"
)

// InFS is a path as an fs.FS takes it.
func InFS(p string) string {
	if p = strings.TrimPrefix(path.Clean("/"+p), "/"); p == "" {
		return "."
	}
	return p
}

// ReadFile reads a file of bounded size. An error is Worded for a reader who
// knows the path already.
func ReadFile(fsys fs.FS, p string, limit int64) ([]byte, fs.FileInfo, error) {
	info, err := fs.Stat(fsys, InFS(p)) // first: opening a pipe would wait for its writer
	switch {
	case err != nil:
		return nil, nil, Worded(err)
	case info.IsDir():
		return nil, nil, errors.New(Folder)
	case !info.Mode().IsRegular():
		return nil, nil, errors.New("it is no ordinary file")
	case info.Size() > limit:
		return nil, nil, fmt.Errorf("it holds %.1f MB, and at most %d MB are read", float64(info.Size())/1e6, limit>>20)
	}
	f, err := fsys.Open(InFS(p))
	if err != nil {
		return nil, nil, Worded(err)
	}
	defer func() { _ = f.Close() }()
	data, err := io.ReadAll(io.LimitReader(f, limit+1))
	if err != nil {
		return nil, nil, Worded(err)
	}
	if int64(len(data)) > limit {
		return nil, nil, fmt.Errorf("it holds more than %d MB", limit>>20)
	}
	return data, info, nil
}

// Worded makes errors of file systems short; one that tells that the source is
// lost stays as it is.
func Worded(err error) error {
	switch {
	case kind.Lost(err):
		return err
	case errors.Is(err, fs.ErrNotExist):
		return errors.New(Missing)
	case errors.Is(err, fs.ErrPermission):
		return errDenied
	}
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err
	}
	return err
}

// Glob lists what matches a pattern as glob(7) does: a leading dot only by a dot,
// [!a] beside [^a], and nothing found is no fault. denied is told of folders that
// may not be listed, linked of paths that are symbolic links. The error is one of
// the source as a whole.
func Glob(fsys fs.FS, pattern string, denied func(dir string), linked func(p string)) ([]string, error) {
	found := []string{"/"}
	for part := range strings.SplitSeq(strings.Trim(pattern, "/"), "/") {
		var next []string
		for _, dir := range found {
			if !strings.ContainsAny(part, "*?[") {
				to := path.Join(dir, part)
				if _, err := fs.Stat(fsys, InFS(to)); err == nil || len(found) == 1 {
					next = append(next, to)
				} else if kind.Lost(err) {
					return nil, err
				}
				continue
			}
			entries, err := fs.ReadDir(fsys, InFS(dir))
			if err != nil {
				if kind.Lost(err) {
					return nil, err
				}
				if errors.Is(err, fs.ErrPermission) {
					denied(dir)
				}
				continue
			}
			for _, e := range entries {
				if Matches(part, e.Name()) {
					next = append(next, path.Join(dir, e.Name()))
					if e.Type()&fs.ModeSymlink != 0 {
						linked(path.Join(dir, e.Name()))
					}
				}
			}
		}
		found = next
	}
	return found, nil
}

// Matches matches one part of a path with one of a pattern.
func Matches(pattern, name string) bool {
	if strings.HasPrefix(name, ".") && !strings.HasPrefix(pattern, ".") {
		return false
	}
	ok, err := path.Match(strings.ReplaceAll(pattern, "[!", "[^"), name)
	return err == nil && ok
}

// MatchesPath matches a whole path with a pattern, part by part.
func MatchesPath(pattern, p string) bool {
	parts, names := strings.Split(pattern, "/"), strings.Split(p, "/")
	if len(parts) != len(names) {
		return false
	}
	for i := range parts {
		if parts[i] != names[i] && !Matches(parts[i], names[i]) {
			return false
		}
	}
	return true
}

// Absolute makes a path of a configuration absolute; relative ones begin in a
// folder. outside tells that it climbs above the root.
func Absolute(folder, p string) (abs string, outside bool) {
	if !strings.HasPrefix(p, "/") {
		p = folder + "/" + p
	}
	depth := 0
	for part := range strings.SplitSeq(p, "/") {
		switch part {
		case "", ".":
		case "..":
			if depth--; depth < 0 {
				outside = true
			}
		default:
			depth++
		}
	}
	return path.Clean(p), outside
}

// LinkTarget follows a symbolic link once, when the file system can tell; what is
// none stays as it is.
func LinkTarget(fsys fs.FS, p string) string {
	links, ok := fsys.(fs.ReadLinkFS)
	if !ok {
		return p
	}
	to, err := links.ReadLink(InFS(p))
	if err != nil {
		return p
	}
	if !path.IsAbs(to) {
		to = path.Join(path.Dir(p), to)
	}
	return path.Clean(to)
}

// Hosts reads the machine's hosts file (hosts(5)), which addresses of listeners
// may go by.
func Hosts(fsys fs.FS) map[string][]netip.Addr {
	out := map[string][]netip.Addr{}
	if data, err := fs.ReadFile(fsys, "etc/hosts"); err == nil {
		for line := range strings.SplitSeq(string(data), "\n") {
			line, _, _ = strings.Cut(line, "#")
			fields := strings.Fields(line)
			if len(fields) < 2 {
				continue
			}
			if a, err := netip.ParseAddr(fields[0]); err == nil {
				for _, name := range fields[1:] {
					out[name] = append(out[name], a)
				}
			}
		}
	}
	if len(out["localhost"]) == 0 {
		out["localhost"] = []netip.Addr{netip.AddrFrom4([4]byte{127, 0, 0, 1})}
	}
	return out
}

// Hostname is the machine's own name (hostname(5)).
func Hostname(fsys fs.FS) (string, bool) {
	data, err := fs.ReadFile(fsys, "etc/hostname")
	name := strings.ToLower(strings.TrimSpace(string(data)))
	return name, err == nil && name != ""
}
