package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"text/template"

	"github.com/spf13/pflag"

	"zincdoor/internal/app"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/files"
	"zincdoor/internal/render"
)

// outputFlags say where the verdict goes and in which formats.
type outputFlags struct {
	format, file string
	writes       []string
	template     string
	maxLength    int
	formats      []string // that the command has; nil for render.Formats
	screen       screenFlags
	parsed       *template.Template
}

// screenFlags say what of a verdict a terminal shows.
type screenFlags struct {
	show, group           string
	paths                 []string
	context               int
	quiet, verbose, plain bool
}

func (s *screenFlags) add(f *pflag.FlagSet) {
	f.StringVar(&s.show, "show", "", "`WORD`|the findings that are so; else the first that broke a limit:")
	values(f, "show", render.Shows...)
	f.StringSliceVar(&s.paths, "path", nil, "only findings in files or folders that `GLOB` matches")
	addGroup(f, &s.group, string(render.ByFile))
	f.IntVar(&s.context, "context", 0, "`N` lines around each finding")
	f.BoolVarP(&s.quiet, "quiet", "q", false, "nothing but the outcome")
	f.BoolVarP(&s.verbose, "verbose", "v", false, "all that is known of each finding")
	f.BoolVar(&s.plain, "plain", false, "sentences without signs and colours, for screen readers")
}

func (s *screenFlags) check() error {
	if s.show != "" {
		if err := checkValue("show", s.show, render.Shows); err != nil {
			return err
		}
	}
	if err := checkValue("group", s.group, render.Groups); err != nil {
		return err
	}
	if s.context < 0 || s.context > 100 {
		return fmt.Errorf("--context takes 0 to 100 lines, not %d", s.context)
	}
	return nil
}

// options are how a result is shown.
func (s *screenFlags) options(j *app.Judged) render.Options {
	o := render.Options{
		Show: render.Show(s.show), Group: render.Group(s.group), Context: s.context, Quiet: s.quiet, Verbose: s.verbose, Plain: s.plain,
		Text: j.Text, Touched: j.Touched, Rule: j.Rule, Part: s.paths,
	}
	o.Link, o.Sets = j.Input.Policy.Link, j.Input.Policy.Sets
	return o
}

func (o *outputFlags) options(j *app.Judged) render.Options {
	all := o.screen.options(j)
	all.Template, all.MaxLength, all.Seal = o.parsed, o.maxLength, j.Seal
	return all
}

func (o *outputFlags) add(f *pflag.FlagSet) {
	f.StringVar(&o.format, "format", render.Terminal, "`FORMAT`|how the verdict is shown:")
	values(f, "format", o.known()...)
	f.StringVar(&o.file, "output", "", "write it to `FILE` instead of standard output")
	f.StringArrayVar(&o.writes, "write", nil, "`FORMAT=FILE`|write it to a file too; repeatable")
	f.StringVar(&o.template, "template", "", "`FILE`|for --format template: a Go template, which gets the verdict's JSON")
	f.IntVar(&o.maxLength, "max-length", render.MarkdownLength, "for --format markdown: at most `N` characters")
}

// known are the formats that the command has.
func (o *outputFlags) known() []string {
	if o.formats == nil {
		return render.Formats
	}
	return o.formats
}

// output is one of the places that the verdict is written to; file "" is standard output.
type output struct{ format, file string }

type outputs []output

func (o *outputFlags) outputs() (outputs, error) {
	if err := o.screen.check(); err != nil {
		return nil, err
	}
	all := outputs{{o.format, o.file}}
	for _, w := range o.writes {
		format, file, ok := strings.Cut(w, "=")
		if !ok || file == "" {
			return nil, fmt.Errorf("--write takes FORMAT=FILE, not %q", w)
		}
		all = append(all, output{format, file})
	}
	for _, t := range all {
		if err := checkFormat(t.format, o.known()); err != nil {
			return nil, err
		}
	}
	if o.maxLength < leastRoom {
		return nil, fmt.Errorf("--max-length takes %d characters or more, not %d", leastRoom, o.maxLength)
	}
	return all, o.parse(all)
}

// lines reports whether lines around findings will be shown.
func (o *outputFlags) lines(all outputs) bool {
	return o.screen.context > 0 || slices.ContainsFunc(all, func(t output) bool { return t.format == render.HTML })
}

// leastRoom is how many characters a verdict as Markdown needs for its outcome.
const leastRoom = 1000

// parse reads the template where one is needed.
func (o *outputFlags) parse(all outputs) error {
	wanted := slices.ContainsFunc(all, func(t output) bool { return t.format == render.Template })
	switch {
	case wanted && o.template == "":
		return fmt.Errorf("the format template needs a template: --template FILE")
	case !wanted && o.template != "":
		return fmt.Errorf("--template goes with --format template or --write template=FILE")
	case !wanted:
		return nil
	}
	text, err := os.ReadFile(o.template)
	if err != nil {
		return fmt.Errorf("the template can't be read: %w", err)
	}
	o.parsed, err = render.ParseTemplate(filepath.Base(o.template), string(text))
	if err != nil {
		return fmt.Errorf("the template can't be read: %w", err)
	}
	return nil
}

func checkFormat(format string, known []string) error {
	if slices.Contains(known, format) {
		return nil
	}
	return fmt.Errorf("no output format is called %q; there are %s", format, strings.Join(known, ", "))
}

// shown is a verdict, and how it is shown.
type shown struct {
	verdict judge.Verdict
	options render.Options
}

// write writes the verdicts everywhere. A file is replaced whole or not at all.
func (all outputs) write(out io.Writer, verdicts []shown) error {
	for _, t := range all {
		if t.file == "" {
			if err := renderAll(out, t.format, verdicts); err != nil {
				return unjudged{fmt.Errorf("writing the verdict: %w", err)}
			}
			continue
		}
		if err := replace(t.file, func(w io.Writer) error { return renderAll(w, t.format, verdicts) }); err != nil {
			return unjudged{fmt.Errorf("the verdict can't be written to %s: %w", t.file, err)}
		}
	}
	return nil
}

// replace puts what write writes in the place of a file, once all of it is written. A device or a pipe is written to.
func replace(file string, write func(io.Writer) error) error {
	if info, err := os.Stat(file); err == nil && !info.Mode().IsRegular() && !info.IsDir() {
		to, err := os.OpenFile(file, os.O_WRONLY, 0)
		if err != nil {
			return err
		}
		return errors.Join(write(to), to.Close())
	}
	files.RemoveUnfinished(file, files.UnfinishedAge)
	to, err := files.NewPending(file, filepath.Dir(file), 0o644)
	if err != nil {
		return err
	}
	defer to.Cleanup()
	if err := write(to); err != nil {
		return err
	}
	return to.CloseAtomicallyReplace()
}

func renderAll(out io.Writer, format string, verdicts []shown) error {
	for _, v := range verdicts {
		if err := render.Verdict(out, format, v.verdict, v.options); err != nil {
			return err
		}
	}
	return nil
}
