package kind

import "io/fs"

// Leader is an Editor that can lead visitors of plain http to https.
type Leader interface {
	// Lead works out the least change by which hosts are led from plain http to https with
	// a permanent redirect that keeps host, path and query (RFC 9110 section 15.4.2), but
	// for the files of http-01 (RFC 8555 section 8.3), and leaves everybody else what he
	// gets. A *EditError says why a site is not changed.
	Lead(fsys fs.FS, main string, list []Led) (*Edits, error)
}

// Led is a site whose visitors of plain http are led to https.
type Led struct {
	Site  Place    // that answers them in plain http
	Hosts []string // they ask for
	Port  uint16   // for https
	// Line is that of a redirect which only is not permanent, or loses what it should keep,
	// and which nobody else comes to; none where there is no such line
	Line  Place
	Loses bool // it is not only for the time being
}

// Ways are paths that plain http is asked for, to compare what becomes of them: the
// front page, the file a CA asks for (RFC 8555 section 8.3), and any other with a query.
var Ways = []string{"/", "/.well-known/acme-challenge/token", "/any/other-path", "/any/other-path?kept=yes"}

// Comers are the hosts visitors of plain http at a listener ask for, by the lines they come
// to; those without a site and those who name no host as UnknownHost and NoHost.
func (r *Reading) Comers(answers Answers, l *Listener) map[Place]map[string]bool {
	out := map[Place]map[string]bool{}
	for _, at := range l.samples(r) {
		for _, v := range r.visitors(func(string) bool { return false }) {
			for _, way := range Ways {
				if step, is := answers.Plain(v.host, at, way); is {
					if out[step.Place] == nil {
						out[step.Place] = map[string]bool{}
					}
					out[step.Place][v.who] = true
				}
			}
		}
	}
	return out
}

// Parted parts a list of texts so that no part has more than so many, or more bytes than so
// many with one between each.
func Parted(list []string, most, bytes int) (out [][]string) {
	size := 0
	for _, text := range list {
		if n := len(out); n == 0 || len(out[n-1]) >= most || size+len(text) > bytes {
			out, size = append(out, nil), 0
		}
		out[len(out)-1] = append(out[len(out)-1], text)
		size += len(text) + 1
	}
	return out
}
