package notice

import (
	"bytes"
	_ "embed"
	"fmt"
	"html/template"
	"strings"

	"insegna.example/internal/core/check"
)

// Text is the message for people, as plain text.
func (m *Message) Text() string {
	var b strings.Builder
	switch m.Kind {
	case Test:
		fmt.Fprintf(&b, "This is a test. Messages about %s come to %s by this way.\n", oneLine(m.Estate), m.Owner)
	case Digest:
		fmt.Fprintf(&b, "%s, for %s, as of %s.\n", oneLine(m.Estate), m.Owner, m.At.Format("2 January 2006 15:04 MST"))
		fmt.Fprintf(&b, "%s\n", m.Standing.Sentence())
		m.part(&b, "Open findings, the worst first", m.Standing.Worst)
		m.part(&b, "Certificates that end next", m.Standing.Ends)
		if m.Empty() {
			b.WriteString("\nNothing happened in the last day.\n")
		} else {
			b.WriteString("\nIn the last day:\n")
		}
	}
	for _, p := range m.Parts() {
		m.part(&b, p.Title, p.Lines)
	}
	if m.More > 0 {
		fmt.Fprintf(&b, "\nAnd %d more: insegna finding list --owner %s\n", m.More, m.Owner)
	}
	if m.Console != "" {
		fmt.Fprintf(&b, "\n%s\n", m.Console)
	}
	return b.String()
}

// part writes a title with lines.
func (m *Message) part(b *strings.Builder, title string, lines []Line) {
	if len(lines) == 0 {
		return
	}
	fmt.Fprintf(b, "\n%s\n", title)
	for i := range lines {
		l := &lines[i]
		fmt.Fprintf(b, "  %s", oneLine(l.What))
		if l.Where != "" {
			fmt.Fprintf(b, " at %s", oneLine(l.Where))
		}
		fmt.Fprintf(b, ": %s", oneLine(l.Words))
		if l.Number > 0 {
			fmt.Fprintf(b, " (%s, #%d)", l.Code, l.Number)
		}
		b.WriteString("\n")
		if l.Remedy != "" {
			fmt.Fprintf(b, "    → %s\n", oneLine(l.Remedy))
		}
		if m.Console != "" && l.Path != "" {
			fmt.Fprintf(b, "    %s%s\n", m.Console, l.Path)
		}
	}
}

// Sentence says how things stand.
func (s *Standing) Sentence() string {
	var list []string
	for _, severity := range check.Severities {
		if n := s.Open[severity]; n > 0 {
			list = append(list, fmt.Sprintf("%d %s", n, severity))
		}
	}
	text := fmt.Sprintf("%d bindings are watched. ", s.Bindings)
	if s.Bindings == 1 {
		text = "1 binding is watched. "
	}
	if list == nil {
		text += "No finding is open"
	} else {
		text += "Open findings: " + strings.Join(list, ", ")
	}
	if s.Accepted > 0 {
		text += fmt.Sprintf("; %d more are accepted", s.Accepted)
	}
	return text + "."
}

//go:embed message.html
var pageText string

// page writes the message for people who see mail as pages. Everything in it is escaped.
var page = template.Must(template.New("message").Funcs(template.FuncMap{"capital": Capital}).Parse(pageText))

// HTML is the message for people, as a page without anything to fetch.
func (m *Message) HTML() (string, error) {
	var b bytes.Buffer
	err := page.Execute(&b, m)
	return b.String(), err
}

// Capital begins a sentence with a capital, but for names and paths.
func Capital(s string) string {
	first, _, _ := strings.Cut(s, " ")
	if first == "" || strings.TrimFunc(first, func(c rune) bool { return c >= 'a' && c <= 'z' }) != "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// Colour is the colour of a line's edge.
func (l *Line) Colour() string {
	switch {
	case l.Severity == check.Broken, l.Title() == titles["failed"]:
		return "#a3341f"
	case l.Severity == check.Due, l.Title() == titles["ends"]:
		return "#b8892b"
	}
	return "#8a948f"
}
