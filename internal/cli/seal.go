package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"zincdoor/internal/app"
	"zincdoor/internal/evidence"
	"zincdoor/internal/files"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/render"
	"zincdoor/internal/seal"
	"zincdoor/internal/target"
)

// passphraseVariable is the environment variable with the passphrase of a key, where nobody is there to ask.
const passphraseVariable = "ZINCDOOR_KEY_PASSPHRASE"

// sealFlags are the flags of zincdoor seal.
type sealFlags struct {
	reports                       []string
	key, output, commit, generate string
	staged, worktree, ref         bool
	tool, version, command        string
	exit                          int
	exception, reason, by, until  string
}

func (p *program) seal() *cobra.Command {
	var flags sealFlags
	cmd := &cobra.Command{
		Use:   "seal [FILE...]",
		Short: "Seal reports for the tree they were made at",
		Long: `Seal reports where they are made: an in-toto statement in a DSSE envelope, signed with an Ed25519 key, that binds their content to git's tree. A policy can ask for that (sealed: in a report), so that a report of another tree, an old one, or one that somebody edited doesn't count. With --exception an operator seals a leave to pass one door with one tree.

With --as-ref the envelope, or those of the files that are named, go into refs of this repository, ` + target.SealedRefs + `…, which travel by git push and are never judged as code.

Reports are sealed for the commit that is checked out, as long as no tracked file differs from it; else name what they are of. The key is OpenSSH's or PEM; an encrypted one asks for its passphrase, or takes it from ` + passphraseVariable + `.

Exit codes: 0 it is sealed; 2 it can't be; 3 the call is wrong.`,
		Example: `zincdoor seal --generate-key ci-key
zincdoor seal --report compiler=build/cc.txt --key ci-key --output cc.seal
zincdoor seal --as-ref verdict.seal
zincdoor seal --exception merge --reason "gauge is down" --until 2027-03-01 \
  --key ops-key --as-ref`,
		Args: cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				return p.putSealed(cmd.Context(), cmd.Flags(), args)
			}
			return p.runSeal(cmd.Context(), cmd.Flags(), flags)
		},
	}
	p.group(cmd, "Key", func(f *pflag.FlagSet) {
		addKey(f, &flags.key)
		f.StringVar(&flags.generate, "generate-key", "", "make a key: the private one in `FILE`, the public one in FILE.pub")
	})
	p.group(cmd, reportsHeading, func(f *pflag.FlagSet) {
		f.StringArrayVar(&flags.reports, "report", nil, "`NAME=FILE`|a report, called as in the policy; repeatable")
		f.StringVar(&flags.tool, "tool", "", "`NAME`|what made the reports")
		f.StringVar(&flags.version, "tool-version", "", "`TEXT`|its version")
		f.StringVar(&flags.command, "command", "", "`TEXT`|the command that was run")
		f.IntVar(&flags.exit, "exit-code", 0, "the exit code `N` that the run ended with")
	})
	p.group(cmd, "Exception, in the place of reports", func(f *pflag.FlagSet) {
		f.StringVar(&flags.exception, "exception", "", "`DOOR`|let this tree pass the door")
		f.StringVar(&flags.reason, "reason", "", "`TEXT`|why; every verdict that rests on it shows that")
		f.StringVar(&flags.until, "until", "", "`DATE`|the last day on which it holds")
		f.StringVar(&flags.by, "by", "", "`NAME`|who lets it pass; else as git knows you")
	})
	p.group(cmd, "Tree (name one; else HEAD)", func(f *pflag.FlagSet) {
		f.StringVar(&flags.commit, "commit", "", "the tree of `REV`")
		f.BoolVar(&flags.staged, "staged", false, "the tree that committing what is staged would make")
		f.BoolVar(&flags.worktree, "worktree", false, "the tree that committing the work tree would make, new files too")
	})
	p.group(cmd, outputHeading, func(f *pflag.FlagSet) {
		f.StringVar(&flags.output, "output", "", "write the envelope to `FILE` instead of standard output")
		f.BoolVar(&flags.ref, "as-ref", false, "put it into a ref of this repository, to be pushed")
	})
	return cmd
}

func addKey(f *pflag.FlagSet, key *string) {
	f.StringVar(key, "key", "", "the private key `FILE` that seals")
}

