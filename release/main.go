// Command release builds what a release has: the program for each platform, packages for Linux, an archive for each, with man pages,
// completions, licences and the list of what the program is built of. The same commit gives the same bytes, wherever it is built.
package main

import (
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

// platform is what a program runs on, in Go's words.
type platform struct{ system, machine string }

func (p platform) String() string { return p.system + "/" + p.machine }

var platforms = []platform{
	{"linux", "amd64"}, {"linux", "arm64"}, {"darwin", "amd64"}, {"darwin", "arm64"}, {"windows", "amd64"}, {"windows", "arm64"},
}

// release is what all platforms have in common.
type release struct {
	root string    // the project's folder
	out  string    // where everything goes
	time time.Time // of the commit, which all files get
}

func main() {
	only := flag.String("for", "", "a platform, as in linux/amd64; else all of them")
	out := flag.String("out", "out", "the folder to write to, which is emptied first")
	flag.Parse()
	if err := build(*only, *out); err != nil {
		fmt.Fprintln(os.Stderr, "release:", err)
		os.Exit(1)
	}
}

func build(only, out string) error {
	if flag.NArg() > 0 {
		return fmt.Errorf("it takes no argument, and was given %q", flag.Arg(0))
	}
	wanted := slices.DeleteFunc(slices.Clone(platforms), func(p platform) bool { return only != "" && p.String() != only })
	if len(wanted) == 0 {
		return fmt.Errorf("-for %s: there are %v", only, platforms)
	}
	r, err := prepare(out)
	if err != nil {
		return err
	}
	papers := filepath.Join(r.out, "papers")
	if err := r.papers(papers); err != nil {
		return err
	}
	var made []string
	for _, p := range wanted {
		all, err := r.platform(p, papers)
		if err != nil {
			return fmt.Errorf("%s: %w", p, err)
		}
		made = append(made, all...)
	}
	if err := os.RemoveAll(papers); err != nil {
		return err
	}
	return writeSums(r.out, made)
}

// prepare looks at the commit, and empties the folder. What isn't committed would be in no other build of the same commit.
func prepare(out string) (*release, error) {
	root, err := filepath.Abs("..")
	if err != nil {
		return nil, err
	}
	if out, err = filepath.Abs(out); err != nil {
		return nil, err
	}
	altered, err := output(root, nil, "git", "status", "--porcelain")
	if err != nil {
		return nil, err
	}
	if altered != "" {
		return nil, fmt.Errorf("commit these first, or take them away, since a release is built of a commit:\n%s", altered)
	}
	stamp, err := output(root, nil, "git", "log", "-1", "--format=%ct")
	if err != nil {
		return nil, err
	}
	seconds, err := strconv.ParseInt(stamp, 10, 64)
	if err != nil {
		return nil, err
	}
	if err := errors.Join(os.RemoveAll(out), os.MkdirAll(out, 0o755)); err != nil {
		return nil, err
	}
	return &release{root, out, time.Unix(seconds, 0).UTC()}, nil
}

// platform makes what one platform gets, and lists these files.
func (r *release) platform(p platform, papers string) (made []string, err error) {
	folder := filepath.Join(r.out, p.system+"-"+p.machine)
	program := filepath.Join(folder, "zincdoor")
	if p.system == "windows" {
		program += ".exe"
	}
	fmt.Println("program", p)
	if _, err := output(r.root, []string{"CGO_ENABLED=0", "GOFLAGS=", "GOOS=" + p.system, "GOARCH=" + p.machine}, "go", "build", "-trimpath", "-buildvcs=true", "-ldflags=-s -w -buildid=", "-o", program, "./cmd/zincdoor"); err != nil {
		return nil, err
	}
	defer os.RemoveAll(folder)
	parts, err := partsOf(program)
	if err != nil {
		return nil, err
	}
	if strings.Contains(parts.version(), "+dirty") {
		return nil, errors.New("files were altered while it was built; build it again, or in a clone where nobody works")
	}
	if err := os.CopyFS(folder, os.DirFS(papers)); err != nil {
		return nil, err
	}
	if err := errors.Join(r.licences(parts, filepath.Join(folder, "licences")), parts.write(filepath.Join(folder, "zincdoor.cdx.json"), r.time)); err != nil {
		return nil, err
	}
	archive, err := r.archive(p, parts.version(), folder)
	if err != nil || p.system != "linux" {
		return append(made, archive), err
	}
	packages, err := r.packages(p, parts.version(), folder)
	return append(append(made, archive), packages...), err
}

// output is what a command prints, called in a folder, without blanks at its ends.
func output(dir string, env []string, name string, args ...string) (string, error) {
	cmd := exec.Command(name, args...)
	cmd.Dir, cmd.Env = dir, append(os.Environ(), env...)
	var complaint strings.Builder
	cmd.Stderr = &complaint
	out, err := cmd.Output()
	if err != nil {
		return "", fmt.Errorf("%s %s: %w\n%s", name, strings.Join(args, " "), err, complaint.String())
	}
	return strings.TrimSpace(string(out)), nil
}
