package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/app"
	"zincdoor/internal/core/baseline"
	"zincdoor/internal/render"
)

// listFlags choose entries of the list.
type listFlags struct {
	filter   filterFlags
	expiring string
	policy   string
	today    string
}

func (l *listFlags) add(f *pflag.FlagSet) {
	f.SortFlags = false
	l.filter.add(f)
	f.StringVar(&l.expiring, "expiring", "", "those whose acceptance ends within a `TIME` from today like 30d, or has ended; 0d for the ended ones")
	f.StringVar(&l.policy, "policy", "", "go by the policy in `FILE|REV:PATH`")
	f.StringVar(&l.today, "today", "", "the `DATE` on which to judge, as 2027-02-01 (default: today, UTC)")
}

// kept is the list as it lies in the work tree, on a day.
type kept struct {
	*app.Kept
	name, today, last string // last: the day up to which an end counts as expiring, "" for none
}

func (p *program) openList(ctx context.Context, flags listFlags) (*kept, error) {
	day, err := today(flags.today)
	if err != nil {
		return nil, err
	}
	k := &kept{today: day}
	if flags.expiring == "0d" {
		start, _ := time.Parse(time.DateOnly, day)
		k.last = start.AddDate(0, 0, -1).Format(time.DateOnly)
	} else if k.last, err = endDate(flags.expiring, day); err != nil {
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
func (k *kept) choose(flags listFlags, ids []string) ([]int, error) {
	named, err := k.Named(ids)
	if err != nil {
		return nil, err
	}
	var chosen []int
	for i, e := range k.Entries {
		switch {
		case len(ids) > 0 && !slices.Contains(named, i), !flags.filter.takesEntry(e):
		case k.last != "" && (e.Until == "" || e.Until > k.last):
		default:
			chosen = append(chosen, i)
		}
	}
	return chosen, nil
}

func (p *program) list() *cobra.Command {
	var flags listFlags
	var evidence evidenceFlags
	var group, format string
	var gone bool
	cmd := &cobra.Command{
		Use:   "list",
		Short: "Show what is accepted, by whom, why and until when",
		Long: `Show the entries of the list, all or some of them.

  zincdoor baseline list --group rule
  zincdoor baseline list --expiring 30d
  zincdoor baseline list --gone --report build/warnings.txt`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
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
				return fmt.Errorf("--report is for --gone; the list itself needs none")
			}
			switch format {
			case "json":
				return p.listJSON(k, chosen)
			case "terminal":
				return p.listText(k, chosen, group)
			}
			return fmt.Errorf("--format is terminal or json, not %q", format)
		},
	}
	flags.add(cmd.Flags())
	cmd.Flags().BoolVar(&gone, "gone", false, "those whose findings are gone, as the reports show")
	evidence.addReports(cmd.Flags())
	cmd.Flags().StringVar(&group, "group", "", "count them by `rule`, path, team, tool, severity or age instead of listing them")
	cmd.Flags().StringVar(&format, "format", "terminal", "`terminal` or json, an object a line")
	return cmd
}

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
	if group != "" {
		if err := p.countBy(k, chosen, group); err != nil {
			return err
		}
	} else {
		slices.SortStableFunc(chosen, func(a, b int) int {
			return cmp.Or(cmp.Compare(k.Entries[a].Path, k.Entries[b].Path), cmp.Compare(k.Entries[a].Line, k.Entries[b].Line))
		})
		entries, ids := make([]baseline.Entry, len(chosen)), make([]string, len(chosen))
		for n, i := range chosen {
			entries[n], ids[n] = k.Entries[i], k.IDs[i]
		}
		if err := render.Entries(p.out, entries, ids, k.today); err != nil {
			return err
		}
		if len(chosen) > 0 {
			fmt.Fprintln(p.out)
		}
	}
	fmt.Fprintf(p.out, "%s of %d in %s, %d expired\n", app.CountEntries(len(chosen)), len(k.Entries), k.name, expired)
	return nil
}

// countBy counts entries by what they have in common, most first.
func (p *program) countBy(k *kept, chosen []int, group string) error {
	groups := map[string]func(e baseline.Entry) string{
		"rule":     func(e baseline.Entry) string { return e.Rule },
		"path":     func(e baseline.Entry) string { return e.Path },
		"tool":     func(e baseline.Entry) string { return e.Tool },
		"severity": func(e baseline.Entry) string { return e.Severity },
		"team":     func(e baseline.Entry) string { return k.Policy.TeamOf(e.Path) },
		"age":      func(e baseline.Entry) string { return age(e.On, k.today) },
	}
	of := groups[group]
	if of == nil {
		return fmt.Errorf("--group is rule, path, team, tool, severity or age, not %q", group)
	}
	counts := map[string]int{}
	for _, i := range chosen {
		counts[of(k.Entries[i])]++
	}
	names := make([]string, 0, len(counts))
	for name := range counts {
		names = append(names, name)
	}
	slices.SortFunc(names, func(a, b string) int {
		if group == "age" {
			return cmp.Compare(slices.Index(ages, a), slices.Index(ages, b))
		}
		return cmp.Or(cmp.Compare(counts[b], counts[a]), cmp.Compare(a, b))
	})
	width := len(strconv.Itoa(len(chosen)))
	for _, name := range names {
		fmt.Fprintf(p.out, "  %*d  %s\n", width, counts[name], cmp.Or(render.Safe(name), "(none)"))
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
