package sink

import (
	_ "embed"
	"html/template"
	"net/http"
	"slices"
	"strconv"
)

//go:embed page.html
var pageText string

var page = template.Must(template.New("page").Parse(pageText))

// shown is what the page shows.
type shown struct {
	List  []Message // newest first
	At    int       // the one that is open, in that order
	Open  *Message  // nil for none
	Mail  string    // where mail is taken
	Hooks string    // and hooks

}

// show shows what came in; what is in a message is text, but for the page of a letter, which is
// fenced in.
func (s *Sink) show(w http.ResponseWriter, r *http.Request) {
	list := s.Messages()
	slices.Reverse(list)
	v := shown{List: list, Mail: s.Mail(), Hooks: "http://" + s.Page() + "/hooks/..."}
	if at, err := strconv.Atoi(r.URL.Query().Get("n")); err == nil && at >= 0 && at < len(list) {
		v.At = at
	}
	if len(list) > 0 {
		v.Open = &list[v.At]
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; frame-src 'self'")
	_ = page.Execute(w, v)
}
