package judge

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
)

// Measures are the numbers that the door's limits on numbers need. The zero value knows none.
type Measures struct {
	Values []measure.Value // in the order of measure.ByPlace
	Known  []measure.Number
	Before []measure.Number                               // what is known of the state before the change
	Recall func(l policy.Limit) (number float64, ok bool) // what was recorded of exactly that state; nil where nothing was
}

// Measured is what a limit on a number about code came to.
type Measured struct {
	Number    float64 // in percent where the demand's is a share
	Bound     float64 // in the same unit
	Lines     int     // that count, of a share
	Worst     string  // where each file or function is held by itself: the one that keeps its bound least
	Items     int     // and how many there are
	Estimated bool
	Alone     bool // it is of all files that the limit's paths and teams select, and nothing else is left out of it
}

// Used is how much of what a demand allows is used up, in percent.
func (m Measured) Used(d policy.Demand) int {
	number, bound := m.Number, m.Bound
	if d.Number.Limiting().Least {
		number, bound = 100-number, 100-bound
	}
	if bound <= 0 {
		return 0
	}
	return int(max(0, min(100*number/bound, 100)))
}

// isOurs reports whether a finding is about a number that was measured here.
func isOurs(f Finding) bool { return IsMeasured(f.Finding) }

// IsMeasured reports whether a finding is about a number that was measured here.
func IsMeasured(f *finding.Finding) bool {
	return f.Tool == measure.Tool && len(f.Sources) == 1 && f.Sources[0] == measure.Tool
}

// OfLines reports whether a finding is about each line of its region, and not about what begins there.
func (f Finding) OfLines() bool {
	return isOurs(f) && strings.HasSuffix(f.Rule, "-of-"+string(measure.OfTouched))
}

// valueAt is where a value and the finding about it meet.
type valueAt struct {
	rule, path string
	line       int
}

func placeOfValue(v measure.Value) valueAt {
	return valueAt{measure.Rule(v.Number, v.Of), v.Path, v.Lines.First}
}

// measuredStanding is what the number of a finding says of its standing, by what it was before the change.
func (j *judgement) measuredStanding(f Finding) (s Status) {
	v, known := j.values[valueAt{f.Rule, f.Path, f.Region.Line}]
	switch {
	case known && v.Before == nil && v.Function == "" && f.Place != change.OnTouched: // a file that was there before, of which nothing is known
		s.Standing = Existing
	case !known || v.Before == nil: // a stretch of changed lines, or there was nothing
		s.Standing = New
	case v.Part > v.Before.Part:
		s.Standing, s.Measure, s.AcceptedMeasure = Worsened, fmt.Sprint(v.Part), fmt.Sprint(v.Before.Part)
	default:
		s.Standing = Existing
	}
	return s
}

// isAside reports whether a finding about a number doesn't count.
func isAside(f Finding) bool {
	return f.Severity == policy.Ignored || f.Standing == Accepted || f.Standing == Waived
}

// holdDemands holds the numbers against the limits on them, which it gives by their places among the door's, and leaves those findings
// about numbers that break none out of the verdict.
func (j *judgement) holdDemands(v *Verdict) map[int]LimitResult {
	results := map[int]LimitResult{}
	d := demands{j: j, v: v, at: map[valueAt]int{}, byRule: map[string][]int{}}
	for i, f := range v.Findings {
		if isOurs(f) {
			d.at[valueAt{f.Rule, f.Path, f.Region.Line}] = i
			d.byRule[f.Rule] = append(d.byRule[f.Rule], i)
		}
	}
	keeps := map[int]bool{}
	for n, limit := range j.Door.Limits {
		if !limit.Demands() {
			continue
		}
		r := LimitResult{Limit: limit, Mode: j.Door.ModeOf(limit), Waiting: !limit.InForce(j.Today), Held: true, Measured: &Measured{Alone: limit.Except == nil}}
		d.hold(&r)
		slices.Sort(r.Findings)
		if r.Findings = slices.Compact(r.Findings); !r.Held && !r.Waiting {
			for _, i := range r.Findings {
				keeps[i] = true
			}
		}
		r.Found = len(r.Findings)
		results[n] = r
	}
	d.leaveOut(keeps, results)
	return results
}

