// Package place says where something is written: file, line and column.
//
// A place stays a place until it is shown, so that whoever needs the file or
// the line does not read it back out of a text.
package place

import (
	"fmt"
)

// Place is a position in a file. Lines and columns count from 1, columns in
// bytes; 0 is not known.
type Place struct {
	File   string `json:"file"`   // as it is named where it was read
	Line   int    `json:"line"`   // from 1; 0 for the file as a whole
	Column int    `json:"column"` // in bytes from 1; 0 when it does not matter
}

// String is "file:line", or the file alone when the line is not known; "" for
// no place.
func (p Place) String() string {
	if p.Line == 0 {
		return p.File
	}
	return fmt.Sprintf("%s:%d", p.File, p.Line)
}

// Full is "file:line:column", as editors take it.
func (p Place) Full() string { return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column) }

// Known says whether there is a place at all.
func (p Place) Known() bool { return p.File != "" }

// AtLine is the place without its column, under which a line is one thing.
func (p Place) AtLine() Place { return Place{File: p.File, Line: p.Line} }
