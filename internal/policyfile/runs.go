package policyfile

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"zincdoor/internal/core/policy"
)

// runKeys reads the keys of a report that tell how it is made. Those that stand without run are returned.
func (r *reader) runKeys(report *policy.Report) (read map[string]func(*yaml.Node), orphans func() []*yaml.Node) {
	run := &policy.Run{Timeout: policy.Patience, Output: policy.OnStdout}
	var others []*yaml.Node
	of := func(do func(*yaml.Node)) func(*yaml.Node) {
		return func(n *yaml.Node) {
			others = append(others, n)
			do(n)
		}
	}
	read = map[string]func(*yaml.Node){
		"run": func(n *yaml.Node) { run.Command, report.Run = r.texts(n, "run"), run },
		"folder": of(func(n *yaml.Node) {
			run.Folder = r.text(n, "folder")
			r.checkInside(n, "folder", run.Folder)
		}),
		"environment": of(func(n *yaml.Node) { run.Environment = r.environment(n) }),
		"timeout":     of(func(n *yaml.Node) { run.Timeout = r.duration(n, "timeout") }),
		"exits": of(func(n *yaml.Node) {
			r.mapping(n, keys{what: "exits", read: map[string]func(*yaml.Node){
				"found":  func(n *yaml.Node) { run.Found = r.codes(n, "found") },
				"failed": func(n *yaml.Node) { run.Failed = r.codes(n, "failed") },
			}})
			for _, code := range run.Found {
				if slices.Contains(run.Failed, code) {
					r.complain(n, "exits: %d can't mean both that something was found and that the linter failed", code)
				}
			}
		}),
		"output":  of(func(n *yaml.Node) { run.Output = oneOf(r, n, "output", []string{policy.OnStdout, policy.OnStderr}) }),
		"files":   of(func(n *yaml.Node) { run.Files = r.globs(n, "path") }),
		"given":   of(func(n *yaml.Node) { run.Changed = oneOf(r, n, "given", []string{"changed"}) != "" }),
		"per":     of(func(n *yaml.Node) { run.PerFile = oneOf(r, n, "per", []string{"file"}) != "" }),
		"inputs":  of(func(n *yaml.Node) { run.Inputs = r.globs(n, "path") }),
		"trusted": of(func(n *yaml.Node) { run.Trusted = r.globs(n, "path") }),
		"keep":    of(func(n *yaml.Node) { run.Keep = r.globs(n, "path") }),
		"base":    of(func(n *yaml.Node) { run.Base = r.boolean(n, "base") }),
		"watch":   of(func(n *yaml.Node) { run.Watch = r.boolean(n, "watch") }),
	}
	return read, func() []*yaml.Node {
		if report.Run == nil {
			return others
		}
		if (run.Changed || run.PerFile) && len(run.Files) == 0 {
			run.Files = []string{"**"}
		}
		return nil
	}
}

// environment reads variables by their names.
func (r *reader) environment(n *yaml.Node) (all []string) {
	for _, f := range r.fields(n, "environment") {
		value, ok := scalar(resolve(f.value))
		switch {
		case f.name == "" || strings.ContainsAny(f.name, "=\x00"):
			r.complain(f.key, "%q can't be the name of a variable", f.name)
		case !ok:
			r.complain(f.value, "a variable is one value, not %s", kindOf(resolve(f.value)))
		default:
			all = append(all, f.name+"="+value)
		}
	}
	slices.Sort(all)
	return all
}

func (r *reader) duration(n *yaml.Node, what string) time.Duration {
	s := r.text(n, what)
	d, err := time.ParseDuration(s)
	if s != "" && (err != nil || d <= 0) {
		r.complain(n, "%s is a time like 90s or 2m, not %q", what, s)
	}
	return d
}

// codes reads exit codes, 0 to 255.
func (r *reader) codes(n *yaml.Node, what string) (all []int) {
	for _, s := range r.texts(n, what) {
		code, err := strconv.Atoi(s)
		if err != nil || code < 0 || code > 255 {
			r.complain(n, "exits: %s takes exit codes from 0 to 255, not %q", what, s)
			continue
		}
		all = append(all, code)
	}
	return all
}

// writeRun adds the run's keys to those of its report.
func writeRun(r *policy.Run, set func(key, value string)) {
	lists(set, []keyed{{"run", r.Command}})
	if r.Folder != "" {
		set("folder", Word(r.Folder))
	}
	if len(r.Environment) > 0 {
		set("environment", flow(func(set func(key, value string)) {
			for _, pair := range r.Environment {
				name, value, _ := strings.Cut(pair, "=")
				set(Word(name), strconv.Quote(value))
			}
		}))
	}
	if r.Timeout != policy.Patience {
		set("timeout", Word(r.Timeout.String()))
	}
	if len(r.Found)+len(r.Failed) > 0 {
		set("exits", flow(func(set func(key, value string)) {
			lists(set, []keyed{{"found", numbers(r.Found)}, {"failed", numbers(r.Failed)}})
		}))
	}
	if r.Output != policy.OnStdout {
		set("output", r.Output)
	}
	lists(set, []keyed{{"files", r.Files}, {"inputs", r.Inputs}, {"trusted", r.Trusted}, {"keep", r.Keep}})
	for _, part := range []struct {
		key, value string
		is         bool
	}{{"given", "changed", r.Changed}, {"per", "file", r.PerFile}, {"base", "true", r.Base}, {"watch", "true", r.Watch}} {
		if part.is {
			set(part.key, part.value)
		}
	}
}

func numbers(list []int) (all []string) {
	for _, n := range list {
		all = append(all, strconv.Itoa(n))
	}
	return all
}
