package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/gofrs/flock"
	"github.com/google/renameio/v2"
	"github.com/spf13/cobra"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/gate"
)

func (p *program) baseline() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "baseline",
		Short: "Keep the list of accepted findings",
		Args:  cobra.NoArgs,
		RunE:  func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(p.take())
	return cmd
}

func (p *program) take() *cobra.Command {
	var evidence evidenceFlags
	var why, reason string
	var replace bool
	cmd := &cobra.Command{
		Use:   "take",
		Short: "Accept all present findings of the reports",
		Long: `Accept every finding that the reports have of the work tree, and note their tools as covered: from then on,
whatever these tools find that isn't in the list is new.

  zincdoor baseline take --report build/warnings.txt

The list is a file of the repository (.zincdoor/baseline.jsonl, or where the policy says). Commit it.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			request, err := evidence.request(p.in)
			if err != nil {
				return err
			}
			if !slices.Contains([]baseline.Why{baseline.Debt, baseline.Mistaken, baseline.Meant}, baseline.Why(why)) {
				return fmt.Errorf("--why is one of debt, mistaken, meant, not %q", why)
			}
			if err := oneStdin(request); err != nil {
				return err
			}
			result, err := gate.Survey(cmd.Context(), request)
			if err != nil {
				return graded(err)
			}
			return p.keep(result, baseline.Entry{Why: baseline.Why(why), Reason: reason, By: result.Author, On: request.Today}, replace)
		},
	}
	evidence.add(cmd.Flags())
	cmd.Flags().StringVar(&why, "why", string(baseline.Debt), "the reason: `debt` (true, but not now), mistaken (not a fault) or meant (a deliberate exception)")
	cmd.Flags().StringVar(&reason, "reason", "", "the reason in your own `WORDS`")
	cmd.Flags().BoolVar(&replace, "replace", false, "replace a list that holds entries already")
	return cmd
}

// keep writes the findings as the baseline, under a lock, so that of two runs at once the second sees the first.
func (p *program) keep(result *gate.Result, model baseline.Entry, replace bool) error {
	for _, e := range result.Case.Evidence {
		if !e.Sound() {
			return unjudged{fmt.Errorf("%s is no evidence (%s), so nothing is taken: %s", e.Name, e.State, e.Problem)}
		}
	}
	file := filepath.Join(result.Root, filepath.FromSlash(result.BaselinePath))
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return unjudged{err}
	}
	lock := flock.New(filepath.Dir(file), flock.SetFlag(os.O_RDONLY)) // the folder, so that no lock file is left behind
	if err := lock.Lock(); err != nil {
		return unjudged{fmt.Errorf("the baseline can't be locked: %w", err)}
	}
	defer lock.Unlock()
	if err := mayReplace(file, result.BaselinePath, replace); err != nil {
		return err
	}
	list := takeAll(result, model)
	var data bytes.Buffer
	if err := list.Write(&data); err != nil {
		return unjudged{err}
	}
	if err := renameio.WriteFile(file, data.Bytes(), 0o644); err != nil {
		return unjudged{fmt.Errorf("the baseline can't be written: %w", err)}
	}
	tools := make([]string, len(list.Covers))
	for i, c := range list.Covers {
		tools[i] = c.Tool
	}
	fmt.Fprintf(p.out, "%s accepted, covering %s; written to %s\n", finding.Count(len(list.Entries)), strings.Join(tools, ", "), result.BaselinePath)
	return nil
}

func mayReplace(file, name string, replace bool) error {
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) || replace {
		return nil
	}
	if err != nil {
		return unjudged{err}
	}
	old, err := baseline.Read(bytes.NewReader(data))
	if err != nil {
		return unjudged{fmt.Errorf("%s: %w; mend it, or write it anew with --replace", name, err)}
	}
	if len(old.Entries) > 0 {
		return fmt.Errorf("%s holds %d entries already, with their reasons and dates, which would be lost; --replace takes them all anew", name, len(old.Entries))
	}
	return nil
}

func takeAll(result *gate.Result, model baseline.Entry) *baseline.Baseline {
	list := &baseline.Baseline{}
	for _, f := range result.Case.Findings {
		p := result.Case.Policy
		e := baseline.EntryFor(f, p.Levels[f.Level])
		e.Measure, _ = baseline.Measure(f.Message, p.Gauge(f.Tool, f.Rule))
		e.Why, e.Reason, e.By, e.On = model.Why, model.Reason, model.By, model.On
		list.Entries = append(list.Entries, e)
	}
	for _, e := range result.Case.Evidence {
		for _, c := range e.Covers {
			if !slices.ContainsFunc(list.Covers, func(o baseline.Cover) bool { return o.Tool == c.Tool && slices.Equal(o.Paths, c.Paths) }) {
				list.Covers = append(list.Covers, c)
			}
		}
	}
	return list
}
