package report

import (
	"errors"
	"fmt"
	"sync"
	"unsafe"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/memory"
)

// What a report may hold, whatever its format: how much at once, how deep and how many findings. All readers take time in proportion
// to a report's length.
const (
	mostBytes    = 1 << 30   // bytes of a report, unpacked
	mostText     = 1 << 20   // bytes that are kept of a line of text, or that a row of a table has
	mostDepth    = 1000      // of XML's elements; JSON's values have 10,000
	mostDocument = 256 << 20 // bytes of a JSON value or of an XML document that a recipe reads, where there is memory for it
	mostValue    = 256 << 20 // bytes of a result or a rule of SARIF, where there is memory for it
	mostObject   = 64 << 20  // bytes of a value that a compiler writes between lines of text
)

// How much of the memory that there is one of these takes, with all that is made of it.
const (
	documentPart = 24
	valuePart    = 12
	findingPart  = 6
)

// longestDocument and longestValue are what may be held at once, in bytes.
var (
	longestDocument = sync.OnceValue(func() int64 { return memory.Share(mostDocument, documentPart) })
	longestValue    = sync.OnceValue(func() int { return int(memory.Share(mostValue, valuePart)) })
)

// mostFindings is how many findings one report may have. Each takes 1.5 KiB at most until a verdict is made of all, beside its texts.
var mostFindings = sync.OnceValue(func() int {
	return int(memory.Allowed() / findingPart / int64(unsafe.Sizeof(finding.Finding{})))
})

// mostRules is how many rules one tool may have.
var mostRules = sync.OnceValue(func() int { return int(min(1<<20, memory.Allowed()/ruleRoom)) })

// ruleRoom is how much memory a rule takes at most until all are read, in bytes, beside its texts.
const ruleRoom = 4 << 10

// ErrTooMuch is the error of a report with more findings, or rules, than there is memory for.
var ErrTooMuch = errors.New("too much")

// add adds a finding.
func (r *Report) add(f finding.Finding) error {
	if err := r.roomFor(1); err != nil {
		return err
	}
	r.Findings = append(r.Findings, f)
	return nil
}

// roomFor is an error where there is no memory for n more findings.
func (r *Report) roomFor(n int) error {
	if len(r.Findings)+n > mostFindings() {
		return fmt.Errorf("it has more than %d findings, too many for %d MiB of memory; run the linter on less at once, or split its report: %w", mostFindings(), memory.Allowed()>>20, ErrTooMuch)
	}
	return nil
}
