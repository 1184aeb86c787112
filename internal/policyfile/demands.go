package policyfile

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"

	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
)

// demandKey is the key that makes a limit one on a number about code.
const demandKey = "measure"

// demandsNumber reports whether a limit is on a number about code.
func (r *reader) demandsNumber(n *yaml.Node) bool {
	return slices.ContainsFunc(r.pairs(n), func(key string) bool { return key == demandKey })
}

// pairs are the keys of a mapping, none of anything else.
func (r *reader) pairs(n *yaml.Node) (names []string) {
	n = resolve(n)
	if n.Kind != yaml.MappingNode {
		return nil
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		names = append(names, r.plain(n.Content[i]))
	}
	return names
}

// demand reads a limit on a number about code.
func (r *reader) demand(n *yaml.Node) policy.Limit {
	limit := policy.Limit{Mode: policy.Enforce, Demand: &policy.Demand{}}
	d := limit.Demand
	var least, most, tolerance, lines *yaml.Node
	read := r.limitKeys(&limit)
	maps.Copy(read, r.except(&limit.Selector, r.selector, r.judgedSelectors))
	maps.Copy(read, map[string]func(*yaml.Node){
		demandKey:    func(n *yaml.Node) { d.Number = oneOf(r, n, demandKey, measure.Limited) },
		"of":         func(n *yaml.Node) { d.Of = oneOf(r, n, "of", measure.Scopes) },
		"least":      func(n *yaml.Node) { least = n },
		"most":       func(n *yaml.Node) { most = n },
		"tolerance":  func(n *yaml.Node) { tolerance = n },
		"from-lines": func(n *yaml.Node) { lines = n },
	})
	complaints := len(r.problems)
	r.mapping(n, keys{what: "a limit on a measure", need: []string{demandKey, "of"}, read: read})
	if len(r.problems) > complaints {
		return limit
	}
	is := d.Number.Limiting()
	if !is.Takes(d.Of) {
		r.complain(n, "%s is no measure of: %s; it is one of %s", d.Number, d.Of, strings.Join(texts(is.Scopes), ", "))
		return limit
	}
	word, key, other := policy.NoGrowth, "most", least
	bound := most
	if is.Least {
		word, key, bound, other = policy.NoDrop, "least", least, most
	}
	switch {
	case bound == nil:
		r.complain(cmp.Or(other, n), "a limit on %s has %s:", d.Number, key)
		return limit
	case other != nil:
		r.complain(other, "a limit on %s has %s: alone", d.Number, key)
	}
	if d.NotWorse = r.plain(bound) == word; d.NotWorse {
		d.Share = is.Shares
	} else {
		d.Bound, d.Share = r.amount(bound, key, d)
	}
	if tolerance != nil {
		d.Tolerance, _ = r.amount(tolerance, "tolerance", d)
	}
	if lines != nil {
		d.FromLines = r.number(lines, "from-lines")
	}
	r.checkDemand(n, limit, is)
	return limit
}

// checkDemand complains of keys that don't go together.
func (r *reader) checkDemand(n *yaml.Node, limit policy.Limit, is measure.Limiting) {
	d := limit.Demand
	own := limit.Selector.Unresolved()
	if d.Of == measure.OfFunction || d.Of == measure.OfFile {
		own.Standings = nil
	}
	if !is.Of {
		own.Paths, own.Teams = nil, nil
		if own.Except != nil && own.Except.OfFiles() {
			own.Except = nil
		}
	}
	switch {
	case d.NotWorse && !is.Compares(d.Of):
		r.complain(n, "%s: %s isn't for %s of: %s: there is nothing before the change to compare with", map[bool]string{true: "least", false: "most"}[is.Least], d.Written(), d.Number, d.Of)
	case d.Tolerance > 0 && !d.NotWorse:
		r.complain(n, "tolerance goes with %s: it is by how much the number may be worse than before", map[bool]string{true: "least: no-drop", false: "most: no-growth"}[is.Least])
	case d.FromLines > 0 && !is.Shares:
		r.complain(n, "from-lines is for measures of lines: coverage and duplicated-lines, not %s", d.Number)
	case limit.EachFile && d.Of != measure.OfTouched:
		r.complain(n, "each: file goes with of: touched; of: file is of each file anyway")
	case limit.EachFile && !is.Shares:
		r.complain(n, "each: file is for coverage and duplicated-lines; for %s there is of: file", d.Number)
	case !is.Of && !own.Empty():
		r.complain(n, "a limit on %s selects by path and team alone, of a file or function also by standing", d.Number)
	case limit.Exact && limit.Severity == "":
		r.complain(n, "exact: true needs a severity")
	case limit.From != "" && limit.Until != "" && limit.Until < limit.From:
		r.complain(n, "until %s is before from %s, so the limit is never in force", limit.Until, limit.From)
	}
}

