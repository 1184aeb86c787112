package judge

import (
	"slices"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/house"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/recognise"
	"zincdoor/internal/core/waiver"
)

// stand gives every finding its place, standing and rung, lists the entries that are gone, and names the tools whose
// findings were told apart by the change's lines alone.
func stand(c Case) (all []Finding, gone []baseline.Entry, lineRule []string) {
	matches := c.Recognised.EntryOf
	ids := finding.IDs(c.Findings)
	found := make([]bool, len(c.Baseline.Entries))
	byLines := map[string]bool{}
	onBase := &baseline.Baseline{Covers: c.BaseCovers}
	ownFolder := c.Change.Within(policy.Folder)

	all = make([]Finding, len(c.Findings))
	for i := range c.Findings {
		f := &c.Findings[i]
		compared := c.Baseline.CoversFinding(f.Tool, f.Path) || onBase.CoversFinding(f.Tool, f.Path)
		j := &all[i]
		way := c.Change
		if c.Spaced != nil && f.Tool == house.Tool && house.AboutSpace(f.Rule) {
			way = c.Spaced
		}
		j.Finding, j.ID, j.Place = f, ids[i], placeOf(way, *f, compared)
		j.Team, j.rival = c.Policy.ClaimOf(f.Path)
		if c.Policy.Place.Flows && j.Place != change.OnTouched && !f.Outside && c.throughTouched(*f) {
			j.Place = change.OnTouched
		}
		j.Severity = c.Policy.Grade(*f, j.Team)
		switch {
		case matches[i] != recognise.None:
			j.Entry = &c.Baseline.Entries[matches[i]]
			found[matches[i]] = true
			j.Standing = Accepted
			if j.Entry.Lapsed(c.Today) {
				j.Standing = Lapsed
			}
			if j.grown(c.Policy, j.Entry) {
				j.Standing = Worsened
			}
		case c.wasOnBase(i):
			j.Standing = Inherited
			j.Base = &c.Base[c.BaseRecognised.EntryOf[i]]
			if j.grown(c.Policy, j.Base) {
				j.Standing = Worsened
			}
		case ownFolder:
			j.Standing = Inherited
		case compared || f.Fresh || c.Change.Everything:
			j.Standing = New
		default:
			byLines[f.Tool] = byLines[f.Tool] || f.Tool != waiver.Tool && f.Tool != house.Tool && j.Severity != policy.Ignored
			j.Standing = Inherited
			if j.Place == change.OnTouched || f.Path == "" {
				j.Standing = New
			}
		}
	}
	renames := c.Change.Renames()
	for i, e := range c.Baseline.Entries {
		path := e.Path
		if now, ok := renames[path]; ok {
			path = now
		}
		if !found[i] && (c.coveredNow(e.Tool, path) || c.Recognised.Fileless[i]) {
			gone = append(gone, e)
		}
	}
	gone = append(gone, c.goneFromBase(gone, renames)...)
	for tool, told := range byLines {
		if told {
			lineRule = append(lineRule, tool)
		}
	}
	slices.Sort(lineRule)
	return all, gone, lineRule
}

// wasOnBase reports whether a finding was found before the change too.
func (c Case) wasOnBase(i int) bool {
	return len(c.Base) > 0 && c.BaseRecognised.EntryOf[i] != recognise.None
}

// goneFromBase lists what was found before the change and isn't any more, less what the baseline tells of already.
func (c Case) goneFromBase(told []baseline.Entry, renames map[string]string) (gone []baseline.Entry) {
	found := make([]bool, len(c.Base))
	for _, e := range c.BaseRecognised.EntryOf {
		if e != recognise.None {
			found[e] = true
		}
	}
	say := func(e baseline.Entry) baseline.Entry {
		return baseline.Entry{Path: e.Path, Tool: e.Tool, Rule: e.Rule, Text: e.Text, Message: e.Message}
	}
	known := map[baseline.Entry]bool{}
	for _, e := range told {
		known[say(e)] = true
	}
	for i, e := range c.Base {
		path := e.Path
		if now, ok := renames[path]; ok {
			path = now
		}
		if !found[i] && !known[say(e)] && (c.coveredNow(e.Tool, path) || c.BaseRecognised.Fileless[i]) {
			gone = append(gone, e)
		}
	}
	return gone
}

// grown compares the finding's measure with the one before, and keeps both where it has become worse.
func (f *Finding) grown(p *policy.Policy, before *baseline.Entry) bool {
	if before.Message == f.Message && f.Weight().Measured == "" {
		return false
	}
	gauge := p.Gauge(f.Tool, f.Rule)
	then := before.Measure
	if f.Weight().Measured == "" && (gauge != nil || then == "") {
		then, _ = finding.Measure(before.Message, gauge)
	}
	now, less := p.MeasureOf(*f.Finding)
	if !finding.Worsened(then, now, less) {
		return false
	}
	f.Measure, f.AcceptedMeasure = now, then
	return true
}

func placeOf(c *change.Change, f finding.Finding, compared bool) change.Place {
	if f.Outside {
		return change.Elsewhere
	}
	return c.Place(f.Path, f.Region, compared)
}

// throughTouched reports whether a step on the way to a finding is on a touched line.
func (c Case) throughTouched(f finding.Finding) bool {
	for _, flow := range f.Details().Flows {
		for _, step := range flow {
			if step.Region.Line > 0 && c.Change.Place(step.Path, step.Region, true) == change.OnTouched {
				return true
			}
		}
	}
	return false
}

// coveredNow reports whether sound evidence looked at a file with a tool.
func (c Case) coveredNow(tool, path string) bool {
	for _, evidence := range c.Evidence {
		if evidence.Sound() && (&baseline.Baseline{Covers: evidence.Covers}).CoversFinding(tool, path) {
			return true
		}
	}
	return false
}
