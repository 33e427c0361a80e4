package httpd

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"strconv"
	"strings"

	"insegna.example/internal/install"
	"insegna.example/internal/kind"
)

// copyLimit bounds the text of a copy, in bytes.
const copyLimit = 64 << 20

// Copy writes a configuration as one text, as it will be with edits made, and with
// words, such as paths of certificates, in the place of others. What cannot be read
// all is not copied: the error is a *kind.Problem then.
func Copy(fsys fs.FS, main string, edits []install.File, words map[string]string) (*kind.Copy, error) {
	main = path.Clean(main)
	if len(edits) > 0 {
		fsys = kind.Overlaid(fsys, edits)
	}
	l := newLoader(fsys, main)
	root := l.root
	if _, err := l.load(); err != nil {
		return nil, err
	}
	f := l.files[main]
	if f == nil {
		return nil, errors.New("there is no configuration at " + main)
	}
	for i := range l.problems {
		if l.problems[i].Effect == kind.Unread && !strings.Contains(l.problems[i].Message, "exact version") {
			return nil, &l.problems[i]
		}
	}
	w := &copier{loader: l, words: words, met: map[*node]int{}}
	w.line(kind.Place{}, "ServerRoot "+quoted(root)) // where it is not said, it is where the program was built for
	w.file(f)
	if w.text.Len() > copyLimit {
		return nil, errors.New("the configuration is too large to be copied")
	}
	return &kind.Copy{Text: w.text.String(), Translate: w.translate}, nil
}

// copier writes files with what they include in the place of the includes, and
// remembers where each line came from.
type copier struct {
	*loader
	words  map[string]string
	text   strings.Builder
	places []kind.Place  // of each line
	met    map[*node]int // how often each include was written
}

// line writes one line.
func (w *copier) line(at kind.Place, text string) {
	if w.text.Len() > copyLimit {
		return
	}
	w.text.WriteString(text + "\n")
	w.places = append(w.places, at)
}

// file writes a file line by line.
func (w *copier) file(f *file) {
	lines := strings.Split(f.text, "\n")
	next := w.list(f, lines, f.nodes, 1)
	w.through(f, lines, next, len(lines))
}

// through writes lines as they stand, and gives the one behind them.
func (w *copier) through(f *file, lines []string, first, last int) int {
	for n := first; n <= min(last, len(lines)); n++ {
		w.line(kind.Place{File: f.path, Line: n}, strings.TrimSuffix(lines[n-1], "\r"))
	}
	return max(first, last+1)
}

// list writes directives and what stands between them, from a line on; it gives
// the line behind the last.
func (w *copier) list(f *file, lines []string, list []*node, next int) int {
	for _, n := range list {
		if w.text.Len() > copyLimit {
			return next
		}
		next = w.through(f, lines, next, n.line-1)
		turn := w.met[n]
		w.met[n]++
		switch to, exchanged := w.exchanged(n); {
		case n.section:
			next = w.through(f, lines, next, next) // the opening line, whole when it is continued
			for next-1 < len(lines) && next <= n.last && strings.HasSuffix(strings.TrimSuffix(lines[next-2], "\r"), `\`) {
				next = w.through(f, lines, next, next)
			}
			next = w.list(f, lines, n.block, next)
			next = w.through(f, lines, next, n.last)
		case turn < len(w.brought[n]):
			for _, in := range w.brought[n][turn] {
				w.file(in)
			}
			next = n.last + 1
		case exchanged:
			w.line(n.place(), n.name+" "+quoted(to))
			next = n.last + 1
		default:
			next = w.through(f, lines, next, n.last)
		}
	}
	return next
}

// exchanged gives the word that stands in the place of a directive's own.
func (w *copier) exchanged(n *node) (string, bool) {
	if n.section || len(w.words) == 0 {
		return "", false
	}
	list := wordsOf(n.args, 0)
	if len(list) != 1 {
		return "", false
	}
	to, ok := w.words[list[0].text]
	return to, ok
}

// translate gives what httpd says of the text laid at a path, with the places the
// lines come from.
func (w *copier) translate(said, at string) string {
	said = regexp.MustCompile(`line (\d+) of `+regexp.QuoteMeta(at)).ReplaceAllStringFunc(said, func(s string) string {
		line, err := strconv.Atoi(strings.Fields(s)[1])
		if err != nil || line < 1 || line > len(w.places) || !w.places[line-1].Known() {
			return s
		}
		return fmt.Sprintf("line %d of %s", w.places[line-1].Line, w.places[line-1].File)
	})
	return strings.ReplaceAll(said, at, "the staged copy")
}

// OnFile leads a test to another file.
func OnFile(command, main, other string) string {
	return kind.OnFile(command, main, other, "-f", "apache2", "httpd", "apache2ctl", "apachectl")
}
