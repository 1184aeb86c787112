// Package syntax knows whether a text is well-formed JSON, YAML, TOML or XML, and where it isn't. It is what the house
// checks on syntax are made with, and what reads the YAML of policies.
package syntax

import (
	"zincdoor/internal/core/house"
)

// Parsers are the readers of the house checks on syntax, by their names.
var Parsers = house.Parsers{
	"json-syntax": readJSON,
	"yaml-syntax": readYAML,
	"toml-syntax": readTOML,
	"xml-syntax":  readXML,
}
