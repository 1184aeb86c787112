package syntax

import (
	"bytes"
	"errors"
	"fmt"
	"io"

	"go.yaml.in/yaml/v4"
	"go.yaml.in/yaml/v4/plugin/loaderlimits"

	"zincdoor/internal/core/house"
)

// The bounds of YAML. A text beyond them is refused with an error.
const (
	deepestYAML = 1000    // collections one in the other
	MostYAML    = 8 << 20 // bytes
)

// YAML reads the documents of a text. Empty ones, which hold nothing but comments, are left out. The error is a
// *yaml.LoadError where the library tells the place.
func YAML(data []byte) ([]*yaml.Node, error) {
	if len(data) > MostYAML {
		return nil, fmt.Errorf("it has more than %d MiB", MostYAML>>20)
	}
	if bytes.HasPrefix(data, []byte("%YAML 1.2")) { // which the library reads, but not by that name
		data = bytes.Replace(data, []byte("%YAML 1.2"), []byte("%YAML 1.1"), 1)
	}
	loader, err := yaml.NewLoader(bytes.NewReader(data), yaml.WithPlugin(loaderlimits.New(loaderlimits.DepthValue(deepestYAML))))
	var documents []*yaml.Node
	for err == nil {
		var document yaml.Node
		if err = loader.Load(&document); err == nil && len(document.Content) > 0 {
			documents = append(documents, document.Content[0])
		}
	}
	if err == io.EOF {
		return documents, nil
	}
	return nil, err
}

func readYAML(data []byte) *house.Flaw {
	if bytes.Contains(data, []byte("{{")) || bytes.Contains(data, []byte("{%")) {
		return nil // a template, which is YAML only when it is filled in
	}
	_, err := YAML(data)
	if err == nil {
		return nil
	}
	var broken *yaml.LoadError
	if !errors.As(err, &broken) {
		return &house.Flaw{Text: "this YAML can't be read: " + err.Error()}
	}
	line := broken.Mark.Line
	if broken.ContextMsg != "" { // where what can't be read begins
		line = broken.ContextMark.Line
	}
	return &house.Flaw{Line: min(line, bytes.Count(data, []byte{'\n'})+1), Text: "this YAML can't be read: " + broken.Message}
}
