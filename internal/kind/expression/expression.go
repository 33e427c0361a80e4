// Package expression compiles the regular expressions configurations are written
// in (PCRE), as far as the library knows them. Matching is bounded in time.
package expression

import (
	"errors"
	"strings"
	"sync/atomic"
	"time"

	"github.com/dlclark/regexp2"
	"github.com/maypok86/otter/v2"
)

// Bounds of comparing. A machine that is busy with other things does not make an
// expression too slow; one that was too slow a few times is not tried again.
const (
	matchTime = time.Second // for one comparison
	mostSlow  = 2           // comparisons that took too long
)

// Expression is a compiled expression. Safe for concurrent use.
type Expression struct {
	re   *regexp2.Regexp
	slow atomic.Int32 // comparisons that took too long
}

// errSlow stands for a comparison that is not tried.
var errSlow = errors.New("the expression takes too long")

// tried does a comparison, unless the expression is known as too slow.
func tried[T any](e *Expression, do func() (T, error)) (out T, err error) {
	if e.slow.Load() >= mostSlow {
		return out, errSlow
	}
	if out, err = do(); err != nil {
		e.slow.Add(1)
	}
	return out, err
}

// MatchString says whether it matches a text; the error, that this takes too long.
func (e *Expression) MatchString(text string) (bool, error) {
	return tried(e, func() (bool, error) { return e.re.MatchString(text) })
}

// FindStringMatch gives what it matches of a text, nil for nothing; the error says
// that this takes too long.
func (e *Expression) FindStringMatch(text string) (*regexp2.Match, error) {
	return tried(e, func() (*regexp2.Match, error) { return e.re.FindStringMatch(text) })
}

// Replace puts something in the place of what it matches, from a byte on (-1 for the
// beginning) and so often (-1 for all); the error says that this takes too long.
func (e *Expression) Replace(text, by string, from, often int) (string, error) {
	return tried(e, func() (string, error) { return e.re.Replace(text, by, from, often) })
}

// remembered keeps compiled expressions: the same few come again and again.
var remembered = otter.Must(&otter.Options[string, expressionOrError]{MaximumSize: 4096})

// expressionOrError keeps an expression that cannot be compiled beside those
// that can.
type expressionOrError struct {
	re  *Expression // nil with err
	err error       // why it cannot be compiled
}

// Compile makes a regular expression. The error says what the library does not
// understand, which the server may.
func Compile(pattern string) (*Expression, error) {
	if had, ok := remembered.GetIfPresent(pattern); ok {
		return had.re, had.err
	}
	re, err := regexp2.Compile(strings.ReplaceAll(pattern, "(?P<", "(?<"), regexp2.None)
	if err != nil {
		remembered.Set(pattern, expressionOrError{nil, err})
		return nil, err
	}
	re.MatchTimeout = matchTime
	e := &Expression{re: re}
	remembered.Set(pattern, expressionOrError{e, nil})
	return e, nil
}
