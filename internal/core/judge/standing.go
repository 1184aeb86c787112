package judge

import (
	"slices"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/policy"
)

// stand gives every finding its place, standing and rung, lists the entries that are gone, and names the tools whose
// findings were told apart by the change's lines alone.
func stand(c Case) (all []Finding, gone []baseline.Entry, lineRule []string) {
	matches := c.Recognised.EntryOf
	ids := finding.IDs(c.Findings)
	found := make([]bool, len(c.Baseline.Entries))
	byLines := map[string]bool{}
	ownFolder := c.Change.Within(policy.Folder)

	all = make([]Finding, len(c.Findings))
	for i, f := range c.Findings {
		compared := c.Baseline.CoversFinding(f.Tool, f.Path)
		j := Finding{
			Finding:  f,
			ID:       ids[i],
			Place:    placeOf(c.Change, f, compared),
			Severity: c.Policy.Levels[f.Level],
		}
		switch {
		case matches[i] != baseline.None:
			j.Entry = &c.Baseline.Entries[matches[i]]
			found[matches[i]] = true
			j.Standing = Accepted
			if j.Entry.Lapsed(c.Today) {
				j.Standing = Lapsed
			}
		case ownFolder:
			j.Standing = Inherited
		case compared || c.Change.Everything:
			j.Standing = New
		default:
			byLines[f.Tool] = true
			j.Standing = Inherited
			if j.Place == change.OnTouched || f.Path == "" {
				j.Standing = New
			}
		}
		all[i] = j
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
	for tool := range byLines {
		lineRule = append(lineRule, tool)
	}
	slices.Sort(lineRule)
	return all, gone, lineRule
}

func placeOf(c *change.Change, f finding.Finding, compared bool) change.Place {
	if f.Outside {
		return change.Elsewhere
	}
	return c.Place(f.Path, f.Region, compared)
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
