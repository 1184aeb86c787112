package change

import (
	"errors"
	"fmt"
	"strings"
	"testing"
)

// show writes files in one line each, to compare them by eye and by test.
func show(files []File) string {
	var out strings.Builder
	for _, f := range files {
		fmt.Fprintf(&out, "%c %q<%q", f.Status, f.Path, f.Old)
		if f.Opaque != "" {
			fmt.Fprintf(&out, " opaque:%s", f.Opaque)
		}
		for _, h := range f.Hunks {
			fmt.Fprintf(&out, " -%d,%d+%d,%d%q%q", h.OldStart, h.OldCount, h.NewStart, h.NewCount, h.Removed, h.Added)
		}
		out.WriteByte('\n')
	}
	return out.String()
}

func TestReadUnified(t *testing.T) {
	for _, c := range []struct{ name, diff, want string }{
		{"nothing", "", ""},
		{"nothing but what isn't merged", "* Unmerged path core/tide.c\n", ""},
		{"git, no context", `diff --git a/core/tide.c b/core/tide.c
index 1..2 100644
--- a/core/tide.c
+++ b/core/tide.c
@@ -3 +3,2 @@ int f(void)
-old
+new
+newer
@@ -9,0 +11 @@
+added
@@ -20,2 +21,0 @@
-gone
-gone too
`, `M "core/tide.c"<"core/tide.c" -3,1+3,2["old"]["new" "newer"] -9,0+11,1[]["added"] -20,2+21,0["gone" "gone too"][]`},
		{"context is cut away", `--- a/x.c
+++ b/x.c
@@ -1,7 +1,7 @@
 1
-2
+two
 3
 4
+4.5
 5
-6
 7
`, `M "x.c"<"x.c" -2,1+2,1["2"]["two"] -4,0+5,1[]["4.5"] -6,1+6,0["6"][]`},
		{"added, deleted, renamed, copied, mode", `diff --git a/new.c b/new.c
new file mode 100644
--- /dev/null
+++ b/new.c
@@ -0,0 +1 @@
+x
diff --git a/old.c b/old.c
deleted file mode 100644
--- a/old.c
+++ /dev/null
@@ -1 +0,0 @@
-x
diff --git a/a b.c b/c d.c
similarity index 100%
rename from a b.c
rename to c d.c
diff --git a/p.c b/q.c
copy from p.c
copy to q.c
diff --git a/run me.sh b/run me.sh
old mode 100644
new mode 100755
`, `A "new.c"<"" -0,0+1,1[]["x"]
D "old.c"<"old.c" -1,1+0,0["x"][]
R "c d.c"<"a b.c"
C "q.c"<"p.c"
M "run me.sh"<"run me.sh"`},
		{"binary and submodule", `diff --git a/map.png b/map.png
index 1..2 100644
Binary files a/map.png and b/map.png differ
diff --git a/chart b/chart
index 1..2 160000
--- a/chart
+++ b/chart
@@ -1 +1 @@
-Subproject commit 1
+Subproject commit 2
`, `M "map.png"<"map.png" opaque:binary
M "chart"<"chart" opaque:a submodule -1,1+1,1["Subproject commit 1"]["Subproject commit 2"]`},
		{"quoted names", `diff --git "a/s\303\266lva\tg.c" "b/s\303\266lva\tg.c"
--- "a/s\303\266lva\tg.c"
+++ "b/s\303\266lva\tg.c"
@@ -1 +1 @@
-a
+b
`, `M "sölva\tg.c"<"sölva\tg.c" -1,1+1,1["a"]["b"]`},
		{"no line feed at the end", "--- a/x\n+++ b/x\n@@ -1 +1 @@\n-a\n\\ No newline at end of file\n+b\n\\ No newline at end of file\n",
			`M "x"<"x" -1,1+1,1["a"]["b"]`},
		{"plain diff with time stamps, other text around", "Only in new: y\n--- core/x.c\t2026-10-01 09:00:00\n+++ core/x.c\t2026-10-02 09:00:00\n@@ -1 +1 @@\n-a\n+b\n",
			`M "core/x.c"<"core/x.c" -1,1+1,1["a"]["b"]`},
		{"plain diff of a new file", "--- none/x.c\t1970-01-01\n+++ none/x.c\t2026-10-02\n@@ -0,0 +1 @@\n+b\n", `A "none/x.c"<"" -0,0+1,1[]["b"]`},
		{"another program's headers and properties", `Index: core/x.c
===================================================================
--- core/x.c	(revision 7)
+++ core/x.c	(working copy)
@@ -1 +1 @@
-a
+b
Index: core/new.c
===================================================================
--- core/new.c	(nonexistent)
+++ core/new.c	(working copy)
@@ -0,0 +1 @@
+n

Property changes on: core/new.c
___________________________________________________________________
Added: executable
## -0,0 +1 ##
+*
`, `M "core/x.c"<"core/x.c" -1,1+1,1["a"]["b"]
A "core/new.c"<"" -0,0+1,1[]["n"]`},
		{"another program's revisions", `diff -r 1f2e3d4c core/x.c
--- a/core/x.c	Thu Oct 01 09:00:00 2026 +0000
+++ b/core/x.c	Fri Oct 02 09:00:00 2026 +0000
@@ -1,1 +1,1 @@
-a
+b
`, `M "core/x.c"<"core/x.c" -1,1+1,1["a"]["b"]`},
		{"the diff itself in CR LF", "--- a/x\r\n+++ b/x\r\n@@ -1 +1 @@\r\n-a\r\n+b\r\n", `M "x"<"x" -1,1+1,1["a"]["b"]`},
		{"lines that look like headers", "--- a/x\n+++ b/x\n@@ -1,2 +1,2 @@\n--- a/y\n-diff --git a b\n+++ b/y\n+@@ -1 +1 @@\n",
			`M "x"<"x" -1,2+1,2["-- a/y" "diff --git a b"]["++ b/y" "@@ -1 +1 @@"]`},
	} {
		t.Run(c.name, func(t *testing.T) {
			files, err := ReadUnified(strings.NewReader(c.diff))
			if err != nil {
				t.Fatal(err)
			}
			if got := strings.TrimSpace(show(files)); got != c.want {
				t.Errorf("got\n%s\nwant\n%s", got, c.want)
			}
		})
	}
}

