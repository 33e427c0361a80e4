// Package expression compiles the regular expressions configurations are written
// in (PCRE), as far as the library knows them. Matching is bounded in time.
package expression

import (
	"strings"
	"time"

	"github.com/dlclark/regexp2"
	"github.com/maypok86/otter/v2"
)

// matchTime bounds one comparison with a regular expression.
const matchTime = 200 * time.Millisecond

// remembered keeps compiled expressions: the same few come again and again.
var remembered = otter.Must(&otter.Options[string, expressionOrError]{MaximumSize: 4096})

// expressionOrError keeps an expression that cannot be compiled beside those
// that can.
type expressionOrError struct {
	re  *regexp2.Regexp // nil with err
	err error           // why it cannot be compiled
}

// Compile makes a regular expression. The error says what the library does not
// understand, which the server may.
func Compile(pattern string) (*regexp2.Regexp, error) {
	if had, ok := remembered.GetIfPresent(pattern); ok {
		return had.re, had.err
	}
	re, err := regexp2.Compile(strings.ReplaceAll(pattern, "(?P<", "(?<"), regexp2.None)
	if err == nil {
		re.MatchTimeout = matchTime
	}
	remembered.Set(pattern, expressionOrError{re, err})
	return re, err
}
