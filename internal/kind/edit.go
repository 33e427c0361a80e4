package kind

import (
	"fmt"
	"io/fs"
	"net/netip"
	"path"
	"regexp"
	"slices"
	"strings"

	"insegna.example/internal/install"
	"insegna.example/internal/reach"
)

// Editor changes a configuration and writes a copy of it to be tested.
type Editor interface {
	// Edit works out the least change that makes sites show certificates and
	// leaves everybody else what they get. A *EditError says why a site is not
	// changed.
	Edit(fsys fs.FS, main string, list []Wanted) (*Edits, error)
	// Free works out the least change that lets sites serve the files of http-01
	// (RFC 8555 section 8.3) for some hosts, whatever other rules the sites have,
	// and leaves everything else as it is. A *EditError says why a site is not
	// changed.
	Free(fsys fs.FS, main string, list []Freed) (*Edits, error)
	// Copy writes the whole configuration, edits made, as one text in which the
	// words of a map stand in the place of others. A *Problem says what cannot be
	// read, so that there is no copy.
	Copy(fsys fs.FS, main string, edits []install.File, words map[string]string) (*Copy, error)
	// OnFile is the command that tests a configuration led to another file; ""
	// when it cannot be led there.
	OnFile(command, main, other string) string
}

// Adder is an Editor that can load one more certificate where no site is for its
// names.
type Adder interface {
	// More gives the lines of listeners that take one more, of those at ports that are
	// meant.
	More(r *Reading, meant func(port uint16) bool) []Place
}

// Edits are what changes in a configuration.
type Edits struct {
	Files []install.File  // whole, before and after; none when all is as wanted
	Links []install.Link  // that are laid, or take the place of files
	Loads []Load          // where the configuration goes on naming the certificate by a path of its own
	Sites map[Place]Place // where sites stand after the edits, by where they stood
	// Stapled says that the server sends the CA's answer along from the file that was
	// wanted for it
	Stapled bool
}

// Load is a certificate by the path a configuration names, where other bytes come to
// lie.
type Load struct {
	Path string `json:"path"`           // as the server knows it, absolute
	Into string `json:"into,omitempty"` // the list or folder it is new in
	Line string `json:"line,omitempty"` // of that list
}

// Loaded says whether a path is one that comes to hold the new certificate.
func (e *Edits) Loaded(p string) bool {
	return slices.ContainsFunc(e.Loads, func(l Load) bool { return l.Path == p })
}

// Site gives where a site stands after the edits.
func (e *Edits) Site(before Place) Place {
	if at, moved := e.Sites[before]; moved {
		return at
	}
	return before
}

// Wanted is what a site is to show.
type Wanted struct {
	Site             Place  // of the site, as a reading gives it
	Certificate, Key string // paths the site is to name
	Port             uint16 // for https, where the site speaks plain http alone
	Proofs           string // folder for files of http-01, where the site has none that is served
	Listener         string // address and port of what answers a CA beside the server; "" for nobody
	Aside            string // folder for files whose place is taken
	Staple           string // path of the CA's answer that it is good; "" for none
	// More says that the site is a listener's line that takes further certificates, and
	// no site is for the names yet
	More bool
	// Keep says that the certificate stays, with what is sent behind it, and only the
	// key is another
	Keep bool
	// of the server, as the estate declares them; a listener at every one of them
	// is opened one by one where some are opened already
	Addresses []netip.Addr
}

// Freed is a site that is to serve the files of http-01.
type Freed struct {
	Site   Place    // of the site, as a reading gives it
	Hosts  []string // it answers for, and a CA asks
	Proofs string   // folder the files lie under
	// Listener is the address and port of what answers a CA beside the server; "" for
	// nobody
	Listener string
}

// Copy is a configuration as one text.
type Copy struct {
	Text      string                       // the whole configuration
	Beside    []Beside                     // files it names
	Translate func(said, at string) string // what a test said of the copy at a path, with the places it was copied from
}

// Beside is a file that lies beside a copy.
type Beside struct {
	Mark string // stands for its path in the copy
	Text string
}

// EditError says why a site is not changed, and where that is written.
type EditError struct {
	Place
	Reason, Remedy string // why it cannot be edited, and what to do
	Preparable     bool   // a destination can do that
}

// Error names the place that stands in the way.
func (e *EditError) Error() string { return fmt.Sprintf("%s: %s", e.Place, e.Reason) }

// severalCommands are characters of a shell's line that is more than one plain
// command.
var severalCommands = regexp.MustCompile("[;&|<>`\n(){}#]")

// OnFile leads a test to another file: where the command names the main file, that
// is exchanged; a plain command of one of the programs is told the file by a flag
// at its end, where the last word counts. "" when it cannot be led there.
func OnFile(command, main, other, flag string, programs ...string) string {
	named := regexp.MustCompile(`(^|[\s='"])` + regexp.QuoteMeta(main) + `($|[\s'"])`)
	if named.MatchString(command) {
		return named.ReplaceAllStringFunc(command, func(s string) string { return strings.Replace(s, main, other, 1) })
	}
	words := strings.Fields(command)
	for n, w := range words {
		if slices.Contains(programs, path.Base(w)) && n < len(words)-1 && !severalCommands.MatchString(command) {
			return command + " " + flag + " " + reach.Quoted(other)
		}
	}
	return ""
}
