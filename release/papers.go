package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/cpuguy83/go-md2man/v2/md2man"

	"zincdoor/internal/cli"
)

// papers writes what is the same on all platforms: man pages, completions, the guides.
func (r *release) papers(folder string) error {
	man := filepath.Join(folder, "man")
	if err := os.MkdirAll(man, 0o755); err != nil {
		return err
	}
	for _, d := range cli.Describe() {
		if err := os.WriteFile(filepath.Join(man, manName(d.Path)+".1"), md2man.Render([]byte(manual(d, r.time.Format("2006-01-02")))), 0o644); err != nil {
			return err
		}
	}
	if err := r.completions(filepath.Join(folder, "completion")); err != nil {
		return err
	}
	for _, name := range []string{"README.md", "CHANGELOG.md"} {
		if err := copyFile(filepath.Join(r.root, name), filepath.Join(folder, name)); err != nil {
			return err
		}
	}
	return os.CopyFS(filepath.Join(folder, "docs"), os.DirFS(filepath.Join(r.root, "docs")))
}

// completionFiles are the files by which shells find completions, by shell.
var completionFiles = map[string]string{"bash": "zincdoor.bash", "zsh": "_zincdoor", "fish": "zincdoor.fish", "powershell": "zincdoor.ps1"}

// completions writes the completion of each shell.
func (r *release) completions(folder string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	for shell, name := range completionFiles {
		file, err := os.Create(filepath.Join(folder, name))
		if err != nil {
			return err
		}
		code := cli.Main([]string{"completion", shell}, strings.NewReader(""), file, os.Stderr)
		if err := file.Close(); err != nil || code != 0 {
			return fmt.Errorf("completion of %s: code %d, %v", shell, code, err)
		}
	}
	return nil
}

func copyFile(from, to string) error {
	data, err := os.ReadFile(from)
	if err != nil {
		return err
	}
	return os.WriteFile(to, data, 0o644)
}

// manName is the name of a command's man page.
func manName(path string) string { return strings.ReplaceAll(path, " ", "-") }

// manual is the man page of a command, as Markdown.
func manual(d cli.Described, day string) string {
	var m strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&m, format, args...) }
	name := manName(d.Path)
	say("%% %s 1 %q \"\" \"User Commands\"\n\n# NAME\n\n%s \\- %s\n\n", strings.ToUpper(name), day, plain(name), plain(d.Short))
	say("# SYNOPSIS\n\n**%s**\n\n# DESCRIPTION\n\n", plain(d.Usage))
	for part := range strings.SplitSeq(d.Long, "\n") {
		if strings.HasPrefix(part, " ") {
			say("    %s\n", part)
			continue
		}
		say("\n%s\n", plain(part))
	}
	if len(d.Beneath) > 0 {
		say("\n# COMMANDS\n\n")
		for _, c := range d.Beneath {
			say("**%s**(1)\n: %s\n\n", plain(manName(c.Path)), plain(c.Short))
		}
	}
	for _, g := range d.Options {
		say("\n# %s\n\n", plain(strings.ToUpper(g.Heading)))
		for _, o := range g.All {
			usage := plain(o.Usage)
			if len(o.Values) > 0 {
				usage += " " + plain(strings.Join(o.Values, ", "))
			}
			say("**%s**\n: %s\n\n", plain(o.Name), usage)
		}
	}
	if d.Example != "" {
		say("\n# EXAMPLES\n\n")
		for line := range strings.SplitSeq(d.Example, "\n") {
			say("    %s\n", line)
		}
	}
	last := strings.LastIndex(d.Path, " ")
	if last < 0 {
		say("\n# EXIT STATUS\n\n**0**\n: open\n\n**1**\n: shut: a limit is broken\n\n**2**\n: it can't be judged\n\n**3**\n: the call or the policy is wrong\n")
		return m.String()
	}
	say("\n# SEE ALSO\n\n**%s**(1)\n", plain(manName(d.Path[:last])))
	return m.String()
}

// plain is a text of which Markdown makes nothing but itself.
func plain(text string) string {
	var b strings.Builder
	for _, c := range text {
		if strings.ContainsRune("\\`*_{}[]()#+-.!:|&<>~", c) {
			b.WriteByte('\\')
		}
		b.WriteRune(c)
	}
	return b.String()
}
