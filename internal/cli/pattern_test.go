package cli

import (
	"testing"

	"zincdoor/internal/core/pattern"
)

// TestPatterns: every regular expression of the program can be made.
func TestPatterns(t *testing.T) {
	for _, p := range pattern.All() {
		p.Regexp()
	}
	if n := len(pattern.All()); n < 100 {
		t.Errorf("there are only %d", n)
	}
}
