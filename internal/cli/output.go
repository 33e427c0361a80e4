package cli

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"insegna.example/client"
)

// column is one column of a table and of its CSV form.
type column[T any] struct {
	head  string         // its title
	flat  string         // its title in CSV, where it differs
	width int            // the most it takes in a table; 0: as it comes
	cell  func(T) string // as people read it
	raw   func(T) string // for CSV, where it differs
	csv   bool           // in CSV alone
}

// wrapped breaks the lines of a text at words, so that none is longer than a
// width; paths may be broken behind a slash.
func wrapped(s string, width int) string {
	lines := strings.Split(breakPaths(s, width), "\n")
	for i, l := range lines {
		lines[i] = text.WrapSoft(l, width)
	}
	return strings.Join(lines, "\n")
}

// print writes rows as the output asked for. doc is what JSON shows.
func print[T any](a *app, doc any, rows []T, columns []column[T]) error {
	switch a.output {
	case "json":
		return a.json(doc)
	case "csv":
		return a.csv(rowsOf(rows, columns, true))
	}
	columns = slices.DeleteFunc(slices.Clone(columns), func(c column[T]) bool { return c.csv })
	base := make([]int, len(columns))
	for i, c := range columns {
		base[i] = c.width
	}
	cells := rowsOf(rows, columns, false)
	if a.width == 0 {
		oneLine(cells)
	}
	a.table(cells, a.fitted(cells, base))
	return nil
}

// oneLine puts each row into one line: whoever reads a pipe goes by lines.
func oneLine(rows [][]string) {
	for _, r := range rows {
		for i := range r {
			r[i] = strings.Join(strings.FieldsFunc(r[i], func(c rune) bool { return c == '\n' }), "  ")
		}
	}
}

// leastWidth is how narrow a column may become, in characters.
const leastWidth = 7

// fitted gives columns the width of the terminal: those that are wrapped share what
// the others leave, by how much they want, and by their width in a terminal of a
// hundred columns where that is more than there is. 0 is as it comes.
func (a *app) fitted(rows [][]string, base []int) []int {
	out := make([]int, len(base))
	if a.width == 0 {
		return out
	}
	room, share := a.width, 0
	wants := make([]int, len(base))
	for i, b := range base {
		for _, r := range rows {
			for line := range strings.SplitSeq(r[i], "\n") {
				wants[i] = max(wants[i], utf8.RuneCountInString(line))
			}
		}
		room -= 2 // between columns
		if b == 0 {
			room -= wants[i]
		}
		share += b
	}
	for left := true; left && share > 0; { // those that want less than their share leave the rest to the others
		left = false
		for i, b := range base {
			if b > 0 && out[i] == 0 && wants[i] <= room*b/share {
				out[i], left = wants[i], true
				room, share = room-wants[i], share-b
			}
		}
	}
	for i, b := range base {
		if b > 0 && out[i] == 0 {
			out[i] = max(room*b/max(share, 1), leastWidth)
		}
	}
	return out
}

// rowsOf gives the cells as people read them or, raw, as programs do.
func rowsOf[T any](rows []T, columns []column[T], raw bool) [][]string {
	out := make([][]string, 0, len(rows)+1)
	head := make([]string, len(columns))
	for i, c := range columns {
		if head[i] = c.head; raw && c.flat != "" {
			head[i] = c.flat
		}
	}
	out = append(out, head)
	for _, r := range rows {
		line := make([]string, len(columns))
		for i, c := range columns {
			if line[i] = c.cell(r); raw && c.raw != nil {
				line[i] = c.raw(r)
			}
			line[i] = cleanLines(line[i])
		}
		out = append(out, line)
	}
	return out
}

// json writes a document as the service sent it.
func (a *app) json(doc any) error {
	e := json.NewEncoder(a.out)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(doc)
}

// csv writes rows; a cell that a spreadsheet would take for a formula gets a
// quote in front.
func (a *app) csv(rows [][]string) error {
	w := csv.NewWriter(a.out)
	for _, r := range rows {
		for i, c := range r {
			if c != "" && strings.ContainsRune("=+-@\t\r", rune(c[0])) && !isNumber(c) {
				r[i] = "'" + c
			}
		}
		if err := w.Write(r); err != nil {
			return err
		}
	}
	w.Flush()
	return w.Error()
}

