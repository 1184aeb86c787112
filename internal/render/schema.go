package render

import (
	_ "embed"
	"encoding/json"

	"zincdoor/internal/verdictfile"
)

var (
	//go:embed review.schema.json
	reviewSchema []byte
	//go:embed verified.schema.json
	verifiedSchema []byte
)

// Schemas give the JSON Schemas (2020-12) of what is written for programs, by name.
func Schemas() map[string]func() []byte {
	return map[string]func() []byte{
		"verdict": func() []byte { return verdictfile.Schema }, "findings": findingsSchema, Review: func() []byte { return reviewSchema },
		"verified": func() []byte { return verifiedSchema },
	}
}

// findingsSchema is that of a list of whole findings, and of each line of one: findings are as in a verdict.
func findingsSchema() []byte {
	var verdict struct {
		Schema string          `json:"$schema"`
		Defs   json.RawMessage `json:"$defs"`
	}
	if err := json.Unmarshal(verdictfile.Schema, &verdict); err != nil {
		panic(err)
	}
	type ref struct {
		Type  string `json:"type,omitempty"`
		Ref   string `json:"$ref,omitempty"`
		Items *ref   `json:"items,omitempty"`
	}
	finding := &ref{Ref: "#/$defs/finding"}
	text, err := json.MarshalIndent(struct {
		Schema      string          `json:"$schema"`
		Title       string          `json:"title"`
		Description string          `json:"description"`
		AnyOf       []ref           `json:"anyOf"`
		Defs        json.RawMessage `json:"$defs"`
	}{
		verdict.Schema, "Findings", "what zincdoor findings --format json writes, and each line of --format jsonl; without --fields",
		[]ref{{Type: "array", Items: finding}, *finding}, verdict.Defs,
	}, "", "  ")
	if err != nil {
		panic(err)
	}
	return append(text, '\n')
}