func TestReadUnifiedErrors(t *testing.T) {
	for _, c := range []struct {
		name, diff, say string
		is              error
	}{
		{"no diff", "some\ntext\n", "no file header", ErrPatch},
		{"cut off", "--- a/x\n+++ b/x\n@@ -1,2 +1,2 @@\n-a\n", "the hunk at line 3 is cut off: 1 old and 2 new lines are missing", ErrPatch},
		{"too many lines removed", "--- a/x\n+++ b/x\n@@ -1 +1 @@\n-a\n-b\n+c\n", "line 5", ErrPatch},
		{"bad hunk header", "--- a/x\n+++ b/x\n@@ -1 +z @@\n", "line 3", ErrPatch},
		{"hunks out of order", "--- a/x\n+++ b/x\n@@ -9 +9 @@\n-a\n+b\n@@ -3 +3 @@\n-a\n+b\n", "line 6", ErrPatch},
		{"a file twice", "--- a/x\n+++ b/x\n@@ -1 +1 @@\n-a\n+b\n--- a/x\n+++ b/x\n@@ -2 +2 @@\n-a\n+b\n", "x comes twice", ErrPatch},
		{"combined", "diff --cc x\n", "line 1", ErrCombined},
		{"bad quotes", "diff --git a/x b/x\nrename from \"x\\q\"\n", "line 2", ErrPatch},
	} {
		_, err := ReadUnified(strings.NewReader(c.diff))
		if !errors.Is(err, c.is) || !strings.Contains(err.Error(), c.say) {
			t.Errorf("%s: error %v, want %q", c.name, err, c.say)
		}
	}
}

func FuzzReadUnified(f *testing.F) {
	f.Add("diff --git a/x b/x\n--- a/x\n+++ b/x\n@@ -1,2 +1 @@\n-a\n-b\n+c\n")
	f.Add("--- \"a/\\303\\266\"\n+++ b/x\n@@ -0,0 +1 @@\n+x\n\\ No newline\n")
	f.Fuzz(func(t *testing.T, diff string) {
		files, err := ReadUnified(strings.NewReader(diff))
		if err != nil {
			return
		}
		c := New(files, Rules{Seams: true})
		for _, file := range c.Files {
			for _, h := range file.Hunks {
				if h.OldCount != len(h.Removed) || h.NewCount != len(h.Added) || h.OldCount+h.NewCount == 0 {
					t.Fatalf("hunk counts and lines differ: %+v", h)
				}
			}
			for i, s := range file.Touched {
				if s.First < 1 || s.Last < s.First || i > 0 && s.First <= file.Touched[i-1].Last {
					t.Fatalf("touched lines out of order: %v", file.Touched)
				}
			}
		}
	})
}
