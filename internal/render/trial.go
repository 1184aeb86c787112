package render

import (
	"fmt"
	"io"
	"strings"
	"time"

	"zincdoor/internal/codehost"
	"zincdoor/internal/core/finding"
)

// WriteHostTrial writes what a host recipe gave when it was tried: what was read field by field, then what would be sent.
func WriteHostTrial(w io.Writer, looks []codehost.Look, samples []codehost.Sample) error {
	var s strings.Builder
	for _, l := range looks {
		fmt.Fprintf(&s, "%s\n  %s", l.Act, Safe(l.Call))
		if l.Code > 0 {
			fmt.Fprintf(&s, "  %d in %s", l.Code, l.Took.Round(time.Millisecond))
		}
		s.WriteByte('\n')
		if l.Err != nil {
			fmt.Fprintf(&s, "  failed: %s\n", Safe(l.Err.Error()))
			if l.Things == 0 {
				s.WriteByte('\n')
				continue
			}
		}
		if l.Lists {
			fmt.Fprintf(&s, "  %s on %s", finding.CountOf(l.Things, "thing"), finding.CountOf(l.Calls, "page"))
			if l.Things > 0 {
				s.WriteString("; the first has")
			}
			s.WriteByte('\n')
		}
		for _, f := range l.Fields {
			value := Safe(clipRunes(f.Value, 60))
			if !f.Found {
				value = "—"
			}
			if l.Things > 0 {
				fmt.Fprintf(&s, "  %-11s %-28s %s\n", f.Name, f.At, value)
			}
		}
		s.WriteByte('\n')
	}
	if len(samples) > 0 {
		s.WriteString("Nothing of this was sent; it would be, with other values:\n\n")
	}
	for _, sample := range samples {
		fmt.Fprintf(&s, "%s\n  %s\n", sample.Act, Safe(sample.Call))
		if sample.Body != "" {
			fmt.Fprintf(&s, "  %s\n", Safe(clipRunes(sample.Body, 200)))
		}
	}
	_, err := io.WriteString(w, s.String())
	return err
}
