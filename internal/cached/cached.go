// Package cached knows the form in which the program keeps values for itself, to read them back in a later run of the same build:
// CBOR (RFC 8949).
package cached

import (
	"math"
	"sync"

	"github.com/fxamacker/cbor/v2"
)

// Marshal writes a value.
func Marshal(v any) ([]byte, error) { return cbor.Marshal(v) }

// decoding takes whatever was kept: texts needn't be UTF-8, and lists may be long.
var decoding = sync.OnceValues(cbor.DecOptions{UTF8: cbor.UTF8DecodeInvalid, MaxArrayElements: math.MaxInt32, MaxMapPairs: math.MaxInt32}.DecMode)

// Unmarshal reads what Marshal wrote into v, a pointer. What doesn't hold together is an error.
func Unmarshal(data []byte, v any) error {
	mode, err := decoding()
	if err != nil {
		return err
	}
	return mode.Unmarshal(data, v)
}
