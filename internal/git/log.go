package git

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"zincdoor/internal/process"
)

// Commit is a commit as a list of changes shows it.
type Commit struct {
	Name    string
	Parents []string
	Time    time.Time // when it was made, by its committer's clock
	Subject string
}

// Log lists commits, following first parents only, the oldest first: the last most ones, or all where most is 0.
func (r *Repo) Log(most int, revisions string) ([]Commit, error) {
	args := []string{"rev-list", "--first-parent", "--reverse", "--format=%H%x09%P%x09%ct%x09%s"}
	if most > 0 {
		args = append(args, fmt.Sprintf("--max-count=%d", most))
	}
	out, err := r.git(append(args, revisions, "--")...)
	if err != nil {
		return nil, err
	}
	var all []Commit
	for line := range strings.Lines(string(out)) {
		name, rest, ok := strings.Cut(strings.TrimSuffix(line, "\n"), "\t")
		if !ok { // the head of each commit
			continue
		}
		parents, rest, _ := strings.Cut(rest, "\t")
		made, subject, _ := strings.Cut(rest, "\t")
		seconds, err := strconv.ParseInt(made, 10, 64)
		if err != nil {
			return nil, fmt.Errorf("git rev-list: the commit %s has no time: %w", name, err)
		}
		all = append(all, Commit{name, strings.Fields(parents), time.Unix(seconds, 0).UTC(), subject})
	}
	return all, nil
}

// EachChange shows the paths that each commit changed, up to a commit and since a time, merges left out.
func (r *Repo) EachChange(head string, since time.Time, see func(paths []string)) error {
	cmd := r.command("log", "--no-merges", "--no-renames", "--name-only", "-z", "--format=%x01", "--since="+since.UTC().Format(time.RFC3339), head, "--")
	_, err := streamCommand(cmd, func(out io.Reader) error {
		in := bufio.NewReader(out)
		var paths []string
		for {
			field, err := in.ReadString(0)
			field = strings.TrimLeft(strings.TrimSuffix(field, "\x00"), "\n")
			if begins := strings.HasPrefix(field, "\x01"); begins || err != nil {
				if len(paths) > 0 {
					see(paths)
				}
				paths, field = nil, strings.TrimLeft(strings.TrimPrefix(field, "\x01"), "\n")
			}
			if field != "" {
				paths = append(paths, field)
			}
			if err == io.EOF {
				return nil
			} else if err != nil {
				return err
			}
		}
	})
	return err
}

// Author is the commit that a line comes from, and who wrote it.
type Author struct{ Commit, Author string }

// Blame tells where lines of a file come from, as a side has it. The lines are 1-based. Those that no commit has yet are left out.
func (r *Repo) Blame(side Side, path string, lines []int) (map[int]Author, error) {
	args := []string{"-C", r.Root, "blame", "--porcelain", "-w"}
	for _, line := range lines {
		args = append(args, fmt.Sprintf("-L%d,%d", line, line))
	}
	var input []byte
	switch side {
	case Worktree:
	case Index:
		data, err := r.git("cat-file", "blob", ":"+path)
		if err != nil {
			return nil, err
		}
		input = data
		args = append(args, "--contents", "-")
	default:
		args = append(args, string(side))
	}
	cmd := r.command(append(args, "--", path)...)
	cmd.Stdin = bytes.NewReader(input)
	out, complaint, err := process.Output(cmd)
	if err != nil {
		return nil, failure("blame", err, string(complaint))
	}
	all, authors := map[int]Author{}, map[string]string{}
	var of string
	for line := range strings.Lines(string(out)) {
		line = strings.TrimSuffix(line, "\n")
		fields := strings.Fields(line)
		switch {
		case strings.HasPrefix(line, "\t"):
		case len(fields) >= 3 && IsHash(fields[0]):
			of = fields[0]
			if n, err := strconv.Atoi(fields[2]); err == nil {
				all[n] = Author{Commit: of}
			}
		case strings.HasPrefix(line, "author "):
			authors[of] = strings.TrimPrefix(line, "author ")
		}
	}
	for n, a := range all {
		if strings.Trim(a.Commit, "0") == "" {
			delete(all, n)
			continue
		}
		a.Author = authors[a.Commit]
		all[n] = a
	}
	return all, nil
}
