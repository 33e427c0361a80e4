package kind

import (
	"io/fs"

	"insegna.example/internal/install"
)

// Suites are the cipher suites of BCP 195 (RFC 9325 section 4.2) for TLS 1.2, as OpenSSL
// writes them.
const Suites = "ECDHE-ECDSA-AES128-GCM-SHA256:ECDHE-RSA-AES128-GCM-SHA256:ECDHE-ECDSA-AES256-GCM-SHA384:" +
	"ECDHE-RSA-AES256-GCM-SHA384:ECDHE-ECDSA-CHACHA20-POLY1305:ECDHE-RSA-CHACHA20-POLY1305"

// Settler is an Editor that can set what TLS sites speak.
type Settler interface {
	// Settle works out the least change that lets sites speak TLS 1.2 and 1.3 alone
	// (RFC 9325 section 3.1.1), with the suites of BCP 195 alone, or send along what the CA
	// says of their certificate, whatever is declared around them. A *EditError says why a site is not changed.
	Settle(fsys fs.FS, main string, list []Settled) (*Edits, error)
}

// Settled is a site whose TLS is set.
type Settled struct {
	Site     Place // whose certificate is shown
	Listener Place // line that opens its address
	Default  Place // of the site that answers there when none is named
	Versions bool  // of TLS are set
	Suites   bool  // are set
	Stapling bool  // is switched on: the server asks the CA whether the certificate is good (RFC 6066 section 8)
}

// Then joins edits with others that were worked out on what they lead to.
func (e *Edits) Then(next *Edits) *Edits {
	out := &Edits{Files: append([]install.File{}, e.Files...), Links: append(append([]install.Link{}, e.Links...), next.Links...),
		Loads: append(append([]Load{}, e.Loads...), next.Loads...), Sites: map[Place]Place{}}
	for _, f := range next.Files {
		joined := false
		for i := range out.Files {
			if out.Files[i].Path == f.Path {
				out.Files[i].After, joined = f.After, true
			}
		}
		if !joined {
			out.Files = append(out.Files, f)
		}
	}
	between := map[Place]bool{}
	for was, is := range e.Sites {
		out.Sites[was] = next.Site(is)
		between[is] = true
	}
	for was, is := range next.Sites {
		if _, met := out.Sites[was]; !met && !between[was] {
			out.Sites[was] = is
		}
	}
	return out
}
