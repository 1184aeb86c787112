package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/app"
	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/render"
)

// entryFlags select entries of the baseline.
type entryFlags struct {
	selected selectFlags
	expiring string
	policy   string
	today    string
}

func (l *entryFlags) add(f *pflag.FlagSet) {
	l.selected.addCommon(f)
	f.StringVar(&l.expiring, "expiring", "", "expired, or expiring within `TIME`: 30d, 12w, 6m; 0d for expired ones")
}

func (l *entryFlags) addPolicy(f *pflag.FlagSet) {
	addPolicy(f, &l.policy)
	addToday(f, &l.today)
}

// kept is the list as it lies in the work tree, on a day.
type kept struct {
	*app.Kept
	name, today, last string // last: the day up to which an end counts as expiring, "" for none
}

func (p *program) openList(ctx context.Context, flags entryFlags) (*kept, error) {
	day, err := today(flags.today)
	if err != nil {
		return nil, err
	}
	k := &kept{today: day}
	if flags.expiring == "0d" {
		start, _ := time.Parse(time.DateOnly, day)
		k.last = start.AddDate(0, 0, -1).Format(time.DateOnly)
	} else if k.last, err = policy.EndDate(flags.expiring, day); err != nil {
		return nil, fmt.Errorf("--expiring: %w", err)
	}
	dir, err := workingDir()
	if err != nil {
		return nil, err
	}
	if k.Kept, err = app.OpenList(ctx, app.Call{Dir: dir, Policy: flags.policy, Today: day}); err != nil {
		return nil, graded(err)
	}
	k.name = render.Safe(k.Path)
	return k, nil
}

// choose picks entries by their names and by what they are, in the order of the file.
func (k *kept) choose(flags entryFlags, ids []string) ([]int, error) {
	named, err := k.Named(ids)
	if err != nil {
		return nil, err
	}
	takes, err := flags.selected.takesEntry(k.Policy, k.Dir, k.Root)
	if err != nil {
		return nil, err
	}
	var chosen []int
	for i, e := range k.Entries {
		switch {
		case len(ids) > 0 && !slices.Contains(named, i), !takes(e):
		case k.last != "" && (e.Until == "" || e.Until > k.last):
		default:
			chosen = append(chosen, i)
		}
	}
	return chosen, nil
}

func (p *program) list() *cobra.Command {
	var flags entryFlags
	var evidence evidenceFlags
	var group, countBy, format string
	var gone bool
	cmd := &cobra.Command{
		Use:   "list",
		Short: "List what is accepted, by whom, why and until when",
		Long:  `List the entries of the baseline, all or those that are selected.`,
		Example: `zincdoor baseline list --path core
zincdoor baseline list --count-by rule
zincdoor baseline list --expiring 30d --group team
zincdoor baseline list --gone`,
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			for _, check := range []struct {
				name, value string
				known       []string
			}{{"format", format, entryFormats}, {"count-by", cmp.Or(countBy, counted[0]), counted}, {"group", cmp.Or(group, render.Groups[0]), render.Groups}} {
				if err := checkValue(check.name, check.value, check.known); err != nil {
					return err
				}
			}
			k, err := p.openList(cmd.Context(), flags)
			if err != nil {
				return err
			}
			chosen, err := k.choose(flags, nil)
			if err != nil {
				return err
			}
			if gone {
				evidence.policy, evidence.today = flags.policy, flags.today
				s, err := p.survey(cmd.Context(), evidence, false)
				if err != nil {
					return err
				}
				chosen = k.Among(chosen, s.Gone)
			} else if len(evidence.reports) > 0 {
				return fmt.Errorf("--report goes with --gone; the list itself needs none")
			}
			switch {
			case format == render.JSONLines:
				return p.listJSON(k, chosen)
			case countBy != "":
				return p.countEntries(k, chosen, countBy)
			}
			return p.listText(k, chosen, group)
		},
	}
	p.group(cmd, selectionHeading, flags.add, func(f *pflag.FlagSet) {
		f.BoolVar(&gone, "gone", false, "whose findings are gone, as the reports show")
	})
	p.group(cmd, outputHeading, func(f *pflag.FlagSet) {
		addCountBy(f, &countBy, strings.Join(counted, ", "))
		addGroup(f, &group, string(render.ByFile))
		f.StringVar(&format, "format", render.Text, "`FORMAT`|how they are written:")
		values(f, "format", entryFormats...)
	})
	p.group(cmd, reportsHeading+" (for --gone)", evidence.addReports, evidence.addRuns)
	p.group(cmd, policyHeading, flags.addPolicy)
	return cmd
}