// amount reads a bound in the unit of a measure: percent, minutes, or a whole number.
func (r *reader) amount(n *yaml.Node, what string, d *policy.Demand) (amount float64, share bool) {
	is := d.Number.Limiting()
	s := r.text(n, what)
	if d.Number == measure.NumberDebt {
		return float64(r.workTime(n, what)), false
	}
	number, percent := strings.CutSuffix(s, "%")
	share = is.Shares && (is.Least || percent || d.Share)
	amount, err := strconv.ParseFloat(number, 64)
	whole := !share && d.Number != measure.NumberFindings && d.Number != measure.NumberReported
	unit := fmt.Sprintf("a whole number of %s", d.Number)
	switch {
	case share:
		unit = "percent from 0 to 100, like 70%"
	case !whole:
		unit = "a number from 0"
	}
	if s != "" && (err != nil || !(amount >= 0) || amount > 1e9 || share && amount > 100 || percent && !share || whole && amount != float64(int64(amount)) || strings.ContainsAny(number, "+xXpPeE_iInN")) {
		r.complain(n, "%s of %s is %s, not %q", what, d.Number, unit, s)
		return 0, share
	}
	return amount, share
}

// The words for code that is duplicated though its names, or its numbers and texts, differ.
const (
	foldNames  = "names"
	foldValues = "values"
)

// duplication reads what counts as duplicated code. Each key counts before the inherited one.
func (r *reader) duplication(n *yaml.Node) {
	d := &r.policy.Duplication
	if d.Tokens == 0 {
		*d = measure.Usual
	}
	was := *d
	atLeastOne := func(n *yaml.Node, what string) int {
		many := r.number(n, what)
		if many < 1 {
			r.complain(n, "%s must be at least 1", what)
		}
		return max(many, 1)
	}
	r.mapping(n, keys{what: "duplication", seen: r.origin("duplication."), read: map[string]func(*yaml.Node){
		"tokens": func(n *yaml.Node) { d.Tokens = atLeastOne(n, "duplication: tokens") },
		"lines":  func(n *yaml.Node) { d.Lines = atLeastOne(n, "duplication: lines") },
		"fold": func(n *yaml.Node) {
			words := listOf(r, n, "duplication: fold", []string{foldNames, foldValues})
			d.FoldNames, d.FoldValues = slices.Contains(words, foldNames), slices.Contains(words, foldValues)
		},
	}})
	for _, door := range r.under.Doors {
		for _, l := range door.Limits {
			if l.Value.Firm && l.Value.Demands() && l.Value.Demand.Number == measure.NumberDuplicated && *d != was {
				r.complain(n, "duplication can't be changed here, since the limit %q in %s is firm", l.Value.Name, l.At)
			}
		}
	}
}

// duplication writes what counts as duplicated code, where it isn't what is usual.
func (w *writer) duplication() {
	d := w.policy.Duplication
	if d == measure.Usual || d.Tokens == 0 {
		return
	}
	w.heading("duplication:")
	w.line("duplication.tokens", "  tokens: "+strconv.Itoa(d.Tokens))
	w.line("duplication.lines", "  lines: "+strconv.Itoa(d.Lines))
	var fold []string
	if d.FoldNames {
		fold = append(fold, foldNames)
	}
	if d.FoldValues {
		fold = append(fold, foldValues)
	}
	if len(fold) > 0 {
		w.line("duplication.fold", "  fold: ["+strings.Join(fold, ", ")+"]")
	}
}

// describeDemand names a limit on a number about code.
func describeDemand(l policy.Limit) string {
	d := l.Demand
	words := []string{strings.ReplaceAll(string(d.Number), "-", " "), "of", map[measure.Scope]string{
		measure.OfTouched: "changed lines", measure.OfFunction: "functions", measure.OfFile: "files", measure.OfAll: "all",
	}[d.Of]}
	switch {
	case d.Of != measure.OfTouched:
	case d.Number == measure.NumberLines:
		words = []string{"changed lines"}
	case d.Number == measure.NumberDuplicated:
		words = []string{"duplicated changed lines"}
	}
	words = append(words, describeSelector(l)...)
	if l.EachFile {
		words = append(words, "in each file")
	}
	return strings.Join(words, " ")
}

// writeDemand writes what a limit asks of a number about code.
func writeDemand(l policy.Limit, set func(key, value string)) {
	d := l.Demand
	set(demandKey, string(d.Number))
	set("of", string(d.Of))
	writeSeverityOf(&l.Selector, set)
	writeSelector(&l.Selector, set)
	key := "most"
	if d.Number.Limiting().Least {
		key = "least"
	}
	set(key, d.Written())
	if d.Tolerance > 0 {
		set("tolerance", d.Amount(d.Tolerance))
	}
	if d.FromLines > 0 {
		set("from-lines", strconv.Itoa(d.FromLines))
	}
}
