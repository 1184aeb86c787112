package measure

import (
	"fmt"
	"go/ast"
	"go/parser"
	gotoken "go/token"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"zincdoor/internal/core/change"
)

// TestGo: in the library that comes with Go, nearly all functions have the numbers that the language's own parser gives.
func TestGo(t *testing.T) {
	out, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		t.Fatal(err)
	}
	var functions, differ int
	for _, folder := range []string{"net/http", "go/types", "encoding/json", "runtime", "cmd/go/internal/load", "math/big", "text/template", "database/sql"} {
		files, err := filepath.Glob(filepath.Join(strings.TrimSpace(string(out)), "src", folder, "*.go"))
		if err != nil || len(files) == 0 {
			t.Fatal(folder, err)
		}
		for _, file := range files {
			text, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			want := parsed(t, file, text)
			got := map[int]Function{}
			for _, f := range Of(file, text).Functions {
				got[f.First] = f
			}
			for _, f := range want {
				functions++
				if g := got[f.First]; g != f {
					if differ++; differ < 20 {
						t.Logf("%s:%d: %+v, and by the parser %+v", file, f.First, g, f)
					}
				}
				delete(got, f.First)
			}
			for line, f := range got {
				if at := strings.Split(string(text), "\n")[line-1]; !strings.Contains(at, f.Name) || !strings.Contains(at, " func(") {
					t.Errorf("%s:%d: %s is no function", file, line, f.Name)
				}
			}
		}
	}
	t.Logf("%d of %d differ", differ, functions)
	if differ*100 > functions {
		t.Errorf("%d of %d functions have other numbers", differ, functions)
	}
}

// parsed are the functions of a file by the language's own parser.
func parsed(t *testing.T, file string, text []byte) (all []Function) {
	set := gotoken.NewFileSet()
	tree, err := parser.ParseFile(set, file, text, parser.SkipObjectResolution)
	if err != nil {
		t.Fatal(err)
	}
	for _, d := range tree.Decls {
		fn, ok := d.(*ast.FuncDecl)
		if !ok || fn.Body == nil {
			continue
		}
		f := Function{Name: fn.Name.Name, Span: change.Span{First: set.Position(fn.Pos()).Line, Last: set.Position(fn.End()).Line}}
		if fn.Recv != nil {
			f.Name = receiverOf(fn.Recv.List[0].Type) + "." + f.Name
		}
		f.Parameters = fn.Type.Params.NumFields()
		var walk func(n ast.Node, deep int)
		walk = func(n ast.Node, deep int) {
			inside := deep
			switch n := n.(type) {
			case *ast.IfStmt:
				f.Decisions++
				inside++
				walkAll(walk, inside, n.Init, n.Cond, n.Body)
				if chained, ok := n.Else.(*ast.IfStmt); ok {
					walk(chained, deep)
				} else if n.Else != nil {
					walk(n.Else, inside)
				}
				f.Nesting = max(f.Nesting, inside)
				return
			case *ast.ForStmt, *ast.RangeStmt:
				f.Decisions++
				inside++
			case *ast.SwitchStmt, *ast.TypeSwitchStmt, *ast.SelectStmt:
				inside++
			case *ast.CaseClause:
				if n.List != nil {
					f.Decisions++
				}
			case *ast.CommClause:
				if n.Comm != nil {
					f.Decisions++
				}
			case *ast.BinaryExpr:
				if n.Op == gotoken.LAND || n.Op == gotoken.LOR {
					f.Decisions++
				}
			}
			f.Nesting = max(f.Nesting, inside)
			ast.Inspect(n, func(c ast.Node) bool {
				if c == nil || c == n {
					return c == n
				}
				walk(c, inside)
				return false
			})
		}
		walk(fn.Body, 0)
		all = append(all, f)
	}
	return all
}

func walkAll(walk func(ast.Node, int), deep int, nodes ...ast.Node) {
	for _, n := range nodes {
		switch n := n.(type) {
		case nil:
		case ast.Stmt:
			if n != nil {
				walk(n, deep)
			}
		default:
			walk(n, deep)
		}
	}
}

func receiverOf(e ast.Expr) string {
	switch e := e.(type) {
	case *ast.StarExpr:
		return receiverOf(e.X)
	case *ast.IndexExpr:
		return receiverOf(e.X)
	case *ast.IndexListExpr:
		return receiverOf(e.X)
	case *ast.ParenExpr:
		return receiverOf(e.X)
	case *ast.Ident:
		return e.Name
	}
	return fmt.Sprintf("%T", e)
}

