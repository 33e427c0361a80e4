package httpd

import (
	"io/fs"
	"path"
	"slices"
	"strings"

	"insegna.example/internal/install"
	"insegna.example/internal/kind"
	"insegna.example/internal/kind/source"
)

// switchedOn gives an editor that has some modules, with the links that load those
// that are missing; none where they are loaded, or the layout has no place for them.
func (e *editor) switchedOn(fsys fs.FS, main string, modules ...string) (*editor, []install.Link, error) {
	var links []install.Link
	for _, m := range modules {
		if !e.hasModule(m + "_module") {
			links = e.enabling(links, m)
		}
	}
	if len(links) == 0 {
		return e, nil, nil
	}
	on, err := newEditor(kind.Linked(fsys, links), main)
	return on, links, err
}

// enabling adds the links that load a module and what it depends on, as the tools of
// Debian leave them: in the folder mods-enabled, which is included, to mods-available
// beside it.
func (l *loader) enabling(links []install.Link, module string) []install.Link {
	i := slices.IndexFunc(l.patterns, func(p string) bool {
		return path.Base(path.Dir(p)) == "mods-enabled" && strings.HasSuffix(p, ".load")
	})
	if i < 0 || strings.Contains(module, "/") {
		return links
	}
	enabled := path.Dir(l.patterns[i])
	lay := func(name string) bool {
		link := install.Link{Path: path.Join(enabled, name), To: "../mods-available/" + name}
		if slices.Contains(links, link) {
			return false
		}
		if _, err := fs.Stat(l.fs, source.InFS(link.Path)); err == nil {
			return false
		}
		if _, err := fs.Stat(l.fs, source.InFS(path.Join(enabled, link.To))); err != nil {
			return false
		}
		links = append(links, link)
		return true
	}
	if !lay(module + ".load") {
		return links
	}
	lay(module + ".conf")
	data, _, err := source.ReadFile(l.fs, path.Join(enabled, "../mods-available", module+".load"), fileLimit)
	if err != nil {
		return links
	}
	for line := range strings.Lines(string(data)) {
		if needs, is := strings.CutPrefix(line, "# Depends:"); is {
			for _, m := range strings.Fields(needs) {
				if !l.hasModule(m + "_module") {
					links = l.enabling(links, m)
				}
			}
		}
	}
	return links
}
