package syntax

import (
	"bytes"
	"errors"
	"fmt"

	"github.com/BurntSushi/toml"

	"zincdoor/internal/core/house"
	"zincdoor/internal/memory"
)

// The bounds of TOML. What is nested deeper is refused, since reading it takes time and memory that grow with the square of the depth;
// a longer text isn't looked at. Reading takes memory of up to 150 times a text's length.
const (
	deepestTOML = 200     // arrays, inline tables, or parts of a dotted key
	mostTOML    = 8 << 20 // bytes, where there is memory for it
	tomlPart    = 200     // of the memory there is
)

func readTOML(data []byte) *house.Flaw {
	if most := memory.Share(mostTOML, tomlPart); int64(len(data)) > most {
		return &house.Flaw{Unread: true, Text: fmt.Sprintf("it is over %d KiB long", most>>10)}
	}
	if at := tooDeepTOML(data); at >= 0 {
		return &house.Flaw{Line: bytes.Count(data[:at], []byte{'\n'}) + 1, Text: fmt.Sprintf("this TOML can't be read: it is nested more than %d deep", deepestTOML)}
	}
	var into map[string]any
	_, err := toml.Decode(string(data), &into)
	var parse toml.ParseError
	if err == nil || !errors.As(err, &parse) {
		return nil
	}
	return &house.Flaw{Line: parse.Position.Line, Column: parse.Position.Col, Text: "this TOML can't be read: " + parse.Message}
}

// tooDeepTOML is the byte at which a text is nested too deep, -1 for none. What is in strings and comments doesn't count.
func tooDeepTOML(data []byte) int {
	depth, parts := 0, 0
	for i := 0; i < len(data); i++ {
		switch c := data[i]; c {
		case '#':
			for i+1 < len(data) && data[i+1] != '\n' {
				i++
			}
		case '"', '\'':
			i = stringEndTOML(data, i)
		case '[', '{':
			depth, parts = depth+1, 0
		case ']', '}':
			depth, parts = max(depth-1, 0), 0
		case '=', ',', '\n':
			parts = 0
		case '.':
			parts++
		}
		if depth > deepestTOML || parts > deepestTOML {
			return i
		}
	}
	return -1
}

// stringEndTOML is the last byte of a string that begins at i: of a line, or of several where its quote is threefold (TOML 1.0, String).
func stringEndTOML(data []byte, i int) int {
	quote := data[i : i+1]
	end, lines := i+1, false
	if three := bytes.Repeat(quote, 3); bytes.HasPrefix(data[i:], three) {
		quote, end, lines = three, i+3, true
	}
	for end < len(data) {
		switch {
		case bytes.HasPrefix(data[end:], quote):
			return end + len(quote) - 1
		case data[end] == '\\' && quote[0] == '"':
			end++
		case data[end] == '\n' && !lines:
			return end - 1
		}
		end++
	}
	return len(data) - 1
}
