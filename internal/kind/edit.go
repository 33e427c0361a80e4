package kind

import "fmt"

// Wanted is what a site is to show.
type Wanted struct {
	Site             Place // of the site, as a reading gives it
	Certificate, Key string
	Port             uint16 // for https, where the site speaks plain http alone
	Proofs           string // folder for files of http-01, where the site has none that is served
}

// Edit is one file of a configuration before and after a change.
type Edit struct {
	Path   string `json:"path"` // where the file itself lies, links followed
	Before string `json:"before"`
	After  string `json:"after"`
}

// EditError says why a site is not changed, and where that is written.
type EditError struct {
	Place
	Reason, Remedy string
}

func (e *EditError) Error() string { return fmt.Sprintf("%s: %s", e.Place, e.Reason) }
