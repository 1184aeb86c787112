package fit

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/policyfile"
)

// Place is the repository that the door is fitted in, by absolute paths.
type Place struct {
	Root   string // of the work tree; "" for a bare repository
	GitDir string // that all work trees share
	Hooks  string // where git looks for hooks
	Branch string // the branch that changes are merged into, as the starter policy suggests it
}

// Ask is how the hooks of a call that are wanted would ask, a line of shell each, for those who write hooks by hand.
func (c Call) Ask() (lines []string) {
	for _, hook := range hooks {
		if door, wanted := c.Doors[hook]; wanted {
			lines = append(lines, gateCall(hook, door))
		}
	}
	return lines
}

// Hook is a point at which git asks the door.
type Hook string

// The hooks.
const (
	Commit Hook = "commit"
	Push   Hook = "push"
	Server Hook = "server"
)

var hooks = []Hook{Commit, Push, Server}

// Call is what the hooks ask.
type Call struct {
	Doors   map[Hook]string // the door of each hook, "" where the pushed ref decides
	Reports []string        // as in --report, with paths from the root, or absolute ones on a server
	Starter []byte          // the policy for a repository without one
	Fixes   bool            // the commit hook's door fixes what it can
}

// policyName is what the policy is called among the files.
const policyName = "policy"

// Plan lists the files that the hooks of a call need, and a starter policy where there is none. Nothing is written.
func Plan(p Place, call Call) ([]File, error) {
	r, err := readRecord(p.GitDir)
	if err != nil {
		return nil, err
	}
	var files []File
	if p.Root != "" {
		path := filepath.Join(p.Root, filepath.FromSlash(policyfile.Path))
		if _, err := os.Lstat(path); errors.Is(err, fs.ErrNotExist) {
			files = append(files, File{Path: path, What: policyName, Text: call.Starter, Mode: 0o644})
		} else {
			files = append(files, File{Path: path, What: policyName, Written: true})
		}
	}
	if p.Root != "" {
		files = append(files, p.attributes())
	}
	for _, hook := range hooks {
		door, wanted := call.Doors[hook]
		if !wanted {
			continue
		}
		if !p.owns(p.Hooks) {
			return nil, fmt.Errorf("git looks for hooks in %s (core.hooksPath), which other repositories use too; add this line to the hook there by hand: %s: %w", p.Hooks, gateCall(hook, door), ErrRefused)
		}
		f := File{Path: filepath.Join(p.Hooks, gitNames[hook]), What: string(hook) + " hook", Text: script(hook, door, call.Reports, hook == Commit && call.Fixes), Mode: 0o755}
		if err := r.check(&f, true); err != nil {
			return nil, err
		}
		files = append(files, f)
	}
	return files, nil
}

// MergeDriver is how git's configuration calls the merging of two lists, and what that starts.
const (
	MergeDriver  = "merge.zincdoor.driver"
	MergeCommand = "zincdoor baseline merge %O %A %B"
)

// attributes is the file beside the list that has git merge it as the driver does. One that is there already is left as
// it is.
func (p Place) attributes() File {
	list := filepath.FromSlash(baseline.Path)
	f := File{
		Path: filepath.Join(p.Root, filepath.Dir(list), ".gitattributes"), What: "merging of the baseline", Mode: 0o644,
		Text: []byte(filepath.Base(list) + " merge=zincdoor\n"),
	}
	_, err := os.Lstat(f.Path)
	f.Written = !errors.Is(err, fs.ErrNotExist)
	return f
}

// owns reports whether a folder, wherever links lead, belongs to the repository alone.
func (p Place) owns(folder string) bool {
	if real, err := filepath.EvalSymlinks(folder); err == nil {
		folder = real
	}
	for _, root := range []string{p.Root, p.GitDir} {
		if real, err := filepath.EvalSymlinks(root); err == nil {
			root = real
		}
		if rel, err := filepath.Rel(root, folder); root != "" && err == nil && filepath.IsLocal(rel) {
			return true
		}
	}
	return false
}

// gitNames are the hooks by the names git knows them by.
var gitNames = map[Hook]string{Commit: "pre-commit", Push: "pre-push", Server: "pre-receive"}

// script is a hook as a few lines of POSIX shell: what stood there before runs first and decides first.
func script(hook Hook, door string, reports []string, fixes bool) []byte {
	var s strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&s, format+"\n", args...) }
	name := gitNames[hook]
	line("#!/bin/sh")
	line("# Written by zincdoor fit; zincdoor fit --remove takes it away.")
	line(`theirs="$(dirname "$0")/%s%s"`, name, theirs)
	call := gateCall(hook, door)
	switch hook {
	case Commit:
		line(`if [ -x "$theirs" ]; then "$theirs" "$@" || exit; fi`)
	default:
		line("lines=$(cat)")
		line(`if [ -x "$theirs" ]; then printf '%%s\n' "$lines" | "$theirs" "$@" || exit; fi`)
	}
	line("if ! command -v zincdoor >/dev/null 2>&1; then")
	line(`	echo "zincdoor is not on the PATH, so nothing can be judged: %s" >&2`, helpless[hook])
	line("	exit 1")
	line("fi")
	for _, report := range reports {
		call += " --report " + quote(report)
	}
	if fixes {
		line("%s --apply --by-door || exit", strings.Replace(call, "zincdoor gate", "zincdoor fix", 1))
	}
	if hook != Server {
		call += " --hook"
	}
	if hook == Commit {
		line("exec %s", call)
	} else {
		line(`printf '%%s\n' "$lines" | %s`, call)
	}
	return []byte(s.String())
}

// gateCall is how a hook asks a door, "" for the one that stands at the ref.
func gateCall(hook Hook, door string) string {
	call := map[Hook]string{Commit: "zincdoor gate --staged", Push: `zincdoor gate --push --remote "$1"`, Server: "zincdoor gate --push"}[hook]
	if door != "" {
		call += " --door " + quote(door)
	}
	return call
}

var helpless = map[Hook]string{
	Commit: "install it, or commit this once with --no-verify",
	Push:   "install it, or push this once with --no-verify",
	Server: "the server's administrator must install it",
}

// quote makes a word safe for the shell.
func quote(s string) string {
	if s != "" && strings.Trim(s, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789._/=-") == "" {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}
