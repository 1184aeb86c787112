package policy

import (
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

// TakesRung reports whether the limit counts findings on a rung: its severity or worse, or with Only exactly it.
func (l Limit) TakesRung(ladder Ladder, rung string) bool {
	switch {
	case l.Severity == "":
		return true
	case l.Only:
		return rung == l.Severity
	}
	return ladder.Worse(rung, l.Severity)
}

// TakesRule reports whether the limit selects a rule.
func (l Limit) TakesRule(rule string) bool {
	return len(l.Rules) == 0 || matchesAny(l.Rules, rule, matchRule)
}

// TakesPath reports whether the limit selects a path. A finding without a file has the path "", which no glob takes.
func (l Limit) TakesPath(path string) bool {
	return len(l.Paths) == 0 || matchesAny(l.Paths, path, doublestar.MatchUnvalidated)
}

func matchesAny(globs []string, name string, match func(glob, name string) bool) bool {
	for _, glob := range globs {
		if match(glob, name) {
			return true
		}
	}
	return false
}

// matchRule matches a rule glob, in which * takes slashes too: rules are names, not paths.
func matchRule(glob, rule string) bool {
	return doublestar.MatchUnvalidated(hideSlashes.Replace(glob), hideSlashes.Replace(rule))
}

var hideSlashes = strings.NewReplacer("/", "\x00")
