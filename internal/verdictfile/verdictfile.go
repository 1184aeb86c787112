// Package verdictfile knows a verdict as the JSON document verdict/1: it writes one, and reads one back as far as the document
// goes.
package verdictfile

import _ "embed"

// Version is what a document calls itself.
const Version = "verdict/1"

// Schema is the JSON Schema (2020-12) of the document.
//
//go:embed schema.json
var Schema []byte
