package report

import "testing"

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
		{"two folders fit", []string{"zone.go"}, Mapping{}, false},
		{"a second file decides", []string{"zone.go", "ticket.go"}, Mapping{Add: "fares"}, true},
		{"a parent folder", []string{"src/core/tide.c"}, Mapping{Strip: "src"}, true},
		{"a bare name of another folder", []string{"/builds/7/tide.c"}, Mapping{}, false},
		{"one root file of many", []string{"/x/README.md", "/x/a/b.c", "/x/a/c.c"}, Mapping{}, false},
		{"the only file", []string{"/x/main.c"}, Mapping{Strip: "/x"}, true},
		{"nothing alike", []string{"/x/y.z"}, Mapping{}, false},
	} {
		got, ok := FindMapping(c.strange, files)
		if ok != c.ok || ok && got != c.want {
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

func TestFold(t *testing.T) {
	fold := NewFold([]string{"core/Tide.c", "a.c", "A.c"})
	if got, ok := fold.Find("Core/./tide.C"); !ok || got != "core/Tide.c" {
		t.Errorf("found %q", got)
	}
	if got, ok := fold.Find("a.C"); ok {
		t.Errorf("found %q among two", got)
	}
}
