package finding

import (
	"strconv"
	"strings"

	"zincdoor/internal/core/pattern"
)

// Gauge says which number of a rule's messages is a measure, and when it is worse.
type Gauge struct {
	Number int  // the nth number outside quotes, from 1; 0 where none is a measure
	Less   bool // less is worse
}

// Measure is the number of a message that tells how bad the fault is. It is the one that the gauge names; without a
// gauge, the one that stands beside a bound ("complexity 21, at most 10") or says what it counts ("81 lines"). It is ""
// where no number surely is a measure. Less says that less of it is worse.
func Measure(message string, gauge *Gauge) (measure string, less bool) {
	numbers := numbersOf(message)
	if gauge != nil {
		if gauge.Number < 1 || gauge.Number > len(numbers) {
			return "", false
		}
		return numbers[gauge.Number-1].text, gauge.Less
	}
	var bounds, counts, others []number
	for _, n := range numbers {
		switch {
		case n.bound != "":
			bounds = append(bounds, n)
		case n.counts:
			counts = append(counts, n)
		default:
			others = append(others, n)
		}
	}
	switch {
	case len(counts) == 1 && len(bounds) == 0:
		return counts[0].text, false
	case len(bounds) == 1 && len(counts) == 1:
		return counts[0].text, counts[0].short(bounds[0])
	case len(bounds) == 1 && len(counts) == 0 && len(others) == 1:
		return others[0].text, others[0].short(bounds[0])
	}
	return "", false
}

// Worsened compares a measure with the one that was accepted. It is false where one of them isn't a number.
func Worsened(accepted, now string, less bool) bool {
	a, err := strconv.ParseFloat(accepted, 64)
	b, worse := strconv.ParseFloat(now, 64)
	if err != nil || worse != nil {
		return false
	}
	if less {
		return b < a
	}
	return b > a
}

// number is a number of a message, and what its words make of it.
type number struct {
	text   string
	bound  string // the word that makes it a bound, "" where none does
	counts bool   // the words say what it counts
}

// short reports whether less than the bound is the fault.
func (n number) short(bound number) bool {
	switch bound.bound {
	case "least", "min", "minimum":
		return true
	case "limit", "allowed", "threshold", "required", "expected":
		return Worsened(bound.text, n.text, true)
	}
	return false
}

var (
	quoted     = pattern.Of("'[^']*'|\"[^\"]*\"|`[^`]*`")
	numeral    = pattern.Of(`[0-9]+(?:\.[0-9]+)?`)
	boundWords = pattern.Of(`(?i)(?:\b(most|max|maximum|limit|allowed|exceeds?|over|than|least|min|minimum|threshold|required|expected)\b|[<>]=?)(?:[\s:=(]+(?:of|is|the|allowed|limit|value|threshold|max|maximum|was|by|to)\b)*[\s:=(]*$`)
	measured   = pattern.Of(`(?i)\b(complexity|length|depth|nesting|size|width|count)\b(?:[\s:=(]+(?:of|is|was|score|level)\b)*[\s:=(]*$`)
	counted    = pattern.Of(`(?i)^[\s-]*(?:[a-z]+ )?(lines|statements|parameters|params|arguments|characters|chars|columns|words|branches|levels|bytes|methods|fields|returns|variables|locals|conditions|paths|instructions)\b`)
)

func numbersOf(message string) []number {
	message = quoted.ReplaceAllStringFunc(message, func(s string) string { return strings.Repeat("'", len(s)) })
	var all []number
	for _, at := range numeral.FindAllStringIndex(message, -1) {
		if at[0] > 0 && isNamePart(message[at[0]-1]) {
			continue // part of a name
		}
		n := number{text: message[at[0]:at[1]]}
		before, after := message[:at[0]], message[at[1]:]
		if m := boundWords.FindStringSubmatch(before); m != nil {
			n.bound = strings.ToLower(m[1])
			if n.bound == "" {
				n.bound = "than"
			}
		}
		n.counts = n.bound == "" && (measured.MatchString(before) || counted.MatchString(after))
		all = append(all, n)
	}
	return all
}

func isNamePart(c byte) bool {
	return c == '_' || c == '.' || c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'z' || c >= 0x80
}
