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

// Shared says whether visitors of plain http at an address come to a line who ask for
// other hosts than some.
func (r *Reading) Shared(line Place, answers Answers, at []Listener, hosts map[string]bool) bool {
	for i := range at {
		for _, sample := range at[i].samples(r) {
			for _, v := range r.visitors(func(host string) bool { return hosts[host] }) {
				for _, way := range Ways {
					if step, is := answers.Plain(v.host, sample, way); is && step.Place == line {
						return true
					}
				}
			}
		}
	}
	return false
}
