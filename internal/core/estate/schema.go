package estate

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"fmt"
	"strings"
)

//go:embed schema.json
var schema []byte

// What stands in schema.json for what the kinds of server bring.
const (
	kindsMark    = `"@kinds"`
	unsaidMark   = `"@unsaid"`
	reachedMark  = `@reached`
	mainsMark    = `@mains`
	commandsMark = `"@commands": {}`
)

// Schema is the JSON Schema (2020-12) of the estate file, for editors.
func Schema(kinds Kinds) []byte {
	quote := func(s string) string {
		b, _ := json.Marshal(s) // a string is always JSON
		return string(b)
	}
	names, mains := make([]string, len(kinds)), []string{}
	for i, k := range kinds {
		names[i] = quote(k.Name)
		if k.Main != "" {
			mains = append(mains, k.Main+" of "+k.Name)
		}
	}
	var commands []string
	for _, c := range kinds.commands() {
		commands = append(commands,
			fmt.Sprintf(`"%s": {"type": "string", "minLength": 1, "maxLength": 1000, "description": %s}`, c.Key,
				quote(c.Meaning)))
	}
	out := schema
	for mark, with := range map[string]string{
		kindsMark: strings.Join(names, ", "), unsaidMark: quote(kinds.unsaid()), reachedMark: kinds.reached(),
		mainsMark:    strings.Join(mains, ", "),
		commandsMark: strings.Join(commands, ",\n              "),
	} {
		out = bytes.ReplaceAll(out, []byte(mark), []byte(with))
	}
	return out
}
