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

	"github.com/google/renameio/v2"
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
	screen       screenFlags
	parsed       *template.Template
}

// screenFlags say what of a verdict a terminal shows.
type screenFlags struct {
	show, group           string
	context               int
	quiet, verbose, plain bool
}

func (s *screenFlags) add(f *pflag.FlagSet) {
	f.StringVar(&s.show, "show", "", "in the terminal, show findings that are `"+strings.Join(render.Shows, "|")+"`; without it those that broke a limit, as many as are read at once")
	f.StringVar(&s.group, "group", string(render.ByFile), "in the terminal, put findings together by `"+strings.Join(render.Groups, "|")+"`")
	f.IntVar(&s.context, "context", 0, "in the terminal, show `N` lines around each finding")
	f.BoolVarP(&s.quiet, "quiet", "q", false, "in the terminal, show nothing but the outcome")
	f.BoolVarP(&s.verbose, "verbose", "v", false, "in the terminal, show all there is to each finding")
	f.BoolVar(&s.plain, "plain", false, "in the terminal, tell it in sentences without signs or colours, for screen readers")
}

func (s *screenFlags) check() error {
	switch {
	case s.show != "" && !slices.Contains(render.Shows, s.show):
		return fmt.Errorf("--show is one of %s, not %q", strings.Join(render.Shows, ", "), s.show)
	case !slices.Contains(render.Groups, s.group):
		return fmt.Errorf("--group is one of %s, not %q", strings.Join(render.Groups, ", "), s.group)
	case s.context < 0 || s.context > 100:
		return fmt.Errorf("--context takes 0 to 100 lines, not %d", s.context)
	}
	return nil
}

// options are how a result is shown.
func (s *screenFlags) options(j *app.Judged) render.Options {
	o := render.Options{
		Show: render.Show(s.show), Group: render.Group(s.group), Context: s.context, Quiet: s.quiet, Verbose: s.verbose, Plain: s.plain,
		Text: j.Text, Touched: j.Touched, Rule: j.Rule,
	}
	o.Link = j.Input.Policy.Link
	return o
}

func (o *outputFlags) options(j *app.Judged) render.Options {
	all := o.screen.options(j)
	all.Template, all.MaxLength = o.parsed, o.maxLength
	return all
}

func (o *outputFlags) add(f *pflag.FlagSet) {
	f.StringVar(&o.format, "format", render.Terminal, "how the verdict is shown: `"+strings.Join(render.Formats, "|")+"`")
	f.StringVar(&o.file, "output", "", "write it to `FILE` instead of standard output")
	f.StringArrayVar(&o.writes, "write", nil, "write it to a file as well, as `FORMAT=FILE`; repeatable")
	f.StringVar(&o.template, "template", "", "for the format template: the Go template in `FILE`, which is given the verdict's JSON document")
	f.IntVar(&o.maxLength, "max-length", render.MarkdownLength, "for the format markdown: at most `N` characters")
	o.screen.add(f)
}

// place is one place the verdict is written to; file "" is standard output.
type place struct{ format, file string }

type places []place

func (o *outputFlags) places() (places, error) {
	if err := o.screen.check(); err != nil {
		return nil, err
	}
	all := places{{o.format, o.file}}
	for _, w := range o.writes {
		format, file, ok := strings.Cut(w, "=")
		if !ok || file == "" {
			return nil, fmt.Errorf("--write takes FORMAT=FILE, not %q", w)
		}
		all = append(all, place{format, file})
	}
	for _, t := range all {
		if err := checkFormat(t.format, render.Formats); err != nil {
			return nil, err
		}
	}
	if o.maxLength < leastRoom {
		return nil, fmt.Errorf("--max-length takes %d characters or more, not %d", leastRoom, o.maxLength)
	}
	return all, o.parse(all)
}

// lines reports whether lines around findings will be shown.
func (o *outputFlags) lines(all places) bool {
	return o.screen.context > 0 || slices.ContainsFunc(all, func(t place) bool { return t.format == render.HTML })
}

// leastRoom is how many characters a verdict as Markdown needs for its outcome.
const leastRoom = 1000

// parse reads the template where one is needed.
func (o *outputFlags) parse(all places) error {
	wanted := slices.ContainsFunc(all, func(t place) bool { return t.format == render.Template })
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
func (all places) write(out io.Writer, verdicts []shown) error {
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
	to, err := renameio.NewPendingFile(file, renameio.WithPermissions(0o644), renameio.WithTempDir(filepath.Dir(file)))
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
