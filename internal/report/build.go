package report

import (
	"path"
	"slices"
	"strconv"
	"strings"

	"zincdoor/internal/core/pattern"
)

// Compiled is what the log of a build shows to have been compiled. The zero value shows nothing of the kind.
type Compiled struct {
	Sources []string // as reported paths are, in the order they were compiled
	Objects []string // what was made of sources that aren't named
	Vague   bool     // more was compiled, nobody can tell what
}

// Shown reports whether the log shows that something was compiled.
func (c *Compiled) Shown() bool { return len(c.Sources)+len(c.Objects) > 0 || c.Vague }

// sourceForm is a name of a file that compilers compile by itself, wholeForm one that they compile with others, objectForm one
// of what they make of it.
var (
	sourceForm = pattern.Of(`\.(?:c|cc|cp|cpp|cxx|c\+\+|C|CPP|m|mm|M|i|ii|s|S|sx|f|for|f77|f90|f95|f03|f08|F|F90|F95|cu)$`)
	wholeForm  = pattern.Of(`\.(?:go|d|rs|java|kt|swift|adb|ads|hs|zig)$`)
	objectForm = pattern.Of(`\.(?:o|lo|obj|os|sho|pic\.o|gch|class)$`)
)

// IsCompiled reports whether a file is of a kind that compilers compile.
func IsCompiled(file string) bool { return sourceForm.MatchString(file) || wholeForm.MatchString(file) }

// Made gives what tells whether an object was made that is called like a file: core_tide.c.o and libtide-tide.lo may be made
// of core/tide.c.
func (c *Compiled) Made() func(file string) bool {
	names := map[string]bool{}
	for _, object := range c.Objects {
		name := objectForm.ReplaceAllString(path.Base(object), "")
		for {
			names[name] = true
			i := strings.IndexAny(name, "_-")
			if i < 0 {
				break
			}
			name = name[i+1:]
		}
	}
	return func(file string) bool {
		name := path.Base(file)
		return names[name] || sourceForm.MatchString(name) && names[strings.TrimSuffix(name, path.Ext(name))]
	}
}

// Kinds gives what tells whether files of a file's kind were compiled.
func (c *Compiled) Kinds() func(file string) bool {
	kinds := map[string]bool{}
	for _, source := range c.Sources {
		kinds[path.Ext(source)] = true
	}
	for _, object := range c.Objects {
		if source := objectForm.ReplaceAllString(object, ""); sourceForm.MatchString(source) {
			kinds[path.Ext(source)] = true
			continue
		}
		for _, kind := range []string{".c", ".cc", ".cpp", ".cxx", ".C"} { // whichever it was made of
			kinds[kind] = true
		}
	}
	return func(file string) bool { return kinds[path.Ext(file)] }
}

// build follows the log of a build: the folders it works in, and what it compiles.
type build struct {
	open     []folder // that it has entered and not left, in order
	compiled Compiled
}

// folder is one that a program of a build works in. Level tells the nesting of make's calls, from 0 on.
type folder struct {
	level   int
	path    string
	forGood bool // it isn't said when it is left
}

// unended is a folder that a program never said to have left, "" where there is none.
func (b *build) unended() string {
	if i := slices.IndexFunc(b.open, func(f folder) bool { return !f.forGood }); i >= 0 {
		return b.open[i].path
	}
	return ""
}

// enters takes what a program says when it begins to work in a folder, or has ended. Which of the two it is follows from what
// it said before where the language isn't known.
func (b *build) enters(m []string) {
	level, _ := strconv.Atoi(m[1])
	at := folder{level, path.Clean(strings.TrimSpace(m[3])), strings.HasPrefix(m[0], "ninja")}
	i := slices.Index(b.open, at)
	switch {
	case m[2] == "Leaving" || m[2] == "" && i >= 0:
		if i >= 0 {
			b.open = slices.Delete(b.open, i, i+1)
		}
	case len(b.open) < maxFolders:
		b.open = append(b.open, at)
	}
}

// maxFolders bounds how many folders are followed at a time.
const maxFolders = 1000

// folders are those that what is printed now may be of: of the deepest calls, each once; more than one where make works in
// several at once.
func (b *build) folders() (paths []string) {
	deepest := 0
	for _, f := range b.open {
		deepest = max(deepest, f.level)
	}
	for _, f := range b.open {
		if f.level == deepest && !slices.Contains(paths, f.path) {
			paths = append(paths, f.path)
		}
	}
	return paths
}

// locate gives the paths that a path which is printed now may mean, likeliest first.
func (b *build) locate(printed string) []string {
	folders := b.folders()
	if len(folders) == 0 || printed == "" || isAbsolute(printed) || strings.HasPrefix(printed, "<") {
		return []string{printed}
	}
	all := make([]string, len(folders))
	for i, f := range folders {
		all[i] = path.Join(f, printed)
	}
	return all
}

// compiles takes the command line of a compiler, or what a build says in its place.
func (b *build) compiles(line string) {
	if made := madeForm.FindStringSubmatch(line); made != nil {
		if object := made[1]; objectForm.MatchString(object) {
			b.compiled.Objects = append(b.compiled.Objects, object)
		} else {
			b.compiled.Vague = true
		}
		return
	}
	before := ""
	for _, word := range strings.Fields(line) {
		word = strings.Trim(word, `'"`)
		switch {
		case before == "-o" || before == "-include" || strings.HasPrefix(before, "-M") && len(before) == 3 && before != "-MD" && before != "-MP":
		case word == "" || word[0] == '-':
		case word[0] == '@', wholeForm.MatchString(word):
			b.compiled.Vague = true
		case sourceForm.MatchString(word):
			if strings.ContainsAny(word, "*?$`{") {
				b.compiled.Vague = true
			} else {
				b.compiled.Sources = append(b.compiled.Sources, b.locate(cleanLocation(word))...)
			}
		}
		before = word
	}
}

// madeForm is a step of a build that names what it makes: by ninja and CMake, or make's rules.
var madeForm = pattern.Of(`^(?:\[ *\d+(?:/\d+|%)\] (?:Building|Compiling) (?:\S+ )*?(?:object |source )?|\s{1,4}(?:[A-Z]+)(?: \[M\])?\s+)(\S+)$`)