// isNumber tells columns that are set to the right.
func isNumber(s string) bool {
	return strings.Trim(strings.TrimPrefix(s, "-"), "0123456789") == ""
}

// table draws rows, the first being the heads; cells wider than their column are
// wrapped at words.
func (a *app) table(rows [][]string, widths []int) {
	t := table.NewWriter()
	style := table.StyleLight
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	style.Options = table.Options{SeparateHeader: a.width > 0}
	style.Format.Header = text.FormatDefault
	t.SetStyle(style)
	configs := make([]table.ColumnConfig, len(widths))
	for i, w := range widths {
		configs[i] = table.ColumnConfig{Number: i + 1, Transformer: a.paint}
		for _, r := range rows {
			if w > 0 {
				r[i] = wrapped(r[i], w)
			}
		}
	}
	t.SetColumnConfigs(configs)
	for i, r := range rows {
		row := make(table.Row, len(r))
		for j, c := range r {
			row[j] = c
		}
		if i == 0 {
			t.AppendHeader(row)
		} else {
			t.AppendRow(row)
		}
	}
	for line := range strings.SplitSeq(t.Render(), "\n") {
		if line = strings.TrimRight(line, " "); strings.HasPrefix(line, "─") && a.width > 0 {
			line = string([]rune(line)[:min(utf8.RuneCountInString(line), a.width)])
		}
		fmt.Fprintln(a.out, line)
	}
}

// breakPaths parts words wider than a column at their slashes, where paths are
// parted.
func breakPaths(s string, width int) string {
	lines := strings.Split(s, "\n")
	for i, line := range lines {
		words := strings.Split(line, " ")
		for j, word := range words {
			words[j] = breakPath(word, width)
		}
		lines[i] = strings.Join(words, " ")
	}
	return strings.Join(lines, "\n")
}

// breakPath breaks a long path at its slashes, for no other place of it may be
// broken without becoming another path.
func breakPath(word string, width int) string {
	if utf8.RuneCountInString(word) <= width {
		return word
	}
	var out strings.Builder
	used := 0
	for i, part := range strings.SplitAfter(word, "/") {
		n := utf8.RuneCountInString(part)
		if i > 0 && used+n > width {
			out.WriteByte('\n')
			used = 0
		}
		out.WriteString(part)
		used += n
	}
	return out.String()
}

// marks give every severity and verdict a shape, so that it reads without colour.
var marks = map[string]string{"broken": "✗ broken", "due": "◷ due", "weak": "△ weak", "note": "· note",
	"at-odds": "≠ at odds", "unknown": "? unknown", "agreed": "= agreed"}

// colors go with the marks: no meaning is in the colour alone.
var colors = map[string]text.Colors{"✗": {text.FgRed, text.Bold}, "◷": {text.FgYellow}, "≠": {text.FgRed},
	"△": {text.FgMagenta}}

// paint colours a cell by its mark, on a terminal only.
func (a *app) paint(v any) string {
	s := fmt.Sprint(v)
	if !a.color {
		return s
	}
	for mark, c := range colors {
		if strings.HasPrefix(s, mark+" ") {
			first, rest, more := strings.Cut(s, "\n")
			if first = c.Sprint(first); more {
				first += "\n" + rest
			}
			return first
		}
	}
	return s
}

// plate is a binding's faces in three characters: full agrees, hollow
// differs, dashed is missing, grey was not read.
func plate(f client.Faces) string {
	windows := map[client.Face]string{"agrees": "■", "differs": "□", "missing": "┄", "unread": "░", "stale": "▒"}
	return windows[f.Wanted] + windows[f.Configured] + windows[f.Served]
}

// plateKey explains the three signs of a plate below a table.
const plateKey = "faces wanted, configured, served: ■ agrees  □ differs  ┄ missing  ░ not read  ▒ not read of late"

// clean makes a text from outside harmless on a terminal: no control
// characters, no direction marks.
func clean(s string) string { return cleaned(s, "") }