func (p *program) runSeal(ctx context.Context, f *pflag.FlagSet, flags sealFlags) error {
	if flags.generate != "" {
		return p.generateKey(flags.generate)
	}
	q := app.SealRequest{At: flags.commit, Staged: flags.staged, Whole: flags.worktree, AsRef: flags.ref, Tool: flags.tool, Version: flags.version, Command: flags.command}
	if f.Changed("exit-code") {
		q.Exit = &flags.exit
	}
	named := 0
	for _, is := range []bool{flags.commit != "", flags.staged, flags.worktree} {
		if is {
			named++
		}
	}
	var err error
	switch {
	case named > 1:
		return errors.New("--commit, --staged and --worktree can't go together: name one tree")
	case flags.key == "":
		return errors.New("name the key that seals: --key FILE; zincdoor seal --generate-key FILE makes one")
	case len(flags.reports) > 0 && flags.exception != "":
		return errors.New("seal reports or an exception, not both at once")
	case flags.exception != "":
		if q.Exception, err = flags.leave(); err != nil {
			return err
		}
	case len(flags.reports) == 0:
		return errors.New("name what to seal: --report NAME=FILE, as the policy calls it")
	default:
		if q.Reports, err = namedReports(flags.reports); err != nil {
			return err
		}
	}
	if q.Dir, err = workingDir(); err != nil {
		return err
	}
	if q.Sealing, err = p.sealing(flags.key); err != nil {
		return err
	}
	sealed, err := app.Seal(ctx, q)
	if err != nil {
		return graded(err)
	}
	return p.tellSealed(sealed, flags)
}

// tellSealed puts the envelope where the call wants it, and says what was sealed.
func (p *program) tellSealed(sealed *app.Sealed, flags sealFlags) error {
	switch {
	case flags.output != "":
		if err := replace(flags.output, func(w io.Writer) error { _, err := w.Write(sealed.Data); return err }); err != nil {
			return unjudged{fmt.Errorf("the envelope can't be written to %s: %w", flags.output, err)}
		}
	case !flags.ref:
		if _, err := p.out.Write(sealed.Data); err != nil {
			return unjudged{err}
		}
	}
	what := "the exception for the door " + flags.exception
	if len(sealed.Reports) > 0 {
		var names []string
		for _, r := range sealed.Reports {
			names = append(names, r.Name)
		}
		what = strings.Join(names, ", ")
	}
	p.tell(p.err, "zincdoor: sealed %s for the tree %.12s of %s\n", render.Safe(what), sealed.Tree, render.Safe(sealed.Of))
	if sealed.Ref != "" {
		p.tellRefs([]string{sealed.Ref})
	}
	return nil
}

// putSealed puts envelopes that were sealed before into refs.
func (p *program) putSealed(ctx context.Context, f *pflag.FlagSet, envelopes []string) error {
	given := 0
	f.Visit(func(*pflag.Flag) { given++ })
	if given != 1 || !f.Changed("as-ref") {
		return fmt.Errorf("what is to be done with %s? To put envelopes into refs: zincdoor seal --as-ref FILE...; to seal a report: --report NAME=FILE", envelopes[0])
	}
	dir, err := workingDir()
	if err != nil {
		return err
	}
	refs, err := app.PutSealed(ctx, dir, envelopes)
	if err != nil {
		return graded(err)
	}
	p.tellRefs(refs)
	return nil
}

func (p *program) tellRefs(refs []string) {
	for _, ref := range refs {
		p.tell(p.out, "%s\n", ref)
	}
	p.tell(p.err, "zincdoor: they travel with a push: git push REMOTE BRANCH '%s*'\n", target.SealedRefs)
}

// leave is the exception of the call.
func (s *sealFlags) leave() (*seal.Exception, error) {
	if strings.TrimSpace(s.reason) == "" {
		return nil, errors.New("an exception needs a reason: --reason TEXT")
	}
	if _, err := time.Parse(time.DateOnly, s.until); err != nil {
		return nil, fmt.Errorf("an exception needs its last day, as --until 2027-02-01, not %q", s.until)
	}
	return &seal.Exception{Door: s.exception, Reason: s.reason, Until: s.until, By: s.by}, nil
}

// namedReports reads reports that are called as in the policy.
func namedReports(arguments []string) (all []evidence.File, err error) {
	for _, one := range arguments {
		name, file, ok := strings.Cut(one, "=")
		if !ok || name == "" || file == "" {
			return nil, fmt.Errorf("--report takes NAME=FILE here, not %q", one)
		}
		all = append(all, evidence.File{Name: name, Path: file})
	}
	return all, nil
}

// sealing is what the key in a file seals with.
func (p *program) sealing(file string) (s app.Sealing, err error) {
	s.Now = time.Now()
	s.Program, _ = build()
	if file == "" {
		return s, nil
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return s, unjudged{fmt.Errorf("the key can't be read: %w", err)}
	}
	key, err := seal.ParsePrivate(data, func() ([]byte, error) { return p.passphrase(file) })
	if err != nil {
		return s, unjudged{fmt.Errorf("the key %s can't be used: %w", file, err)}
	}
	s.Key = &key
	return s, nil
}

