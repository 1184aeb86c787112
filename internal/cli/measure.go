package cli

import (
	"fmt"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/app"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/render"
)

// measuring checks what all measures have in common, and readies the request.
func measuring(f *pflag.FlagSet, q *app.MeasureRequest, o *render.MeasureOptions, selected *selectFlags, format string) error {
	if err := checkValue("format", format, render.MeasureFormats); err != nil {
		return err
	}
	if o.Worst < 0 {
		return fmt.Errorf("--worst takes how many are shown, 0 for all, not %d", o.Worst)
	}
	if !f.Changed("worst") && format != render.Text {
		o.Worst = 0
	}
	q.Selects = func(p *policy.Policy, root string) (func(string) bool, error) {
		by, err := selected.by(p, q.Dir, root)
		return func(path string) bool {
			return by.TakesPath(path) && (len(by.Teams) == 0 || policy.TakesName(by.Teams, p.TeamOf(path)))
		}, err
	}
	return nil
}

// measureCoverage shows what tests cover.
func (p *program) measureCoverage(cmd *cobra.Command, q app.MeasureRequest, o render.MeasureOptions, files []string, format string) error {
	ofChange := q.Change.Kind != "" && q.Change.Kind != policy.Tree
	switch {
	case !cmd.Flags().Changed("of") && ofChange:
		o.Of = measure.OfTouched
	case !cmd.Flags().Changed("of"):
		o.Of = measure.OfFile
	}
	if cmd.Flags().Changed("sort") {
		return fmt.Errorf("--sort is for sizes; of coverage what has the most uncovered lines comes first")
	}
	covering, err := app.Cover(cmd.Context(), q, files)
	if err != nil {
		return graded(err)
	}
	rows := covering.Rows(o.Of)
	measure.SortUncovered(rows)
	return render.Coverage(p.out, format, rows, render.CoverOptions{Of: o.Of, Worst: o.Worst, Touched: covering.Change != nil, Notices: covering.Notices, Text: covering.Text})
}

// measureDuplicates shows duplicated code.
func (p *program) measureDuplicates(cmd *cobra.Command, q app.MeasureRequest, o render.MeasureOptions, format string) error {
	for _, other := range []string{"of", "sort", "coverage"} {
		if cmd.Flags().Changed(other) {
			return fmt.Errorf("--duplicates goes without --%s", other)
		}
	}
	found, err := app.Duplicates(cmd.Context(), q)
	if err != nil {
		return graded(err)
	}
	return render.Duplicates(p.out, format, found.Copies, render.DuplicateOptions{Worst: o.Worst, Counted: found.Counted(), Touched: found.Change != nil})
}

func (p *program) measure() *cobra.Command {
	var selected selectFlags
	var change changeFlags
	var format, by string
	var coverage []string
	var duplicates bool
	q, o := app.MeasureRequest{}, render.MeasureOptions{}
	cmd := &cobra.Command{
		Use:   "measure [PATH]...",
		Short: "Show how long, complex, covered and duplicated code is",
		Long: `Show numbers about the code of the work tree or a commit, or of what a change alters, with what they were before: of functions their lines, decisions, nesting and parameters, of files also how many lines hold code and how many functions there are. PATH names files and folders.

A decision is a point at which a function goes on in one of several ways: if, a loop, a case, catch, and each "and" and "or". Nesting is how deep such structures stand inside one another. A function inside another is part of it. Numbers with ~ are estimated. What the policy skips, or says is generated, is left out.

With --coverage it shows how many of the lines that can be reached tests came to, of a change those of its changed lines: by Go's cover profile, an LCOV tracefile, Cobertura or JaCoCo XML. A changed file that no coverage file mentions counts as not covered, if they mention others of its kind.

With --duplicates it shows duplicated code: at least 60 tokens in a row that are the same, over six lines, whatever the comments and white space; of a change what it copies. The policy can say otherwise (duplication:).`,
		Example: `zincdoor measure
zincdoor measure core --sort nesting --worst 5
zincdoor measure --into main
zincdoor measure --of file --path "core/**"
zincdoor measure --of all --format csv
zincdoor measure --coverage build/coverage --into main
zincdoor measure --duplicates`,
		Args: cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			revision, paths, err := revisionAndPaths(change.tree, args)
			if err != nil {
				return err
			}
			selected.under = paths
			if q.Change, err = change.name(cmd.Flags(), revision); err != nil {
				return err
			}
			if q.Dir, err = workingDir(); err != nil {
				return err
			}
			if err := measuring(cmd.Flags(), &q, &o, &selected, format); err != nil {
				return err
			}
			if err := checkValue("of", string(o.Of), words(measure.Scopes)); err != nil {
				return err
			}
			if o.Of == measure.OfTouched && (q.Change.Kind == "" || q.Change.Kind == policy.Tree) {
				return fmt.Errorf("--of touched is about a change; name one, e.g. --into main")
			}
			if duplicates {
				return p.measureDuplicates(cmd, q, o, format)
			}
			if len(coverage) > 0 {
				return p.measureCoverage(cmd, q, o, coverage, format)
			}
			if o.By = measure.Number(by); by == "" {
				o.By = o.Of.ByDefault()
			}
			if err := checkValue("sort", string(o.By), words(o.Of.Numbers())); err != nil {
				return fmt.Errorf("%w, of a %s", err, o.Of)
			}
			sizes, err := app.Measure(cmd.Context(), q)
			if err != nil {
				return graded(err)
			}
			rows := measure.Rows(sizes.Files, o.Of)
			switch o.Change = sizes.Change != nil && o.Of != measure.OfTouched; {
			case o.Of == measure.OfTouched:
				rows = measure.TouchedRows(sizes.Files, sizes.Change)
			case o.Change:
				rows = measure.Compare(rows, measure.Rows(sizes.Before, o.Of), sizes.Change)
			}
			measure.Sort(rows, o.By)
			o.Other, o.Aside = sizes.Other, sizes.Aside
			return render.Measures(p.out, format, rows, o)
		},
	}
	p.group(cmd, "Numbers", func(f *pflag.FlagSet) {
		f.StringVar((*string)(&o.Of), "of", string(measure.OfFunction), "`WORD`|of what: changed lines by file, functions, files, languages:")
		values(f, "of", words(measure.Scopes)...)
		f.StringArrayVar(&coverage, "coverage", nil, "`[RECIPE=]FILE`|what tests cover, by a coverage file; repeatable")
		f.BoolVar(&duplicates, "duplicates", false, "duplicated code, the longest first")
		f.StringVar(&by, "sort", "", "`NUMBER`|the most of it first, else of decisions or code:")
		values(f, "sort", words(measure.AllNumbers)...)
	})
	p.group(cmd, selectionHeading, func(f *pflag.FlagSet) {
		f.StringSliceVar(&selected.selector.Paths, "path", nil, "in files or folders that `GLOB` matches, or in a set of the policy")
		f.StringSliceVar(&selected.selector.Teams, "team", nil, "in files of `TEAM`")
	})
	p.group(cmd, changeHeading+" (else the work tree)", change.addLocal)
	p.group(cmd, outputHeading, func(f *pflag.FlagSet) {
		f.IntVar(&o.Worst, "worst", 20, "show the first `N` alone; 0 for all, as in CSV and JSON otherwise")
		f.StringVar(&format, "format", render.Text, "`FORMAT`|how they are shown:")
		values(f, "format", render.MeasureFormats...)
	})
	p.group(cmd, policyHeading, func(f *pflag.FlagSet) { addPolicy(f, &q.Policy) })
	return cmd
}
