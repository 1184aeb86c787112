package cli

import (
	"fmt"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/pflag"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
)

// selectFlags select findings, or entries of the baseline, as a limit's selectors do. Without any, all are selected.
type selectFlags struct {
	selector       policy.Selector
	levels, places []string
	message        string
	number         string
	under          []string // paths given as arguments, from the folder of the call
}

// addCommon adds the selectors that findings and entries have in common.
func (s *selectFlags) addCommon(f *pflag.FlagSet) {
	by := &s.selector
	f.StringSliceVar(&by.Rules, "rule", nil, "of rules that `GLOB` matches, or in a group; repeatable, as all of these")
	f.StringSliceVar(&by.Paths, "path", nil, "in files or folders that `GLOB` matches, or in a set of the policy")
	f.StringSliceVar(&by.Tools, "tool", nil, "of tools that `GLOB` matches")
	f.StringSliceVar(&by.Teams, "team", nil, "in files of `TEAM`")
	f.StringVar(&by.Severity, "severity", "", "of `SEVERITY` or worse")
	f.BoolVar(&by.Exact, "exact", false, "of exactly that severity")
	f.StringVar(&s.message, "message", "", "whose message the regular expression `PATTERN` matches")
	f.StringVar(&s.number, "number", "", "`\">15\"`|whose number compares so, also >= < <= =")
}

// add adds all selectors of findings.
func (s *selectFlags) add(f *pflag.FlagSet) {
	by := &s.selector
	s.addCommon(f)
	f.StringSliceVar(&by.Standings, "standing", nil, "`WORD`|that are:")
	values(f, "standing", words(judge.Standings)...)
	f.StringSliceVar(&s.places, "place", nil, "`WORD`|on a changed line, elsewhere in a changed file, in another file:")
	values(f, "place", words(allPlaces)...)
	f.StringSliceVar(&by.Tags, "tag", nil, "with `TAG`")
	f.StringSliceVar(&s.levels, "level", nil, "`LEVEL`|of a level of SARIF:")
	values(f, "level", words(finding.Levels)...)
	f.Float64Var(&by.Rank, "rank", 0, "of rank `N` or more, up to 100")
	f.Float64Var(&by.Security, "security", 0, "of security severity `N` or more, up to 10")
}

var allPlaces = []change.Place{change.OnTouched, change.InFile, change.Elsewhere}

func words[T ~string](list []T) []string {
	all := make([]string, len(list))
	for i, word := range list {
		all[i] = string(word)
	}
	return all
}

// any reports whether something is selected by.
func (s *selectFlags) any() bool {
	by := s.selector
	return len(by.Rules)+len(by.Paths)+len(by.Tools)+len(by.Teams)+len(by.Standings)+len(by.Tags)+len(s.levels)+len(s.places)+len(s.under) > 0 ||
		by.Severity != "" || by.Rank > 0 || by.Security > 0 || s.message != "" || s.number != ""
}

// ignored reports whether what the policy ignores is asked for.
func (s *selectFlags) ignored() bool { return s.selector.Severity == policy.Ignored }

// by makes the flags a selector, with the policy's groups and sets. Root is the repository's, for paths that were given from the
// folder of the call.
func (s *selectFlags) by(p *policy.Policy, dir, root string) (policy.Selector, error) {
	by := s.selector
	if by.Severity != "" && by.Severity != policy.Ignored {
		if err := checkValue("severity", by.Severity, append(slices.Clone([]string(p.Ladder)), policy.Ignored)); err != nil {
			return by, err
		}
	}
	if by.Exact && by.Severity == "" {
		return by, fmt.Errorf("--exact needs a --severity")
	}
	for _, check := range []struct {
		name        string
		list, known []string
	}{{"level", s.levels, words(finding.Levels)}, {"place", s.places, words(allPlaces)}, {"standing", by.Standings, words(judge.Standings)}} {
		for _, word := range check.list {
			if err := checkValue(check.name, word, check.known); err != nil {
				return by, err
			}
		}
	}
	for _, level := range s.levels {
		by.Levels = append(by.Levels, finding.Level(level))
	}
	for _, place := range s.places {
		by.Places = append(by.Places, change.Place(place))
	}
	var err error
	if s.message != "" {
		if by.Message, err = regexp.Compile(s.message); err != nil {
			return by, fmt.Errorf("--message: %w", err)
		}
	}
	if s.number != "" {
		if by.Number, err = policy.ParseComparison(s.number); err != nil {
			return by, fmt.Errorf("--number: %w", err)
		}
	}
	by.Paths = slices.Clone(by.Paths)
	for i, glob := range by.Paths {
		by.Paths[i] = strings.TrimSuffix(strings.TrimPrefix(glob, "./"), "/")
	}
	for _, name := range s.under {
		inside, err := fromRoot(name, dir, root)
		if err != nil {
			return by, err
		}
		by.Paths = append(by.Paths, inside)
	}
	return p.Choose(by)
}

// fromRoot is a glob that takes a file or a folder named from the folder of the call, with all that is in it.
func fromRoot(name, dir, root string) (string, error) {
	at := name
	if !filepath.IsAbs(at) {
		at = filepath.Join(dir, name)
	}
	inside, err := filepath.Rel(root, at)
	if err != nil || !filepath.IsLocal(inside) {
		return "", fmt.Errorf("%s lies outside of the repository", name)
	}
	if inside == "." {
		return "**", nil
	}
	return baseline.PathGlob(path.Clean(filepath.ToSlash(inside))), nil
}

// takes gives what reports whether a finding is selected; what the policy ignores only where that is asked for.
func (s *selectFlags) takes(p *policy.Policy, dir, root string) (func(judge.Finding) bool, error) {
	by, err := s.by(p, dir, root)
	if s.ignored() {
		by.Exact = true
	}
	return func(f judge.Finding) bool {
		return (f.Severity != policy.Ignored || s.ignored()) && judge.Selects(&by, p.Ladder, f)
	}, err
}

// takesEntry gives what reports whether an entry of the baseline is selected.
func (s *selectFlags) takesEntry(p *policy.Policy, dir, root string) (func(baseline.Entry) bool, error) {
	by, err := s.by(p, dir, root)
	return func(e baseline.Entry) bool {
		f := finding.Finding{Tool: e.Tool, Rule: e.Rule, Path: e.Path, Message: e.Message}
		if e.Measure != "" {
			f.Traits = &finding.Traits{Measured: e.Measure}
		}
		return by.TakesJudged(f, p.TeamOf(e.Path), p.Ladder, policy.Judged{Severity: e.Severity})
	}, err
}