// TestOf: functions and their numbers in each of the languages.
func TestOf(t *testing.T) {
	for _, c := range []struct{ path, text, want string }{
		{"tide.c", `
#include <stdio.h>
struct board { int rows; };
static int depth(const struct board *b, int (*read)(int, int), ...)
{
	for (int i = 0; i < b->rows; i++) { /* if (never) */
		if (read(i, 0) && i > 2)
			continue;
		else if (b->rows ? 1 : 0) {
			do { i++; } while (i < 3);
		}
	}
	return 0;
}
int none(void) { return '}' + "{"[0]; }
int declared(int a);
int chosen(int a) {
#if TIDE
	if (a) {
#else
	if (!a) {
#endif
	}
	return a;
}
`, "depth 4-14 nesting 3 decisions 6 parameters 2; none 15-15 nesting 0 decisions 0 parameters 0; chosen 17-25 nesting 1 decisions 1 parameters 1 estimated"},
		{"tide.cc", `
namespace quay {
template <typename T> class Board : public Base {
 public:
  explicit Board(std::map<int, T> rows, int n = 3) : rows_(std::move(rows)), n_{n} { if (n < 0) fail(); }
  ~Board() override {}
  auto draw(T&& row) const noexcept -> bool { return row && n_ > 1; }
  bool operator==(const Board& other) const;
};
int Board::ebb(int a, std::vector<std::pair<int, int>> b) const {
  auto f = [&](int x) { if (x) { return 1; } return 2; };
  try { return f(a); } catch (const Trouble& t) { return R"(})"[0]; }
}
}
`, "Board.Board 5-5 nesting 1 decisions 1 parameters 2 estimated; Board.~Board 6-6 nesting 0 decisions 0 parameters 0; Board.draw 7-7 nesting 0 decisions 1 parameters 1; Board.ebb 10-13 nesting 1 decisions 2 parameters 2"},
		{"Tide.java", `
class Tide<T extends Comparable<T>> {
  private final Map<String, List<?>> all = new HashMap<>();
  @Override
  public static <K, V> int depth(Map<K, V> rows, int... more) throws IOException, Trouble {
    String text = """
      if (a && b) { "
      """;
    switch (more.length) { case 1: case 2: return 1; default: return more.length > 3 ? 2 : 3; }
  }
  abstract void drawn();
  Tide() { synchronized (this) { while (true) { break; } } }
}
`, "Tide.depth 4-10 nesting 1 decisions 3 parameters 2; Tide.Tide 12-12 nesting 2 decisions 1 parameters 0"},
		{"tide.py", `
import sea

class Board:
    """A board. if and for"""
    def draw(self, rows, *, wide=False, **more):
        # if this
        for row in rows:
            if row and not wide:
                with open(row) as f:
                    return [x for x in f if x]
            elif wide: pass
        def inner(): return 1
        return (1 if rows
else 2)

    async def ebb(self): await sea.tide()
def flow():
    try:
        return '''
if not indented
'''
    except sea.Trouble:
        pass
x = 1
`, "Board.draw 6-15 nesting 3 decisions 7 parameters 4; Board.ebb 17-17 nesting 0 decisions 0 parameters 1; flow 18-24 nesting 1 decisions 1 parameters 0"},
		{"tide.js", "\nexport default class Board {\n  draw(rows, { wide = false, deep } = {}, ...more) {\n    return rows.map((r) => r ? `${r} ${wide && deep}` : /[/}]{2}/.test(r) || null)\n  }\n  get wide() { return this.wide ?? 1 }\n}\nfunction ebb() { if (a) { b.catch(() => {}) } }\nconst flow = async function (x, y) { while (x) x-- }\nif (ebb()) { flow() }\n",
			"Board.draw 3-5 nesting 0 decisions 2 parameters 3 estimated; Board.wide 6-6 nesting 0 decisions 1 parameters 0 estimated; ebb 8-8 nesting 1 decisions 1 parameters 0 estimated; flow 9-9 nesting 1 decisions 1 parameters 2 estimated"},
		{"tide.rs", `
impl<'a, T: Clone> Board<'a, T> {
    pub fn draw<F>(&mut self, rows: HashMap<u8, Vec<T>>, f: F) -> Result<(), Trouble> where F: Fn(&'a str) -> bool {
        for c in ['{', '\'', 'x'] { if f("}") && c == 'y' { return Ok(()); } }
        match rows.len() { 0 => {}, 1 | 2 => self.ebb()?, _ => {} }
        let g = || 3;
        Ok(())
    }
}
fn flow() -> u8 { r#"{"#.len() as u8 } /* /* nested */ } */
`, "Board.draw 3-8 nesting 2 decisions 5 parameters 3 estimated; flow 10-10 nesting 0 decisions 0 parameters 0 estimated"},
		{"tide.kt", "\nclass Board(val rows: Int) {\n  fun draw(a: Int, b: Map<String, Int>): Int {\n    return when (a) { 1 -> 2; else -> b[\"}\"] ?: 3 }\n  }\n}\nfun Board.ebb() { if (rows > 1 || rows < 0) { println(\"${rows}\") } }\n",
			"Board.draw 3-5 nesting 1 decisions 2 parameters 2 estimated; Board.ebb 7-7 nesting 1 decisions 2 parameters 0 estimated"},
		{"tide.swift", "\nstruct Board {\n  init(rows: Int) { self.rows = rows }\n  func draw(_ a: Int, b: [String: Int]) -> Int? {\n    guard a > 1 else { return nil }\n    if let x = b[\"}\"], x > 2 { return x ?? 1 }\n    return nil\n  }\n}\n",
			"Board.init 3-3 nesting 0 decisions 0 parameters 1 estimated; Board.draw 4-8 nesting 1 decisions 3 parameters 2 estimated"},
		{"tide.php", "<?php\nclass Board {\n  public function draw(int $a, array $b = []): ?int {\n    foreach ($b as $x) { if ($x == '}') { return 1; } elseif ($x) { return 2; } }\n    return null; # if\n  }\n}\n",
			"Board.draw 3-6 nesting 2 decisions 3 parameters 2 estimated"},
		{"tide.cs", "\nclass Board {\n  public async Task<int> Draw<T>(int a, Dictionary<string, List<T>> b) where T : class {\n    foreach (var x in b) { if (a > 1 && x != null) { return a; } }\n    return @\"}\"\"{\".Length;\n  }\n}\n",
			"Board.Draw 3-6 nesting 2 decisions 3 parameters 2 estimated"},
		{"bare.c", "int f(int a) {\n\tif (a)\n\t\tfor (;;)\n\t\t\tif (a) break; else continue;\n\tif (a) return 1;\n\telse if (a > 1) while (a) { a--; }\n\tdo a++; while (a < 3);\n\treturn 0;\n}\n", "f 1-9 nesting 3 decisions 7 parameters 1"},
		{"bare.js", "function f(a) {\n  if (a)\n    g()\n  for (const x of a)\n    g(() => {\n      if (x) h()\n    })\n  while (a) a--\n}\n", "f 1-9 nesting 2 decisions 4 parameters 1 estimated"},
		{"tide.txt", "if (a) { b }\n", ""},
		{"cut.c", "int f(int a) { if (a) {", ""},
		{"wild.c", "}}}))) int f(int a) { if (a] } { ( }", "f 1-1 nesting 1 decisions 1 parameters 1"},
	} {
		var got []string
		for _, f := range Of(c.path, []byte(c.text)).Functions {
			about := fmt.Sprintf("%s %d-%d nesting %d decisions %d parameters %d", f.Name, f.First, f.Last, f.Nesting, f.Decisions, f.Parameters)
			if f.Estimated {
				about += " estimated"
			}
			got = append(got, about)
		}
		if all := strings.Join(got, "; "); all != c.want {
			t.Errorf("%s: %s\nwant %s", c.path, all, c.want)
		}
	}
}

