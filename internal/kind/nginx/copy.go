package nginx

import (
	"errors"
	"io/fs"
	"path"
	"regexp"
	"strconv"
	"strings"

	"insegna.example/internal/install"
	"insegna.example/internal/kind"
)

// Copied is a whole configuration in one text: what each include names stands in
// its place. Laid in the main file's folder, where relative paths begin, it
// means the same.
type Copied struct {
	Text   string       // one configuration without includes
	places []kind.Place // of each line
}

// Place tells where a line, counted from 1, comes from.
func (f *Copied) Place(line int) (kind.Place, bool) {
	if line < 1 || line > len(f.places) || f.places[line-1].File == "" {
		return kind.Place{}, false
	}
	return f.places[line-1], true
}

// Translate gives what nginx says of the text laid at a path, with the places
// the lines come from.
func (f *Copied) Translate(said, at string) string {
	said = regexp.MustCompile(regexp.QuoteMeta(at)+`:(\d+)`).ReplaceAllStringFunc(said, func(s string) string {
		if line, err := strconv.Atoi(s[len(at)+1:]); err == nil {
			if p, ok := f.Place(line); ok {
				return p.String()
			}
		}
		return s
	})
	return strings.ReplaceAll(said, at, "the staged copy")
}

// copyLimit bounds the text of a copy, in bytes.
const copyLimit = 64 << 20

// Copy writes a configuration as one text, as it will be with edits made,
// and with words, such as paths of certificates, in the place of others. What
// cannot be read all is not copied: the error is a *kind.Problem then.
func Copy(fsys fs.FS, main string, edits []install.File, words map[string]string) (*Copied, error) {
	main = path.Clean(main)
	if len(edits) > 0 {
		fsys = kind.Overlaid(fsys, edits)
	}
	t, err := load(fsys, main)
	if err != nil {
		return nil, err
	}
	f := t.files[main]
	if f == nil {
		return nil, errors.New("there is no configuration at " + main)
	}
	for i := range t.problems {
		if t.problems[i].Effect == kind.Unread {
			return nil, &t.problems[i]
		}
	}
	w := &copier{tree: t, words: words, places: make([]kind.Place, 1)}
	w.file(f)
	if w.text.Len() > copyLimit {
		return nil, errors.New("the configuration is too large to be copied")
	}
	return &Copied{w.text.String(), w.places}, nil
}

// copier writes a configuration with its includes resolved as one text, and
// remembers for every line of it where it came from.
type copier struct {
	*tree
	words  map[string]string // replaced by others, such as a path by its new version
	text   strings.Builder   // written so far
	places []kind.Place      // where each line of it came from
}

// write adds text that comes from a place, which goes on with its lines.
func (w *copier) write(at *kind.Place, text string) {
	if w.text.Len() > copyLimit {
		return
	}
	w.text.WriteString(text)
	for {
		line, rest, more := strings.Cut(text, "\n")
		if now := &w.places[len(w.places)-1]; now.File == "" && strings.TrimSpace(line) != "" {
			*now = *at
		}
		if !more {
			return
		}
		at.Line++
		w.places = append(w.places, kind.Place{})
		text = rest
	}
}

// file writes a file as it stands, blanks and comments too, so that columns
// stay what they are.
func (w *copier) file(f *File) {
	at := &kind.Place{File: f.Path, Line: 1}
	w.list(at, f.Nodes)
	w.write(at, f.Rest)
}

// list writes directives; an include is replaced by what it includes. It ends
// at copyLimit, and whoever asked sees that it is not whole.
func (w *copier) list(at *kind.Place, list []*Directive) {
	for _, d := range list {
		if w.text.Len() > copyLimit {
			return
		}
		if files, ok := w.taken(d); ok {
			w.write(at, d.Words[0].Before+"\n")
			at.Line-- // this one is ours
			for _, f := range files {
				w.file(f)
				w.write(&kind.Place{}, "\n")
			}
			for i := range d.Words {
				at.Line += strings.Count(d.Words[i].Raw, "\n")
				if i > 0 {
					at.Line += strings.Count(d.Words[i].Before, "\n")
				}
			}
			at.Line += strings.Count(d.Stop.Before, "\n")
			continue
		}
		for i := range d.Words {
			raw := d.Words[i].Raw
			if to := w.words[d.Words[i].Text]; to != "" {
				raw = quoteWord(to)
			}
			w.write(at, d.Words[i].Before+raw)
		}
		w.write(at, d.Stop.Before+d.Stop.Raw+d.Opaque)
		w.list(at, d.Block)
		w.write(at, d.Close.Before+d.Close.Raw)
	}
}

// taken gives the files that stand in an include's place; not those of one
// that names a file that is not there, which nginx is to complain of.
func (w *copier) taken(d *Directive) ([]*File, bool) {
	if d.Name() != "include" || len(d.Words) != 2 || d.Stop.Raw != ";" {
		return nil, false
	}
	files := w.includes[d]
	return files, len(files) > 0 || strings.ContainsAny(d.Arg(0), "*?[")
}
