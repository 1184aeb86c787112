package render

import _ "embed"

var (
	//go:embed verdict.schema.json
	verdictSchema []byte
	//go:embed review.schema.json
	reviewSchema []byte
)

// Schemas are the JSON Schemas (2020-12) of what is written for programs, by name.
func Schemas() map[string][]byte {
	return map[string][]byte{"verdict": verdictSchema, Review: reviewSchema}
}