// TestLines: lines that hold code are told from comments and white space.
func TestLines(t *testing.T) {
	for _, c := range []struct {
		path, text  string
		lines, code int
	}{
		{"tide.go", "// Package tide.\npackage tide\n\n/* more\nof it */ var x = `a\n\nb` // end\n", 7, 4},
		{"tide.c", "#define A \\\n  b\nint x;", 3, 1},
		{"tide.txt", "one\n\n  \ntwo", 4, 2},
		{"tide.go", "", 0, 0},
	} {
		if f := Of(c.path, []byte(c.text)); f.Lines != c.lines || f.Code.Count() != c.code {
			t.Errorf("%q: %d lines, %d with code; want %d and %d", c.text, f.Lines, f.Code.Count(), c.lines, c.code)
		}
	}
}

// FuzzOf: any text is measured, functions lie in it and one after the other.
func FuzzOf(f *testing.F) {
	for _, l := range languages {
		f.Add(strings.Fields(l.ends)[0], "func f(a) { if (a && '}') { /* \" */ } }\ndef g(x):\n  return x\n#if 1\n")
	}
	f.Fuzz(func(t *testing.T, end, text string) {
		file := Of("x"+end, []byte(text))
		last := 0
		for _, fn := range file.Functions {
			if fn.First < 1 || fn.First < last || fn.Last < fn.First || fn.Last > file.Lines || fn.Nesting < 0 || fn.Parameters < 0 {
				t.Errorf("%+v after line %d, of %d lines", fn, last, file.Lines)
			}
			last = fn.Last
		}
		if file.Code.Count() > file.Lines {
			t.Errorf("%d of %d lines hold code", file.Code.Count(), file.Lines)
		}
	})
}
