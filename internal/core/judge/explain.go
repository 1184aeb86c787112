package judge

import (
	"fmt"
	"slices"
	"strings"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/house"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/waiver"
)

// Explanation is what there is to say of a rule, or of a finding and its rule.
type Explanation struct {
	Rule, Tool string
	Finding    *Finding     // nil where a rule is asked about
	Text       finding.Rule // what its tool says of it
	Tags       []string
	Notes      []string // of the team, as Markdown
	Found      []*Finding
	Severity   string
	Steps      []policy.Step
	Cost       int // of one finding, in minutes; 0 where the policy doesn't say
	Limits     []DoorLimit
	Off        bool   // it is a check of our own that the policy doesn't have on
	MayWaive   string // a door whose policy lets findings of it be waived, "" for none
}

// DoorLimit is a limit with its door, and the mode it has there.
type DoorLimit struct {
	Door  string
	Limit policy.Limit
	Mode  policy.Mode
}

// RuleTexts are what tools say of their rules.
type RuleTexts interface {
	Rule(f *finding.Finding) (finding.Rule, bool)
	RuleNamed(name string) (rule finding.Rule, source string, ok bool)
}

// Explain explains what is called name: a rule, or else a finding by the beginning of its id. It is nil where there is no
// such thing.
func (v *Verdict) Explain(name string, p *policy.Policy, texts RuleTexts) (*Explanation, error) {
	e := &Explanation{Rule: name}
	known := slices.ContainsFunc(v.Findings, func(f Finding) bool { return f.Rule == name })
	if !known {
		f, err := v.named(name)
		if err != nil {
			return nil, err
		}
		if f != nil {
			e.Finding, e.Rule = f, f.Rule
		}
	}
	for i := range v.Findings {
		if f := &v.Findings[i]; f.Rule == e.Rule && (e.Finding == nil || f.Tool == e.Finding.Tool) {
			e.Found = append(e.Found, f)
		}
	}
	e.Notes = p.NotesOn(e.Rule)
	sample, team, ok := e.sample(p, texts)
	if !ok {
		return nil, nil
	}
	if e.Tool == "" {
		e.Tool = sample.Tool
		if e.Text, _ = texts.Rule(&sample); e.Tool == waiver.Tool && e.Rule == waiver.Rule {
			e.Text = waiver.Text()
		}
		if e.Text.Address == "" {
			e.Text.Address = sample.Details().Help
		}
	}
	e.Tags = sample.Weight().Tags
	e.Severity, e.Steps = p.Grade(sample, team), p.Steps(sample, team)
	e.Cost = p.CostOf(sample, e.Severity)
	for _, d := range p.Doors {
		for _, l := range d.Limits {
			if e.Severity != policy.Ignored && l.IsAbout(sample.Tool, sample.Rule) && l.Selector.Takes(sample, team) && l.TakesSeverity(p.Ladder, e.Severity) {
				e.Limits = append(e.Limits, DoorLimit{Door: d.Name, Limit: l, Mode: d.ModeOf(l)})
			}
		}
		if e.MayWaive == "" && sample.Tool != waiver.Tool && d.Waivers.Code && d.Waivers.MayWaive(p.Ladder, sample, e.Severity) {
			e.MayWaive = d.Name
		}
	}
	return e, nil
}

// sample is a finding to grade in the place of all of the rule's, with its team; false where nothing is known of the rule.
func (e *Explanation) sample(p *policy.Policy, texts RuleTexts) (sample finding.Finding, team string, ok bool) {
	switch {
	case e.Finding != nil:
		return *e.Finding.Finding, e.Finding.Team, true
	case len(e.Found) > 0:
		return *e.Found[0].Finding, e.Found[0].Team, true
	}
	rule, tool, ok := texts.RuleNamed(e.Rule)
	level := finding.Warning
	if ours := house.RuleOf(e.Rule); ours != nil && (!ok || tool == house.Tool) {
		rule, tool, ok, level = ours.Text(), house.Tool, true, ours.Level
		e.Off = !slices.ContainsFunc(p.House, func(s house.Setting) bool { return s.Kind == e.Rule })
	}
	if e.Rule == waiver.Rule && !ok {
		rule, tool, ok = waiver.Text(), waiver.Tool, true
	}
	e.Text, e.Tool = rule, tool
	return finding.Finding{Rule: e.Rule, Tool: tool, Level: level}, "", ok || len(e.Notes) > 0
}

// named is the finding that the beginning of an id names, nil where none is.
func (v *Verdict) named(name string) (*Finding, error) {
	switch found := v.Named(name); len(found) {
	case 0:
		return nil, nil
	case 1:
		return &v.Findings[found[0]], nil
	default:
		return nil, fmt.Errorf("%[2]d ids begin with %[1]q; type more of the id", name, len(found))
	}
}

// Named are the findings, as indices, that the beginning of an id names: of their own or of the entry or base finding that
// they are recognised by. A whole id names one.
func (v *Verdict) Named(name string) (found []int) {
	if name == "" {
		return nil
	}
	for i := range v.Findings {
		switch f := &v.Findings[i]; {
		case f.ID == name:
			return []int{i}
		case strings.HasPrefix(f.ID, name), strings.HasPrefix(f.EntryID, name):
			found = append(found, i)
		}
	}
	return found
}