// demands holds numbers against limits.
type demands struct {
	j      *judgement
	v      *Verdict
	at     map[valueAt]int  // the findings about values
	byRule map[string][]int // all findings about numbers, by their rules
}

func (d *demands) hold(r *LimitResult) {
	number := r.Demand.Number
	if !slices.Contains(d.j.Measures.Known, number) {
		d.unknown(r, map[measure.Number]string{
			measure.NumberCoverage: "no coverage report is there; run the tests with coverage, and name its file in reports: of the policy or with --report FILE",
			measure.NumberBranches: "no coverage report that counts branches is there; run the tests with branch coverage, and name its file in reports: of the policy or with --report FILE",
		}[number])
		return
	}
	switch {
	case number == measure.NumberReported:
		d.reported(r)
	case number.Limiting().Of:
		d.weigh(r)
	case r.Demand.Of == measure.OfFunction || r.Demand.Of == measure.OfFile:
		d.each(r)
	case r.EachFile:
		d.eachTouched(r)
	default:
		d.sum(r)
	}
}

// unknown notes that nobody knows the number, so that the limit can't be held.
func (d *demands) unknown(r *LimitResult, why string) {
	r.Unknown, r.Held = true, true
	if why == "" {
		why = "its number isn't known"
	}
	d.v.Notices = append(d.v.Notices, fmt.Sprintf("limit %q can't be held: %s", r.Name, why))
}

// selected are the values that a limit is on.
func (d *demands) selected(l *policy.Limit) (all []measure.Value) {
	for _, v := range d.j.Measures.Values {
		if v.Number == l.Demand.Number && v.Of == l.Demand.Of && d.takes(l, v.Path) {
			all = append(all, v)
		}
	}
	return all
}

// takes reports whether a limit is on the numbers of a file.
func (d *demands) takes(l *policy.Limit, path string) bool {
	return l.TakesFile(path, d.j.Policy.TeamOf(path))
}

// note makes an item of a limit that holds each by itself count: the worst is shown.
func (r *LimitResult) note(number, bound float64, name string, held bool) {
	m := r.Measured
	least := r.Demand.Number.Limiting().Least
	worse := number-bound > m.Number-m.Bound
	if least {
		worse = number-bound < m.Number-m.Bound
	}
	if m.Items++; m.Items == 1 || r.Held && !held || r.Held == held && worse {
		m.Number, m.Bound, m.Worst = number, bound, name
	}
	r.Held = r.Held && held
}

// each holds each file or function by itself.
func (d *demands) each(r *LimitResult) {
	if r.Demand.NotWorse && !slices.Contains(d.j.Measures.Before, r.Demand.Number) && len(d.selected(&r.Limit)) > 0 {
		d.unknownBefore(r)
		return
	}
	for _, v := range d.selected(&r.Limit) {
		parts, bound := measure.Parts{Part: v.Part, Whole: v.Whole}, r.Demand.Bound
		if r.Demand.NotWorse {
			if v.Before == nil { // there was nothing that it could be worse than
				continue
			}
			bound = r.Demand.NumberOf(*v.Before)
		}
		if !r.Demand.Counts(parts) {
			continue
		}
		number := r.Demand.NumberOf(parts)
		held := r.Demand.Holds(number, bound)
		if at, shown := d.at[placeOfValue(v)]; shown && !held {
			f := d.v.Findings[at]
			if isAside(f) || len(r.Standings) > 0 && !slices.Contains(r.Standings, string(f.Standing)) {
				continue
			}
			r.Findings = append(r.Findings, at)
		}
		r.Measured.Estimated = r.Measured.Estimated || v.Estimated
		r.note(number, bound, name(v), held)
	}
}

