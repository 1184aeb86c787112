package evidence

import (
	"go/parser"
	"go/token"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/mod/modfile"

	"zincdoor/internal/target"
)

// goPackages are the packages of Go in a tree: their files and imports, by folder.
type goPackages struct {
	modules map[string]string   // the path of each module, by its folder
	files   map[string][]string // by folder, "." for the root
	imports map[string][]string // by folder
}

// readGoPackages reads the import clauses of all files of Go among some, as far as they can be read.
func readGoPackages(tree target.Tree, files []string) (*goPackages, error) {
	p := &goPackages{modules: map[string]string{}, files: map[string][]string{}, imports: map[string][]string{}}
	files = slices.DeleteFunc(slices.Clone(files), func(file string) bool { return path.Ext(file) != ".go" && path.Base(file) != "go.mod" })
	var mutex sync.Mutex
	err := target.ReadEach(tree.ReadAll, tree.Read, files, func(file string, data []byte, _ bool) {
		mutex.Lock()
		defer mutex.Unlock()
		p.read(file, data)
	})
	if err != nil {
		return nil, err
	}
	return p, nil
}

func (p *goPackages) read(file string, data []byte) {
	dir := path.Dir(file)
	if path.Base(file) == "go.mod" {
		p.modules[dir] = modfile.ModulePath(data)
		return
	}
	p.files[dir] = append(p.files[dir], file)
	if syntax, _ := parser.ParseFile(token.NewFileSet(), file, data, parser.ImportsOnly); syntax != nil {
		for _, spec := range syntax.Imports {
			if imported, err := strconv.Unquote(spec.Path.Value); err == nil {
				p.imports[dir] = append(p.imports[dir], imported)
			}
		}
	}
}

// readGoModules reads the names of the modules of Go among some files, by their folders.
func readGoModules(tree target.Tree, files []string) (map[string]string, error) {
	p, err := readGoPackages(tree, slices.DeleteFunc(slices.Clone(files), func(file string) bool { return path.Base(file) != "go.mod" }))
	if err != nil {
		return nil, err
	}
	return p.modules, nil
}

// importPath is the path by which the package in a folder is imported; it is only the end of one where it isn't rooted in a module.
func (p *goPackages) importPath(dir string) (imported string, whole bool) {
	if _, vendored, ok := strings.Cut("/"+dir, "/vendor/"); ok {
		return vendored, true
	}
	for root := dir; ; root = path.Dir(root) {
		if module := p.modules[root]; module != "" {
			return path.Join(module, strings.TrimPrefix(strings.TrimPrefix(dir, strings.TrimPrefix(root, ".")), "/")), true
		}
		if root == "." || root == "/" {
			return dir, false
		}
	}
}

// dependants are the files of the packages in some folders, and of all that import these, directly or not: what can't be
// compiled keeps those from being looked at too, and nothing says so.
func (p *goPackages) dependants(dirs []string) (files []string) {
	lost := map[string]bool{}
	for len(dirs) > 0 {
		dir := dirs[0]
		dirs = dirs[1:]
		if lost[dir] {
			continue
		}
		lost[dir] = true
		imported, whole := p.importPath(dir)
		for importer, all := range p.imports {
			if !lost[importer] && slices.ContainsFunc(all, func(i string) bool { return i == imported || !whole && strings.HasSuffix(i, "/"+imported) }) {
				dirs = append(dirs, importer)
			}
		}
	}
	for dir := range maps.Keys(lost) {
		files = append(files, p.files[dir]...)
	}
	return files
}
