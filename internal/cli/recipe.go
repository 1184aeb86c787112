package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/render"
	"zincdoor/internal/report"
)

func (p *program) recipe() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "recipe",
		Short: "Try how a report is read",
		Long:  "Try how a report is read. A recipe describes, in the policy, a format that has no open standard.",
		Args:  cobra.ArbitraryArgs,
		RunE:  p.commandsOnly,
	}
	cmd.AddCommand(p.tryRecipe())
	return cmd
}

// shownFindings is how many findings are shown field by field where the call doesn't say.
const shownFindings = 10

func (p *program) tryRecipe() *cobra.Command {
	var file string
	var run bool
	var first int
	cmd := &cobra.Command{
		Use:   "try NAME FILE",
		Short: "Show what a recipe makes of a file",
		Long: `Read FILE (- for standard input) by the policy's recipe NAME, or by a format, and show its findings field by field, and the first lines that couldn't be read.

Exit codes: 0; 1 where nothing could be read; 2 where the file is malformed.`,
		Example: `zincdoor recipe try diagnostics build/compiler.txt
zincdoor recipe try sarif build/farecheck.sarif --first 2`,
		Args: arguments("the name of a recipe or format", "a file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			read, err := p.openPolicy(cmd.Context(), file, run)
			if err != nil {
				return err
			}
			recipe, format := read.Policy.Recipe(args[0]), args[0]
			if names := read.Policy.FormatNames(); recipe == nil && !slices.Contains(names, format) {
				return fmt.Errorf("no recipe and no format is called %q; there are %s", format, strings.Join(names, ", "))
			}
			in := p.in
			if args[1] != "-" {
				f, err := os.Open(args[1])
				if errors.Is(err, fs.ErrNotExist) {
					return unjudged{fmt.Errorf("there is no file %s", args[1])}
				} else if err != nil {
					return unjudged{err}
				}
				defer f.Close()
				in = f
			}
			said, err := report.Read(in, report.Form{Format: format, Recipe: recipe})
			if err != nil {
				return unjudged{err}
			}
			if !said.Whole() {
				p.code = exitShut
			}
			return p.showReport(said, read.Policy, first)
		},
	}
	p.group(cmd, outputHeading, func(f *pflag.FlagSet) {
		f.IntVar(&first, "first", shownFindings, "show the first `N` findings")
	})
	p.group(cmd, policyHeading, func(f *pflag.FlagSet) {
		addPolicy(f, &file)
		addRun(f, &run)
	})
	return cmd
}

// showReport shows what was read of a report.
func (p *program) showReport(report *report.Report, by *policy.Policy, first int) error {
	for i, f := range report.Findings {
		if i == first {
			break
		}
		fmt.Fprintf(p.out, "finding %d\n", i+1)
		for _, field := range fieldsOf(f, by) {
			if field[1] != "" {
				fmt.Fprintf(p.out, "  %-11s %s\n", field[0], render.Safe(field[1]))
			}
		}
		fmt.Fprintln(p.out)
	}
	if left := len(report.Findings) - first; left > 0 {
		fmt.Fprintf(p.out, "… and %d more\n\n", left)
	}
	for i, u := range report.Unread {
		if i == 0 {
			fmt.Fprintf(p.out, "not read: %d\n", report.UnreadCount)
		}
		fmt.Fprintf(p.out, "  %s: %s\n", u.At, render.Safe(u.Text))
	}
	for _, notice := range report.Notices {
		fmt.Fprintf(p.out, "%s\n", render.Safe(notice))
	}
	switch why := report.Trouble(); {
	case why != "":
		fmt.Fprintf(p.out, "no evidence: %s\n", render.Safe(why))
	case report.Clean && len(report.Findings) == 0:
		fmt.Fprintln(p.out, "the tool found nothing, by clean:")
	}
	if report.Coverage != nil {
		return p.showCoverage(report.Coverage, first)
	}
	_, err := fmt.Fprintf(p.out, "%s read\n", finding.Count(len(report.Findings)))
	return err
}

// showCoverage shows what was read of what tests cover.
func (p *program) showCoverage(c measure.Coverage, first int) error {
	lines := 0
	for n, path := range c.Paths() {
		covered := 0
		for _, h := range c[path] {
			if h.Count > 0 {
				covered++
			}
		}
		if lines += len(c[path]); n < first {
			fmt.Fprintf(p.out, "%s: %d of %d lines covered\n", render.Safe(path), covered, len(c[path]))
		}
	}
	if left := len(c) - first; left > 0 {
		fmt.Fprintf(p.out, "… and %d more files\n", left)
	}
	_, err := fmt.Fprintf(p.out, "%d lines of %d files read\n", lines, len(c))
	return err
}

// fieldsOf lists what was read of a finding, by the names that recipes give it.
func fieldsOf(f finding.Finding, by *policy.Policy) [][2]string {
	number := func(n int) string {
		if n == 0 {
			return ""
		}
		return fmt.Sprint(n)
	}
	fields := [][2]string{
		{"path", f.Path}, {"line", number(f.Region.Line)}, {"column", number(f.Region.Column)},
		{"end_line", ""}, {"end_column", ""}, {"rule", f.Rule}, {"severity", cmp.Or(f.Weight().Severity, by.Levels[f.Level])},
		{"message", f.Message}, {"tool", f.Tool}, {"measure", f.Weight().Measured}, {"help", f.Details().Help},
	}
	if f.Region.EndLine > f.Region.Line {
		fields[3][1] = number(f.Region.EndLine)
	}
	if f.Region.EndColumn > 0 {
		fields[4][1] = number(f.Region.EndColumn - 1)
	}
	if fixes := f.Details().Fixes; len(fixes) > 0 && len(fixes[0].Edits) > 0 {
		fields = append(fields, [2]string{"suggestion", fixes[0].Edits[0].Text})
	}
	return fields
}