// name is a file or function in words.
func name(v measure.Value) string {
	if v.Function == "" {
		return v.Path
	}
	return v.Function + " in " + v.Path
}

// unknownBefore notes that nobody knows the number of the state before the change.
func (d *demands) unknownBefore(r *LimitResult) {
	why := "what it was before the change isn't known; "
	if r.Demand.Number.Limiting().Least {
		d.unknown(r, why+"name the coverage report made then: --base-report FILE, or record verdicts of the target branch")
		return
	}
	d.unknown(r, why+"name the change by its commits, e.g. --into REF")
}

// parts adds up values without what is set aside, and what they were before.
func (d *demands) parts(l *policy.Limit, values []measure.Value) (now, before measure.Parts, findings []int, estimated bool) {
	paths := map[string]bool{}
	for _, v := range values {
		paths[v.Path] = true
		now.Part, now.Whole = now.Part+v.Part, now.Whole+v.Whole
		if v.Before != nil {
			before.Part, before.Whole = before.Part+v.Before.Part, before.Whole+v.Before.Whole
		}
		estimated = estimated || v.Estimated
	}
	for _, i := range d.byRule[measure.Rule(l.Demand.Number, l.Demand.Of)] {
		f := d.v.Findings[i]
		switch {
		case f.Path != "" && !paths[f.Path]:
		case isAside(f):
			n := measuredPart(f)
			now.Part = max(0, now.Part-n)
			if l.Demand.Number.Limiting().Shares {
				now.Whole = max(0, now.Whole-n)
			}
		default:
			findings = append(findings, i)
		}
	}
	return now, before, findings, estimated
}

// measuredPart is how much a finding about a number stands for.
func measuredPart(f Finding) (n int) {
	fmt.Sscan(f.Weight().Measured, &n)
	return n
}

// eachTouched holds what a change touches in each file by itself.
func (d *demands) eachTouched(r *LimitResult) {
	for _, v := range d.selected(&r.Limit) {
		now, _, findings, _ := d.parts(&r.Limit, []measure.Value{v})
		if !r.Demand.Counts(now) {
			continue
		}
		number := r.Demand.NumberOf(now)
		held := r.Demand.Holds(number, r.Demand.Bound)
		if !held {
			r.Findings = append(r.Findings, findings...)
		}
		r.note(number, r.Demand.Bound, v.Path, held)
		r.Measured.Lines += now.Whole
	}
}

// sum holds the files together.
func (d *demands) sum(r *LimitResult) {
	now, before, findings, estimated := d.parts(&r.Limit, d.selected(&r.Limit))
	m := r.Measured
	m.Lines, m.Estimated, m.Bound = now.Whole, estimated, r.Demand.Bound
	m.Number = r.Demand.NumberOf(now)
	if r.Demand.NotWorse {
		recorded, known := 0.0, false
		if d.j.Measures.Recall != nil {
			recorded, known = d.j.Measures.Recall(r.Limit)
		}
		switch {
		case slices.Contains(d.j.Measures.Before, r.Demand.Number):
			m.Bound = r.Demand.NumberOf(before)
		case known:
			m.Bound = recorded
		default:
			d.unknownBefore(r)
			return
		}
	}
	if r.Held = !r.Demand.Counts(now) || r.Demand.Holds(m.Number, m.Bound); !r.Held {
		r.Findings = findings
	}
}

// reported holds the number of each finding by itself: on lines that the change touches, in files of the change, or anywhere. Of rules
// whose number is worse the less it is, it must be no less.
func (d *demands) reported(r *LimitResult) {
	for i, f := range d.v.Findings {
		if isOurs(f) || isAside(f) || !Selects(&r.Limit.Selector, d.j.Policy.Ladder, f) ||
			r.Demand.Of == measure.OfTouched && f.Place != change.OnTouched || r.Demand.Of == measure.OfFile && f.Place == change.Elsewhere {
			continue
		}
		text, less := d.j.Policy.MeasureOf(*f.Finding)
		number, err := strconv.ParseFloat(text, 64)
		if err != nil {
			continue
		}
		held := r.Demand.Holds(number, r.Demand.Bound)
		if less {
			held = number >= r.Demand.Bound
		}
		if !held {
			r.Findings = append(r.Findings, i)
		}
		r.note(number, r.Demand.Bound, strings.TrimSpace(f.Rule+" in "+f.Path), held)
	}
}

