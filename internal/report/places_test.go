package report

import (
	"slices"
	"testing"
)

func TestFind(t *testing.T) {
	p := Places{
		Root: "/srv/tideboard", Folder: "core",
		Has:    func(path string) bool { return slices.Contains([]string{"core/tide.c", "fares/a.go"}, path) },
		OnDisk: func(path string) bool { return path == "build/gen.c" },
	}
	for _, c := range []struct {
		reported, relative string
		want               Found
	}{
		{"core/tide.c", "", Found{"core/tide.c", true, false}},
		{"./core/../fares/a.go", "", Found{"fares/a.go", true, false}},
		{"tide.c", "", Found{"core/tide.c", true, false}},
		{"../fares/a.go", "", Found{"fares/a.go", true, false}},
		{"/srv/tideboard/core/tide.c", "", Found{"core/tide.c", true, false}},
		{"/builds/7/core/tide.c", "core/tide.c", Found{"core/tide.c", true, false}},
		{"/builds/7/core/tide.c", "", Found{"/builds/7/core/tide.c", false, true}},
		{"build/gen.c", "", Found{"build/gen.c", false, false}},
		{"/usr/include/math.h", "", Found{"/usr/include/math.h", false, false}},
		{"/root/go/pkg/mod/x@v1/a.go", "", Found{"/root/go/pkg/mod/x@v1/a.go", false, false}},
		{"../../etc/passwd", "", Found{"../../etc/passwd", false, true}},
	} {
		if got := p.Find(c.reported, c.relative); got != c.want {
			t.Errorf("%s is %+v, want %+v", c.reported, got, c.want)
		}
	}
}
