// Package core_test holds the core to what it may know.
package core_test

import (
	"os/exec"
	"slices"
	"strings"
	"testing"
)

// TestImports: the core is built from nothing but itself, what computes, and a few packages that only match and measure
// text. So it knows no command line, repository, file format, process or network.
func TestImports(t *testing.T) {
	const self = "zincdoor/internal/core/"
	allowed := []string{"deps.dev/util/semver", "github.com/bmatcuk/doublestar/v4", "github.com/rivo/uniseg"}
	refused := []string{"os/exec", "os/signal", "net", "net/http", "flag", "text/template", "html/template", "encoding/xml", "encoding/csv", "encoding/gob", "log"}
	list := exec.Command("go", "list", "-deps", "-f", "{{if .Standard}}standard{{else}}module{{end}} {{.ImportPath}}", "./...")
	out, err := list.Output()
	if err != nil {
		t.Fatal(err)
	}
	ours := 0
	for line := range strings.Lines(string(out)) {
		kind, path, _ := strings.Cut(strings.TrimSpace(line), " ")
		switch {
		case strings.HasPrefix(path+"/", self):
			ours++
		case kind == "module" && !slices.Contains(allowed, path), kind == "standard" && slices.Contains(refused, path):
			t.Errorf("the core imports %s", path)
		}
	}
	if ours < 10 {
		t.Errorf("only %d packages of the core were looked at", ours)
	}
}
