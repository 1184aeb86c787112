package git

import (
	"fmt"
	"strings"
)

// Commit is a commit as a list of changes shows it.
type Commit struct {
	Name    string
	Parents []string
	Subject string
}

// Log lists commits, following first parents only, the oldest first: the last most ones, or all where most is 0.
func (r *Repo) Log(most int, revisions string) ([]Commit, error) {
	args := []string{"rev-list", "--first-parent", "--reverse", "--format=%H%x09%P%x09%s"}
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
		parents, subject, _ := strings.Cut(rest, "\t")
		all = append(all, Commit{name, strings.Fields(parents), subject})
	}
	return all, nil
}
