package fit

import (
	"encoding/json"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/pattern"
	"zincdoor/internal/core/policy"
)

// Proposal is something that changes can be judged by: a compiler to start, or a report that is there.
type Proposal struct {
	For    string // the language, or FoundReports
	Report policy.Report
	About  string // for people: what it looks at
}

// FoundReports is what reports that are there are proposed for.
const FoundReports = "reports"

// Compilers proposes a compiler for each language that the files of a work tree are of. Files are paths from the root; has reports
// whether a program can be started here. Of several for a language the first is the usual one.
func Compilers(root string, files []string, has func(program string) bool) (all []Proposal) {
	of := func(extensions ...string) (found, globs []string) {
		for _, ext := range extensions {
			before := len(found)
			for _, f := range files {
				if strings.HasSuffix(f, ext) && !strings.HasSuffix(f, ".d.ts") {
					found = append(found, f)
				}
			}
			if len(found) > before {
				globs = append(globs, "**/*"+ext)
			}
		}
		return found, globs
	}
	propose := func(language string, count int, what string, r policy.Report) {
		r.As, r.Run.Timeout = policy.Diagnostics, policy.Patience
		if r.Tool == "" {
			r.Tool = r.Run.Command[0]
		}
		all = append(all, Proposal{language, r, finding.CountOf(count, what)})
	}
	for _, c := range []struct {
		language, what        string
		compilers, extensions []string
	}{
		{"c", "C file", []string{"gcc", "clang"}, []string{".c"}},
		{"c++", "C++ file", []string{"g++", "clang++"}, []string{".cc", ".cpp", ".cxx"}},
	} {
		found, globs := of(c.extensions...)
		if len(found) == 0 {
			continue
		}
		flags := compileFlags(root, found, files)
		_, headers := of(".h", ".hh", ".hpp", ".hxx", ".inc", ".inl", ".def")
		for _, compiler := range c.compilers {
			if has(compiler) {
				propose(c.language, len(found), c.what, policy.Report{Name: compiler, Run: &policy.Run{
					Command: slices.Concat([]string{compiler, "-Wall", "-Wextra"}, flags, []string{"-fsyntax-only"}),
					Output:  policy.OnStderr, Files: globs, Inputs: headers, Changed: true, Found: []int{1},
				}})
			}
		}
	}
	if found, _ := of(".go"); has("go") {
		for _, dir := range folders(files, "go.mod") {
			name := "vet"
			if dir != "" {
				name += "-" + strings.ReplaceAll(dir, "/", "-")
			}
			propose("go", len(found), "Go file", policy.Report{Name: name, Tool: "vet", Run: &policy.Run{
				Command: []string{"go", "vet", "./..."}, Folder: dir, Output: policy.OnStderr, Found: []int{1},
			}})
		}
	}
	if found, globs := of(".java"); len(found) > 0 && has("javac") {
		propose("java", len(found), "Java file", policy.Report{Name: "javac", Run: &policy.Run{
			Command: []string{"javac", "-Xlint:all", "-proc:none", "-d", "build/classes"}, Output: policy.OnStderr, Files: globs, Found: []int{1},
		}})
	}
	if projects := folders(files, "tsconfig.json"); len(projects) > 0 && has("tsc") {
		found, _ := of(".ts", ".tsx")
		propose("typescript", len(found), "TypeScript file", policy.Report{Name: "tsc", Run: &policy.Run{
			Command: []string{"tsc", "--noEmit", "--pretty", "false"}, Folder: projects[0], Output: policy.OnStdout, Found: []int{1, 2},
		}})
	}
	return all
}

// mostFolders is how many modules of a repository are proposed apart.
const mostFolders = 5

// folders are those that hold a file of a name: the root alone where it does.
func folders(files []string, name string) (all []string) {
	for _, f := range files {
		switch dir := path.Dir(f); {
		case path.Base(f) != name:
		case dir == ".":
			return []string{""}
		case len(all) < mostFolders:
			all = append(all, dir)
		}
	}
	return all
}

// compileFlags are the flags without which files of C and C++ aren't found or read otherwise: those that the compile commands of
// a build have in common, else the folders in which included headers are.
func compileFlags(root string, sources, files []string) []string {
	for _, dir := range []string{"", "build", "out"} {
		data := beginning(filepath.Join(root, dir, "compile_commands.json"), mostCommands)
		var commands []compileCommand
		if json.Unmarshal([]byte(data), &commands) == nil && len(commands) > 0 {
			return commonFlags(root, commands)
		}
	}
	return includeFlags(root, sources, files)
}

// compileCommand is how a build compiles a file, as compile_commands.json has it.
type compileCommand struct {
	Directory string   `json:"directory"`
	Command   string   `json:"command"`
	Arguments []string `json:"arguments"`
}

