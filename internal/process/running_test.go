//go:build unix

package process

import (
	"bytes"
	"errors"
	"io"
	"os/exec"
	"strings"
	"testing"
	"time"
)

// TestRun: all that a program wrote until its end is taken, though what it left behind holds its outputs open, though nobody has time to
// read them in its last moments, and though it leaves what it was given.
func TestRun(t *testing.T) {
	for name, c := range map[string]struct {
		script, stdin string
		out, err      string
		code          int
	}{
		"nothing":               {"exit 0", "", "", "", 0},
		"a failure":             {"echo out; echo err >&2; exit 3", "", "out\n", "err\n", 3},
		"much":                  {"head -c 1000000 /dev/zero | tr '\\0' x", "", strings.Repeat("x", 1_000_000), "", 0},
		"left behind":           {"sleep 60 & echo out", "", "out\n", "", 0},
		"what it doesn't read":  {"echo out", strings.Repeat("y", 1_000_000), "out\n", "", 0},
		"without a line's end":  {"printf out; printf err >&2", "", "out", "err", 0},
		"what it was given":     {"cat", "given", "given", "", 0},
		"to both, a lot of it":  {"head -c 300000 /dev/zero | tr '\\0' a >&2; head -c 300000 /dev/zero | tr '\\0' b", "", strings.Repeat("b", 300_000), strings.Repeat("a", 300_000), 0},
		"beginning like a mark": {"printf '\\000\\001\\002'", "", "\x00\x01\x02", "", 0},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			cmd := exec.CommandContext(t.Context(), "sh", "-c", c.script)
			cmd.Stdin = strings.NewReader(c.stdin)
			group := NewGroup(cmd)
			cmd.WaitDelay = time.Nanosecond // as on a machine that does nothing for us for a second
			out, complaint, err := Output(cmd)
			group.End()
			code := 0
			if exit := (*exec.ExitError)(nil); errors.As(err, &exit) {
				code = exit.ExitCode()
			} else if err != nil {
				t.Fatal(err)
			}
			if string(out) != c.out || string(complaint) != c.err || code != c.code {
				t.Errorf("code %d, %d bytes out, %d bytes err: %.20q %.20q", code, len(out), len(complaint), out, complaint)
			}
		})
	}
	var both bytes.Buffer
	if err := Run(exec.Command("sh", "-c", "echo one; echo two >&2"), &both, &both); err != nil || both.String() != "one\ntwo\n" {
		t.Errorf("both in one: %q, %v", both.String(), err)
	}
	full := errors.New("no room")
	if err := Run(exec.Command("sh", "-c", "head -c 1000000 /dev/zero"), failing{full}, io.Discard); !errors.Is(err, full) {
		t.Errorf("a writer that fails: %v", err)
	}
	if err := Run(exec.Command("no-such-program"), &both, nil); !errors.Is(err, exec.ErrNotFound) {
		t.Errorf("no program: %v", err)
	}
}

type failing struct{ err error }

func (f failing) Write([]byte) (int, error) { return 0, f.err }