// weigh holds what findings come to: their cost, or how many there are for each thousand lines.
func (d *demands) weigh(r *LimitResult) {
	demand, m := r.Demand, r.Measured
	type heap struct {
		weight   float64
		findings []int
	}
	files := map[string]*heap{}
	all := &heap{}
	for i, f := range d.v.Findings {
		if demand.Of == measure.OfFile && f.Place == change.Elsewhere || isOurs(f) || f.Severity == policy.Ignored || f.Standing == Waived || !Selects(&r.Limit.Selector, d.j.Policy.Ladder, f) ||
			demand.Of == measure.OfTouched && (f.Place != change.OnTouched || f.Standing == Accepted) {
			continue
		}
		weight := 1.0
		if demand.Number == measure.NumberDebt {
			if weight = float64(f.Cost); weight == 0 {
				continue
			}
		}
		of := all
		if demand.Of == measure.OfFile {
			if of = files[f.Path]; of == nil {
				of = &heap{}
				files[f.Path] = of
			}
		}
		of.weight += weight
		of.findings = append(of.findings, i)
	}
	lines := map[string]int{}
	for _, v := range d.selected(&r.Limit) {
		lines[v.Path] = v.Whole
		m.Lines += v.Whole
	}
	number := func(h *heap, lines int) float64 {
		if demand.Number == measure.NumberFindings {
			return 1000 * h.weight / float64(max(lines, 1))
		}
		return h.weight
	}
	if demand.Of == measure.OfFile {
		for _, path := range slices.Sorted(maps.Keys(files)) {
			if demand.Number == measure.NumberFindings && lines[path] == 0 { // not measured: its language isn't known
				continue
			}
			n := number(files[path], lines[path])
			held := demand.Holds(n, demand.Bound)
			if !held {
				r.Findings = append(r.Findings, files[path].findings...)
			}
			r.note(n, demand.Bound, path, held)
		}
		return
	}
	m.Number, m.Bound = number(all, m.Lines), demand.Bound
	if demand.NotWorse {
		if len(d.j.BaseCovers) == 0 {
			d.unknown(r, "what the findings before the change cost isn't known; name the report made then: --base-report FILE")
			return
		}
		m.Bound = float64(d.j.costBase(&r.Limit))
	}
	if r.Held = demand.Number == measure.NumberFindings && m.Lines == 0 || demand.Holds(m.Number, m.Bound); !r.Held {
		r.Findings = all.findings
	}
}

// leaveOut takes the findings about numbers out of the verdict that nobody needs to see: those that break no limit, and weren't
// accepted or waived either.
func (d *demands) leaveOut(keeps map[int]bool, results map[int]LimitResult) {
	v := d.v
	places := make([]int, len(v.Findings))
	left := 0
	for i, f := range v.Findings {
		if places[i] = none; !isOurs(f) || keeps[i] || f.Standing == Accepted || f.Standing == Waived {
			v.Findings[left], places[i] = f, left
			left++
		}
	}
	if left == len(v.Findings) {
		return
	}
	v.Findings = v.Findings[:left]
	move := func(all []int) (moved []int) {
		for _, i := range all {
			if places[i] != none {
				moved = append(moved, places[i])
			}
		}
		return moved
	}
	for n, r := range results {
		r.Findings = move(r.Findings)
		results[n] = r
	}
	for i := range v.Limits {
		v.Limits[i].Findings = move(v.Limits[i].Findings)
	}
}