// commonFlags are the flags for folders, definitions and the language that all commands have, with folders of the repository
// from its root.
func commonFlags(root string, commands []compileCommand) (common []string) {
	for i, c := range commands {
		words := c.Arguments
		if len(words) == 0 {
			words = strings.Fields(c.Command)
		}
		var flags []string
		for n := 0; n < len(words); n++ {
			switch word := words[n]; {
			case strings.ContainsAny(word, "'\"\\"): // which a shell would have read first
			case (word == "-I" || word == "-isystem" || word == "-D") && n+1 < len(words):
				n++
				flags = append(flags, word+inside(root, c.Directory, words[n], word != "-D"))
			case strings.HasPrefix(word, "-I"):
				flags = append(flags, "-I"+inside(root, c.Directory, word[2:], true))
			case strings.HasPrefix(word, "-D"), strings.HasPrefix(word, "-std="):
				flags = append(flags, word)
			}
		}
		if i == 0 {
			common = flags
		}
		common = slices.DeleteFunc(common, func(flag string) bool { return !slices.Contains(flags, flag) })
	}
	return slices.Compact(common)
}

// inside is a folder of the repository from its root; anything else stays as it is.
func inside(root, dir, name string, isFolder bool) string {
	if !isFolder {
		return name
	}
	at := name
	if !filepath.IsAbs(at) {
		at = filepath.Join(dir, name)
	}
	if rel, err := filepath.Rel(root, at); err == nil && filepath.IsLocal(rel) {
		return filepath.ToSlash(rel)
	}
	return name
}

// The bounds of looking for included headers.
const (
	mostSources = 1000
	mostText    = 64 << 10 // bytes of each

	mostCommands = 64 << 20 // bytes of a build's compile commands; what is longer isn't read
)

var include = pattern.Of(`(?m)^[ \t]*#[ \t]*include[ \t]*(["<])([^">\n]+)[">]`)

// includeFlags name the folders of the repository in which headers are that sources include, and that compilers wouldn't look in.
func includeFlags(root string, sources, files []string) (flags []string) {
	isFile := map[string]bool{}
	ending := map[string][]string{} // files by their names
	for _, f := range files {
		isFile[f] = true
		ending[path.Base(f)] = append(ending[path.Base(f)], f)
	}
	for _, source := range sources[:min(len(sources), mostSources)] {
		text := beginning(filepath.Join(root, filepath.FromSlash(source)), mostText)
		for _, found := range include.FindAllStringSubmatch(text, -1) {
			name := found[2]
			if found[1] == `"` && isFile[path.Join(path.Dir(source), name)] {
				continue
			}
			for _, f := range ending[path.Base(name)] {
				if dir, ok := strings.CutSuffix(f, name); ok && utf8.ValidString(dir) && (dir == "" || strings.HasSuffix(dir, "/")) {
					flags = append(flags, "-I"+path.Clean(dir))
				}
			}
		}
	}
	slices.Sort(flags)
	return slices.Compact(flags)
}

// beginning is how a file begins, at most so many bytes of it; "" where it can't be read.
func beginning(name string, most int64) string {
	f, err := os.Open(name)
	if err != nil {
		return ""
	}
	defer f.Close()
	data, _ := io.ReadAll(io.LimitReader(f, most))
	return string(data)
}

// reportPlaces are the folders in which reports are looked for.
var reportPlaces = []string{"", "build", "out", "target", "reports"}

// telling is how files are called that hold what a compiler printed.
var telling = pattern.Of(`(?i)(warn|diag|lint|compil|report).*\.(txt|log)$`)

// Reports proposes the report files that are there, by whether read takes them for one: it gives the format.
func Reports(root string, read func(file string) (format string, ok bool)) (all []Proposal) {
	for _, dir := range reportPlaces {
		entries, err := os.ReadDir(filepath.Join(root, dir))
		if err != nil {
			continue
		}
		for _, e := range entries {
			if !e.Type().IsRegular() || !telling.MatchString(e.Name()) && !strings.Contains(e.Name(), ".sarif") {
				continue
			}
			file := path.Join(dir, e.Name())
			if format, ok := read(file); ok {
				all = append(all, Proposal{FoundReports, FileReport(file, format), "written by a linter or compiler"})
			}
		}
	}
	return all
}

var notWord = pattern.Of(`[^A-Za-z0-9]+`)

// FileReport is a report file as the policy names it. An empty text means that nothing was found.
func FileReport(file, format string) policy.Report {
	name, _, _ := strings.Cut(path.Base(file), ".")
	if name = strings.Trim(notWord.ReplaceAllString(name, "-"), "-"); name == "" || slices.Contains(policy.Formats, name) {
		name = "linter"
	}
	return policy.Report{Name: name, Files: []string{file}, As: format, Clean: policy.IsDiagnostics(format)}
}
