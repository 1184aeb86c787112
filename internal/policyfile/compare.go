package policyfile

import (
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"zincdoor/internal/core/policy"
)

// Compare tells what a new policy alters, in the order of the old one's doors and limits.
func Compare(old, new *policy.Policy) (all []policy.Alteration) {
	note := func(tighter bool, format string, args ...any) {
		all = append(all, policy.Alteration{What: fmt.Sprintf(format, args...), Tighter: tighter})
	}
	for _, part := range []struct {
		name     string
		old, new any
	}{
		{"the ladder", old.Ladder, new.Ladder}, {"levels", old.Levels, new.Levels}, {"the path of the baseline", old.Baseline, new.Baseline},
		{"place", old.Place, new.Place}, {"severities", written(old.Severities, writeSeverity), written(new.Severities, writeSeverity)}, {"groups", old.Groups, new.Groups},
		{"sets of paths", old.Sets, new.Sets}, {"the marker of generated files", patternText(old.Marker), patternText(new.Marker)}, {"skipped paths", old.Skip, new.Skip}, {"teams", written(old.Teams, writeTeam), written(new.Teams, writeTeam)},
		{"duplication", old.Duplication, new.Duplication}, {"same rules", old.Same, new.Same}, {"aliases", old.Aliases, new.Aliases}, {"seals", written(old.Seals, writeSeal), written(new.Seals, writeSeal)}, {"reports", written(old.Reports, writeReport), written(new.Reports, writeReport)}, {"house checks", written(old.House, writeHouse), written(new.House, writeHouse)}, {"recipes", written(old.Recipes, writeRecipe), written(new.Recipes, writeRecipe)}, {"hosts", written(old.Hosts, func(h *policy.Host) string { return h.Written }), written(new.Hosts, func(h *policy.Host) string { return h.Written })}, {"numbers", written(old.Numbers, writeNumber), written(new.Numbers, writeNumber)},
	} {
		if !reflect.DeepEqual(part.old, part.new) && (!empty(part.old) || !empty(part.new)) {
			note(false, "%s altered", part.name)
		}
	}
	for _, d := range old.Doors {
		now, there := new.Door(d.Name)
		if !there {
			note(false, "door %s removed", d.Name)
			continue
		}
		compareDoors(d, now, new.Ladder, note)
	}
	for _, d := range new.Doors {
		if _, there := old.Door(d.Name); !there {
			note(true, "door %s added", d.Name)
		}
	}
	return all
}

func empty(part any) bool {
	v := reflect.ValueOf(part)
	switch v.Kind() {
	case reflect.Map, reflect.Slice:
		return v.Len() == 0
	}
	return false
}

func patternText(p *regexp.Regexp) []string {
	if p == nil {
		return nil
	}
	return []string{p.String()}
}

// written writes each of a list, without where it stands.
func written[T any](list []T, write func(T) string) []string {
	all := make([]string, len(list))
	for i, item := range list {
		all[i] = write(item)
	}
	return all
}

func compareDoors(d, now policy.Door, ladder policy.Ladder, note func(tighter bool, format string, args ...any)) {
	if d.Judges != now.Judges {
		note(false, "%s: judges %q → %q", d.Name, d.Judges, now.Judges)
	}
	if !slices.Equal(d.Refs, now.Refs) {
		note(len(d.Refs) > 0 && holdsAll(now.Refs, d.Refs), "%s: refs %s → %s", d.Name, listed(d.Refs), listed(now.Refs))
	}
	if !slices.Equal(d.Needs, now.Needs) {
		note(len(d.Needs) > 0 && holdsAll(now.Needs, d.Needs), "%s: needs %s → %s", d.Name, listed(d.Needs), listed(now.Needs))
	}
	compareSealed(d, now, note)
	if d.Mode != now.Mode {
		note(now.Mode == policy.Enforce, "%s: %s → %s", d.Name, d.Mode, now.Mode)
	}
	if !reflect.DeepEqual(d.Waivers, now.Waivers) {
		note(waiversWithin(now.Waivers, d.Waivers, ladder) && (now.Waivers.Firm || !d.Waivers.Firm), "%s: waivers altered", d.Name)
	}
	if !reflect.DeepEqual(d.Acceptances, now.Acceptances) {
		note(acceptancesWithin(now.Acceptances, d.Acceptances, ladder), "%s: acceptances altered", d.Name)
	}
	for _, l := range d.Limits {
		i := limitNamed(now.Limits, l.Name)
		if i < 0 {
			note(false, "%s: %s removed", d.Name, l.Name)
			continue
		}
		compareLimits(d.Name, l, now.Limits[i], note)
	}
	for _, l := range now.Limits {
		if limitNamed(d.Limits, l.Name) < 0 {
			note(true, "%s: %s added, %s", d.Name, l.Name, allowed(l))
		}
	}
}

func listed(names []string) string {
	if len(names) == 0 {
		return "every report"
	}
	return strings.Join(names, ", ")
}

// allowed says what a limit allows.
func allowed(l policy.Limit) string {
	switch {
	case l.Demands() && l.Demand.NotWorse, l.NoGrowth:
		return "no worse than before the change"
	case l.Demands() && l.Demand.Number.Limiting().Least:
		return "at least " + l.Demand.Written()
	case l.Demands():
		return "at most " + l.Demand.Written()
	}
	return fmt.Sprintf("at most %d", l.Most)
}

// compareDemands compares what two limits of one name ask of numbers about code.
func compareDemands(door string, l, now policy.Limit, note func(tighter bool, format string, args ...any)) {
	if l.Demands() && now.Demands() && !reflect.DeepEqual(l.Demand, now.Demand) {
		note(now.Demand.Within(*l.Demand), "%s: %s %s → %s", door, l.Name, allowed(l), allowed(now))
	}
}

func compareLimits(door string, l, now policy.Limit, note func(tighter bool, format string, args ...any)) {
	if compareDemands(door, l, now, note); l.Demands() && now.Demands() {
		l.Demand = now.Demand
	}
	if l.Most != now.Most {
		note(now.Most < l.Most, "%s: %s %d → %d", door, l.Name, l.Most, now.Most)
	}
	if l.Mode != now.Mode {
		note(now.Mode == policy.Enforce, "%s: %s %s → %s", door, l.Name, l.Mode, now.Mode)
	}
	if now.Firm && !l.Firm {
		note(true, "%s: %s firm from now on", door, l.Name)
		l.Firm = true
	}
	l.Most, l.Mode, l.Say = now.Most, now.Mode, now.Say
	l.Selector, now.Selector = l.Selector.Unresolved(), now.Selector.Unresolved()
	if !reflect.DeepEqual(l, now) {
		note(false, "%s: %s altered", door, l.Name)
	}
}
