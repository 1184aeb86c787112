package report

import (
	"slices"
	"strings"
	"testing"
)

func TestFindMapping(t *testing.T) {
	files := []string{"core/tide.c", "core/gauge.c", "fares/ticket.go", "fares/zone.go", "boards/zone.go", "main.c", "README.md"}
	for _, c := range []struct {
		name    string
		strange []string
		want    Mapping
		ok      bool
	}{
		{"another machine's root", []string{"/builds/7/tideboard/core/tide.c", "/builds/7/tideboard/main.c"}, Mapping{Strip: "/builds/7/tideboard"}, true},
		{"a drive letter", []string{"C:/tideboard/fares/ticket.go"}, Mapping{Strip: "C:/tideboard"}, true},
		{"with files of elsewhere", []string{"/b/core/tide.c", "/b/deps/x.h"}, Mapping{Strip: "/b"}, true},
		{"the folder the linter ran in", []string{"tide.c", "gauge.c"}, Mapping{Add: "core"}, true},
		{"two folders fit", []string{"zone.go"}, Mapping{Add: "boards"}, true},
		{"a second file decides", []string{"zone.go", "ticket.go"}, Mapping{Add: "fares"}, true},
		{"a parent folder", []string{"src/core/tide.c"}, Mapping{Strip: "src"}, true},
		{"a bare name of another folder", []string{"/builds/7/tide.c"}, Mapping{}, false},
		{"one root file of many", []string{"/x/README.md", "/x/a/b.c", "/x/a/c.c"}, Mapping{}, false},
		{"the only file", []string{"/x/main.c"}, Mapping{Strip: "/x"}, true},
		{"two roots fit, one shorter", []string{"/app/core/main.c"}, Mapping{Strip: "/app/core"}, true},
		{"a system's folder as root", []string{"/usr/src/app/main.c", "/usr/include/math.h", "/usr/include/time.h"}, Mapping{Strip: "/usr/src/app"}, true},
		{"nothing alike", []string{"/x/y.z"}, Mapping{}, false},
	} {
		got, ok := FindMapping(c.strange, files, func(p string) bool { return strings.HasPrefix(p, "/usr/") })
		if ok != c.ok || ok && got.Mapping != c.want {
			t.Errorf("%s: %+v %v, want %+v %v", c.name, got, ok, c.want, c.ok)
		}
	}
}

func TestRootMapping(t *testing.T) {
	for _, c := range []struct{ root, path, want string }{
		{"core", "./tide.c", "core/tide.c"},
		{".", "core/tide.c", "core/tide.c"},
		{"/builds/7/", "/builds/7/core/tide.c", "core/tide.c"},
		{`C:\tide board`, "C:/tide board/core/tide.c", "core/tide.c"},
		{"/builds/7", "/builds/77/core/tide.c", ""},
		{"core", "/core/tide.c", ""},
	} {
		if got, _ := RootMapping(c.root).Apply(c.path); got != c.want {
			t.Errorf("%s from %s: %q, want %q", c.path, c.root, got, c.want)
		}
	}
}

// TestRivals: of several roots that fit as well the shortest is taken, and the others are told.
func TestRivals(t *testing.T) {
	never := func(string) bool { return false }
	got, ok := FindMapping([]string{"zone.go"}, []string{"fares/zone.go", "boards/zone.go", "go/zone.go"}, never)
	if !ok || got.Add != "boards" || !slices.Equal(got.Rivals, []Mapping{{Add: "boards"}, {Add: "fares"}, {Add: "go"}}) {
		t.Errorf("%+v", got)
	}
	got, ok = FindMapping([]string{"/app/core/tide.c"}, []string{"tide.c", "core/tide.c"}, never)
	if !ok || got.Strip != "/app" || !slices.Equal(got.Rivals, []Mapping{{Strip: "/app/core"}}) {
		t.Errorf("%+v", got)
	}
}

// TestNameForms: a name that fits two files fits none.
func TestNameForms(t *testing.T) {
	composed, folded := NameForms[0].Index([]string{"core/s\u00f6l.c"}), NameForms[1].Index([]string{"core/Tide.c", "a.c", "A.c"})
	if got := composed[NameForms[0]("core/./so\u0308l.c")]; got != "core/s\u00f6l.c" {
		t.Errorf("found %q", got)
	}
	if got := folded[NameForms[1]("Core/./tide.C")]; got != "core/Tide.c" {
		t.Errorf("found %q", got)
	}
	if got := folded[NameForms[1]("a.C")]; got != "" {
		t.Errorf("found %q among two", got)
	}
	if Loosest("SO\u0308L.c") != Loosest("s\u00f6l.c") || Loosest("a.c") == Loosest("b.c") {
		t.Error("names that are the same")
	}
}