// entryFormats are how entries can be listed: for people, or an object a line.
var entryFormats = []string{render.Text, render.JSONLines}

func (p *program) listJSON(k *kept, chosen []int) error {
	out := json.NewEncoder(p.out)
	out.SetEscapeHTML(false)
	for _, i := range chosen {
		if err := out.Encode(struct {
			ID string `json:"id"`
			baseline.Entry
			Expired bool `json:"expired"`
		}{k.IDs[i], k.Entries[i], k.Entries[i].Expired(k.today)}); err != nil {
			return err
		}
	}
	return nil
}

func (p *program) listText(k *kept, chosen []int, group string) error {
	expired := 0
	for _, i := range chosen {
		if k.Entries[i].Expired(k.today) {
			expired++
		}
	}
	of := k.property(group)
	slices.SortStableFunc(chosen, func(a, b int) int {
		x, y := k.Entries[a], k.Entries[b]
		return cmp.Or(cmp.Compare(of(x), of(y)), cmp.Compare(x.Path, y.Path), cmp.Compare(x.Line, y.Line))
	})
	entries, ids := make([]baseline.Entry, len(chosen)), make([]string, len(chosen))
	for n, i := range chosen {
		entries[n], ids[n] = k.Entries[i], k.IDs[i]
	}
	if group == string(render.ByFile) {
		of = nil
	}
	if err := render.Entries(p.out, entries, ids, k.today, of); err != nil {
		return err
	}
	if len(chosen) > 0 {
		fmt.Fprintln(p.out)
	}
	_, err := fmt.Fprintf(p.out, "%d of %s in %s, %d expired\n", len(chosen), app.CountEntries(len(k.Entries)), k.name, expired)
	return err
}

// counted are what entries can be counted by.
var counted = []string{"path", "rule", "tool", "severity", "team", "why", "by", "age"}

// property gives what entries are counted and put together by.
func (k *kept) property(name string) func(e baseline.Entry) string {
	return map[string]func(e baseline.Entry) string{
		"rule":     func(e baseline.Entry) string { return e.Rule },
		"file":     func(e baseline.Entry) string { return e.Path },
		"path":     func(e baseline.Entry) string { return e.Path },
		"tool":     func(e baseline.Entry) string { return e.Tool },
		"severity": func(e baseline.Entry) string { return e.Severity },
		"team":     func(e baseline.Entry) string { return k.Policy.TeamOf(e.Path) },
		"why":      func(e baseline.Entry) string { return string(e.Why) },
		"by":       func(e baseline.Entry) string { return e.By },
		"age":      func(e baseline.Entry) string { return age(e.On, k.today) },
	}[name]
}

// countEntries counts entries by what they have in common, most first.
func (p *program) countEntries(k *kept, chosen []int, by string) error {
	of := k.property(by)
	counts := map[string]int{}
	for _, i := range chosen {
		counts[of(k.Entries[i])]++
	}
	names := make([]string, 0, len(counts))
	for name := range counts {
		names = append(names, name)
	}
	slices.SortFunc(names, func(a, b string) int {
		if by == "age" {
			return cmp.Compare(slices.Index(ages, a), slices.Index(ages, b))
		}
		return cmp.Or(cmp.Compare(counts[b], counts[a]), cmp.Compare(a, b))
	})
	width := len(strconv.Itoa(len(chosen)))
	for _, name := range names {
		fmt.Fprintf(p.out, "%*d  %s\n", width, counts[name], cmp.Or(render.Safe(name), "(none)"))
	}
	return nil
}

// ages are the words for how long ago something was accepted, youngest first.
var ages = []string{"under 30 days", "30 to 90 days", "90 days to a year", "over a year", "of no date"}

func age(on, today string) string {
	then, err := time.Parse(time.DateOnly, on)
	now, bad := time.Parse(time.DateOnly, today)
	if err != nil || bad != nil {
		return ages[4]
	}
	days := int(now.Sub(then).Hours() / 24)
	switch {
	case days < 30:
		return ages[0]
	case days < 90:
		return ages[1]
	case days < 365:
		return ages[2]
	}
	return ages[3]
}
