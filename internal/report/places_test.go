package report

import (
	"slices"
	"strings"
	"testing"
)

func TestFind(t *testing.T) {
	files := []string{"core/tide.c", "core/inc/low.h", "fares/a.go"}
	links := map[string]string{
		"tide.c": "core/tide.c", "inc": "core/inc", "loop": ".", "core/up": "..", "twice": "inc/low.h", "all": "/srv/tideboard/core", "out": "/usr/include/x.h", "gone.c": "core/none.c", "round": "round", "dir": "core", "far": "../other/x.c", "new.c": "core/tide.c", "newdir": "core",
	}
	p := Places{
		Root: "/srv/tideboard", Folder: "core",
		Has: func(path string) bool { return slices.Contains(files, path) },
		HasFolder: func(path string) bool {
			return slices.ContainsFunc(files, func(f string) bool { return strings.HasPrefix(f, path+"/") })
		},
		Link:    func(path string) (string, bool) { to, ok := links[path]; return to, ok },
		Altered: func(path string) bool { return path == "new.c" || path == "newdir" },
		OnDisk:  func(path string) bool { return path == "build/gen.c" },
	}
	inside := func(path string) Found { return Found{Path: path, Inside: true} }
	for _, c := range []struct {
		reported, relative string
		want               Found
	}{
		{"core/tide.c", "", inside("core/tide.c")},
		{"./core/../fares/a.go", "", inside("fares/a.go")},
		{"../fares/a.go", "", inside("fares/a.go")},
		{"/srv/tideboard/core/tide.c", "", inside("core/tide.c")},
		{"/srv/tideboard/core/./inc/../tide.c", "", inside("core/tide.c")},
		{"/builds/7/core/tide.c", "core/tide.c", inside("core/tide.c")},
		{"tide.c", "", inside("core/tide.c")},
		{"inc/low.h", "", inside("core/inc/low.h")},
		{"inc/../tide.c", "", inside("core/tide.c")}, // as a system opens it
		{"loop/loop/core/tide.c", "", inside("core/tide.c")},
		{"core/up/core/up/fares/a.go", "", inside("fares/a.go")},
		{"twice", "", inside("core/inc/low.h")},
		{"all/tide.c", "", inside("core/tide.c")},
		{"/srv/tideboard/inc/low.h", "", inside("core/inc/low.h")},
		{"out", "", inside("out")}, // a link of the tree, which leads nowhere in it
		{"gone.c", "", inside("gone.c")},
		{"far", "", inside("far")},
		{"new.c", "", inside("new.c")},
		{"loop/newdir/tide.c", "", inside("newdir")},
		{"round", "", Found{Path: "round"}},
		{"dir", "", Found{Path: "dir"}},
		{"loop", "", Found{Path: "loop"}},
		{"core", "", Found{Path: "core"}},
		{"/builds/7/core/tide.c", "", Found{Path: "/builds/7/core/tide.c"}},
		{"build/gen.c", "", Found{Path: "build/gen.c", OnDisk: true}},
		{"/usr/include/math.h", "", Found{Path: "/usr/include/math.h", Outside: true}},
		{"/usrlocal/math.h", "", Found{Path: "/usrlocal/math.h"}},
		{"/root/go/pkg/mod/x@v1/a.go", "", Found{Path: "/root/go/pkg/mod/x@v1/a.go", Outside: true}},
		{"<stdin>", "", Found{Path: "<stdin>"}},
		{"../../etc/passwd", "", Found{Path: "../../etc/passwd"}},
	} {
		if got := p.Find(c.reported, c.relative); got != c.want {
			t.Errorf("%s is %+v, want %+v", c.reported, got, c.want)
		}
	}
	p.Outside = []string{"/opt/sdk/"}
	for reported, outside := range map[string]bool{"/opt/sdk/x.h": true, "/opt/sdk2/x.h": false, "/usr/include/x.h": false} {
		if got := p.Find(reported, ""); got.Outside != outside {
			t.Errorf("%s is %+v where the policy says what lies outside", reported, got)
		}
	}
}
