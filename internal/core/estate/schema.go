package estate

import _ "embed"

// Schema is the JSON Schema (2020-12) of the estate file, for editors.
//
//go:embed schema.json
var Schema []byte