// cleanDiff is clean for a line of somebody's file, in which a tab is a tab.
func cleanDiff(s string) string { return cleaned(s, "\t") }

// cleaned is clean but for some characters.
func cleaned(s, but string) string {
	return strings.Map(func(c rune) rune {
		if strings.ContainsRune(but, c) {
			return c
		}
		if unicode.IsControl(c) || unicode.Is(unicode.Cf, c) {
			return '·'
		}
		return c
	}, s)
}

// cleanLines is clean for cells of several lines.
func cleanLines(s string) string {
	lines := strings.Split(s, "\n")
	for i, l := range lines {
		lines[i] = clean(l)
	}
	return strings.Join(lines, "\n")
}

// zone is where times are written for: where this machine is, or UTC by --utc.
var zone = time.Local

// day writes a date.
func day(t time.Time) string { return t.In(zone).Format("2006-01-02") }

// moment writes a time to the minute, with its zone.
func moment(t time.Time) string { return t.In(zone).Format("2006-01-02 15:04 MST") }

// left says the days a certificate has.
func left(days int) string {
	switch {
	case days < -1:
		return fmt.Sprintf("ended %d days ago", -days)
	case days < 0:
		return "ended"
	case days == 1:
		return "1 day"
	}
	return fmt.Sprintf("%d days", days)
}

// say speaks to people alone; with -o json or csv the output holds nothing but
// the document.
func (a *app) say(format string, args ...any) {
	if a.output != "table" {
		return
	}
	lines := strings.Split(fmt.Sprintf(format, args...), "\n")
	for i, l := range lines {
		// What stands in, and a line of a diff, keeps its form.
		if a.width > 0 && utf8.RuneCountInString(l) > a.width && !strings.ContainsRune(" +-@", rune(l[0])) {
			lines[i] = wrapped(l, a.width)
		}
	}
	fmt.Fprintln(a.out, strings.Join(lines, "\n"))
}

// plural is "1 host", "2 hosts".
func plural(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}

// orEmpty reads an optional text.
func orEmpty(p *string) string {
	if p == nil {
		return ""
	}
	return *p
}

// readAtMost bounds what is read of a file or pipe.
func readAtMost(r io.Reader, limit int64) ([]byte, error) {
	return io.ReadAll(io.LimitReader(r, limit))
}

// more says that a list goes on, for nobody is to take a part for the whole; where
// the output is a document, on stderr.
func (a *app) more(next *string, n int) {
	if next == nil {
		return
	}
	const text = "The first %d are shown; there are more: leave --limit out to see all of them."
	if a.output == "table" {
		a.say("\n"+text, n)
		return
	}
	fmt.Fprintf(a.err, text+"\n", n)
}

// limitHelp explains --limit.
const limitHelp = "how many; all of them when left out"

// mostAtOnce is how many rows the service gives in one answer.
const mostAtOnce = 1000

// whole reads a list page by page, up to a limit where there is one: part gives a
// page's items and its cursor.
func whole[P, T any](a *app, ctx context.Context, limit int, part func(*P) (*[]T, **string),
	call func(ctx context.Context, cl calls, cursor *string, size *int) (*http.Response, error)) (*P, error) {
	var all *P
	var cursor *string
	for n := 0; ; {
		size := mostAtOnce
		if limit > 0 {
			size = min(size, limit-n)
		}
		page, err := get[P](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) {
			return call(ctx, cl, cursor, &size)
		})
		if err != nil {
			return nil, err
		}
		items, next := part(page)
		n += len(*items)
		if cursor = *next; all == nil {
			all = page
		} else {
			list, end := part(all)
			*list, *end = append(*list, *items...), cursor
		}
		if cursor == nil || limit > 0 && n >= limit {
			return all, nil
		}
	}
}

// printFacts writes one thing as a list of facts.
func printFacts(a *app, doc any, facts [][2]string) error {
	return print(a, doc, facts, []column[[2]string]{
		{head: "Fact", width: 28, cell: func(f [2]string) string { return f[0] }},
		{head: "Value", width: 70, cell: func(f [2]string) string { return f[1] }},
	})
}
