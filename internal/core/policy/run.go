package policy

import (
	"slices"
	"time"
)

// Run is how a report comes about that Zinc Door makes by itself: the linter it starts, and on what.
type Run struct {
	Command     []string      // the program and its arguments; the files it is given stand after them
	Folder      string        // where it starts, from the repository's root; "" for the root
	Environment []string      // NAME=value, on top of what there is, sorted
	Timeout     time.Duration // after which it is ended
	Found       []int         // exit codes beside 0 that end a good run
	Failed      []int         // exit codes that tell that it failed; so does every other that isn't declared
	Output      string        // OnStdout or OnStderr; a report with files is read from these
	Files       []string      // globs of the files it is given; empty for a linter that finds its files by itself
	Except      []string      // globs of those that it isn't given
	Changed     bool          // it is given those of the change alone
	PerFile     bool          // what it says of a file depends on that file, its inputs and its version alone
	Inputs      []string      // globs of files that it reads beside those it is given
	Trusted     []string      // globs of its own code and settings, which no change brings by itself
	Keep        []string      // globs of what it leaves in its copy and finds there the next time, such as its own cache
	Base        bool          // it is run on the state before the change too
	Watch       bool          // an editor has it started whenever a file is saved
}

// Where a linter writes what it finds, unless it is a file.
const (
	OnStdout = "stdout"
	OnStderr = "stderr"
)

// Patience is how long a linter may take where its report doesn't say.
const Patience = 10 * time.Minute

// Declares reports whether a run that ended with a code is a good one.
func (r *Run) Declares(code int) bool {
	return !slices.Contains(r.Failed, code) && (code == 0 || slices.Contains(r.Found, code))
}

// TellsOfFindings reports whether a code says that something was found. 0 never does, even where it is declared: there are
// linters that end with it whatever they find.
func (r *Run) TellsOfFindings(code int) bool { return code != 0 && slices.Contains(r.Found, code) }

// TakesFile reports whether a file is one of those that the linter is given.
func (r *Run) TakesFile(path string) bool {
	return MatchPath(r.Files, path) && !MatchPath(r.Except, path)
}

// TakesFiles reports whether the linter is given files as arguments.
func (r *Run) TakesFiles() bool { return len(r.Files) > 0 }