// passphrase is that of a key: from the environment, else from who is at the terminal.
func (p *program) passphrase(file string) ([]byte, error) {
	if secret, there := givenPassphrase(); there {
		return secret, nil
	}
	terminal, err := os.OpenFile("/dev/tty", os.O_RDWR, 0)
	switch {
	case err == nil:
		defer terminal.Close()
	case p.atTerminal(): // of a system that has no such file
		terminal = p.in.(*os.File)
	default:
		return nil, fmt.Errorf("it is encrypted, and nobody is there to ask for its passphrase; set %s", passphraseVariable)
	}
	p.tell(p.err, "passphrase of %s: ", render.Safe(file))
	secret, err := term.ReadPassword(int(terminal.Fd()))
	p.tell(p.err, "\n")
	return secret, err
}

// givenPassphrase is that of the environment, which nothing that is started gets to see.
func givenPassphrase() (secret []byte, there bool) {
	text, there := os.LookupEnv(passphraseVariable)
	os.Unsetenv(passphraseVariable)
	return []byte(text), there
}

// generateKey makes a key of two files, neither of which may be there.
func (p *program) generateKey(file string) error {
	passphrase, _ := givenPassphrase()
	private, public, err := seal.Generate(filepath.Base(file), passphrase)
	if err != nil {
		return unjudged{err}
	}
	for _, part := range []struct {
		file string
		data []byte
		mode os.FileMode
	}{{file, private, 0o600}, {file + ".pub", []byte(public + "\n"), 0o644}} {
		if err := files.WriteNew(part.file, part.data, part.mode); err != nil {
			return unjudged{fmt.Errorf("the key isn't made: %w", err)}
		}
	}
	p.tell(p.err, "zincdoor: the private key is in %s: keep it where reports are made. The public one is in %s.pub; for the policy:\n", render.Safe(file), render.Safe(file))
	p.tell(p.out, "seals: {%s: %q}\n", policyfile.Word(filepath.Base(file)), public)
	return nil
}

// verifyFlags are the flags of zincdoor verify.
type verifyFlags struct {
	evidence           evidenceFlags
	commit, door, into string
	reports            []string
	format             string
}

func (p *program) verify() *cobra.Command {
	var flags verifyFlags
	cmd := &cobra.Command{
		Use:   "verify FILE",
		Short: "Check a sealed report, verdict or exception",
		Long: `Check a sealed statement as a door does: whether a key of the policy sealed it, whether that key counts today, whether it is of the tree of a commit, and what it says. A verdict must have passed, against the present tip of what the change comes to, by the policy and the baseline there.

Exit codes: 0 it holds; 1 it doesn't; 2 it can't be checked; 3 the call is wrong.`,
		Example: `zincdoor verify verdict.seal --commit HEAD --door merge
zincdoor verify cc.seal --report compiler=build/cc.txt`,
		Args: arguments("the file with the sealed statement"),
		RunE: func(cmd *cobra.Command, args []string) error { return p.runVerify(cmd.Context(), args[0], flags) },
	}
	p.group(cmd, "What it should be of", func(f *pflag.FlagSet) {
		f.StringVar(&flags.commit, "commit", "HEAD", "the tree of `REV`")
		f.StringVar(&flags.door, "door", "", "`NAME`|the door; else the one that it names")
		f.StringVar(&flags.into, "into", "", "`REF`|what the change comes to; else, of a verdict, what it says")
		f.StringArrayVar(&flags.reports, "report", nil, "`NAME=FILE`|compare a report's content; repeatable")
	})
	p.group(cmd, policyHeading, flags.evidence.addPolicy, flags.evidence.addBaseline, flags.evidence.addToday)
	p.group(cmd, outputHeading, func(f *pflag.FlagSet) {
		f.StringVar(&flags.format, "format", render.Terminal, "`FORMAT`|how the result is shown:")
		values(f, "format", render.VerifiedFormats...)
	})
	return cmd
}

func (p *program) runVerify(ctx context.Context, file string, flags verifyFlags) error {
	if err := checkFormat(flags.format, render.VerifiedFormats); err != nil {
		return err
	}
	q := app.VerifyRequest{File: file, Commit: flags.commit, Door: flags.door, Into: flags.into, Now: time.Now()}
	var err error
	if q.Call, err = flags.evidence.call(); err != nil {
		return err
	}
	if q.Reports, err = namedReports(flags.reports); err != nil {
		return err
	}
	v, err := app.Verify(ctx, q)
	if err != nil {
		return graded(err)
	}
	if len(v.Why) > 0 {
		p.code = exitShut
	}
	shown := render.Verified{File: file, Statement: v.Statement, Digest: v.Digest, Commit: v.Commit, Into: v.Into, By: v.By, Why: v.Why, Unchecked: v.Unchecked, Limits: v.Limits}
	if err := render.Verify(p.out, flags.format, shown); err != nil {
		return unjudged{fmt.Errorf("writing the result: %w", err)}
	}
	return nil
}
