package cli

import (
	"errors"
	"io"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"zincdoor/internal/editor"
	"zincdoor/internal/memory"
)

func (p *program) lsp() *cobra.Command {
	var evidence evidenceFlags
	var door string
	cmd := &cobra.Command{
		Use:   "lsp",
		Short: "Show the door's view in an editor while you type",
		Long: `Speak the Language Server Protocol (3.17) on standard input and output, for an editor that starts this command: what the door says of the work tree and of texts that aren't saved yet, with explanations, fixes, waivers and acceptances where the findings stand.

Linters that look at each file by itself (per: file) are asked when a file is opened or saved, those with watch: true whenever one is saved, all others by the editor's command zincdoor.gate. House checks follow when typing pauses.`,
		Example: "zincdoor lsp\nzincdoor lsp --door commit",
		Args:    noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			request, err := evidence.request(nil)
			if err != nil {
				return err
			}
			for _, r := range request.Reports.Files {
				if r.Path == "-" {
					return errors.New("standard input is the editor's, so no report can come from there; name a file with --report")
				}
			}
			request.Door = door
			request.Policy, request.Baseline = fromHere(request.Dir, request.Policy), fromHere(request.Dir, request.Baseline)
			if in, isFile := p.in.(*os.File); isFile && term.IsTerminal(int(in.Fd())) {
				p.tell(p.err, "zincdoor: an editor starts this command and speaks with it; how to set one up stands in docs/editors.md\n")
			}
			version, _ := build()
			memory.KeepLean()
			err = editor.Serve(cmd.Context(), p.in, keepOpen{p.out}, editor.Options{Request: request, Version: version, Today: func() string {
				day, err := today(evidence.today)
				if err != nil {
					return request.Today // which it was read as
				}
				return day
			}})
			if err != nil {
				return unjudged{err}
			}
			return nil
		},
	}
	p.group(cmd, reportsHeading, evidence.addReport, evidence.addRuns)
	p.group(cmd, policyHeading, func(f *pflag.FlagSet) { addDoor(f, &door) }, evidence.addPolicy, evidence.addBaseline, evidence.addToday)
	return cmd
}

// fromHere is a file named in the call, wherever it will be looked up; a name that is none stays.
func fromHere(dir, name string) string {
	if file := filepath.Join(dir, name); name != "" && !filepath.IsAbs(name) {
		if _, err := os.Stat(file); err == nil {
			return file
		}
	}
	return name
}

// keepOpen is an output that stays open.
type keepOpen struct{ io.Writer }

func (keepOpen) Close() error { return nil }
