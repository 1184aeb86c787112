package policy

import (
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strings"
)

// Alteration is one thing that a new policy does otherwise than an old one.
type Alteration struct {
	What    string // for people: "merge: new warning 3 → 10"
	Tighter bool   // nothing passes by it that didn't before
}

// Compare tells what a new policy alters, in the order of the old one's doors and limits.
func Compare(old, new *Policy) (all []Alteration) {
	note := func(tighter bool, format string, args ...any) {
		all = append(all, Alteration{fmt.Sprintf(format, args...), tighter})
	}
	for _, part := range []struct {
		name     string
		old, new any
	}{
		{"the ladder", old.Ladder, new.Ladder}, {"levels", old.Levels, new.Levels}, {"the path of the baseline", old.Baseline, new.Baseline},
		{"place", old.Place, new.Place}, {"severities", written(old.Severities, Severity.write), written(new.Severities, Severity.write)}, {"groups", old.Groups, new.Groups},
		{"sets of paths", old.Sets, new.Sets}, {"the marker of generated files", patternText(old.Marker), patternText(new.Marker)}, {"skipped paths", old.Skip, new.Skip}, {"teams", written(old.Teams, Team.write), written(new.Teams, Team.write)},
		{"same rules", old.Same, new.Same}, {"aliases", old.Aliases, new.Aliases}, {"reports", written(old.Reports, Report.write), written(new.Reports, Report.write)}, {"house checks", written(old.House, HouseCheck.write), written(new.House, HouseCheck.write)}, {"recipes", written(old.Recipes, (*Recipe).write), written(new.Recipes, (*Recipe).write)}, {"measures", written(old.Measures, Measure.write), written(new.Measures, Measure.write)},
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
		d.compare(now, new.Ladder, note)
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

func (d Door) compare(now Door, ladder Ladder, note func(tighter bool, format string, args ...any)) {
	if d.Judges != now.Judges {
		note(false, "%s: judges %q → %q", d.Name, d.Judges, now.Judges)
	}
	if !slices.Equal(d.Needs, now.Needs) {
		note(len(d.Needs) > 0 && holdsAll(now.Needs, d.Needs), "%s: needs %s → %s", d.Name, listed(d.Needs), listed(now.Needs))
	}
	if d.Mode != now.Mode {
		note(now.Mode == Enforce, "%s: %s → %s", d.Name, d.Mode, now.Mode)
	}
	d.Waivers.At = now.Waivers.At
	if !reflect.DeepEqual(d.Waivers, now.Waivers) {
		note(now.Waivers.within(d.Waivers, ladder) && (now.Waivers.Firm || !d.Waivers.Firm), "%s: waivers altered", d.Name)
	}
	if was := d.Acceptances; was != nil && now.Acceptances != nil {
		same := *was
		same.At = now.Acceptances.At
		d.Acceptances = &same
	}
	if !reflect.DeepEqual(d.Acceptances, now.Acceptances) {
		note(now.Acceptances.within(d.Acceptances, ladder), "%s: acceptances altered", d.Name)
	}
	for _, l := range d.Limits {
		i := limitNamed(now.Limits, l.Name)
		if i < 0 {
			note(false, "%s: %s removed", d.Name, l.Name)
			continue
		}
		l.compare(d.Name, now.Limits[i], note)
	}
	for _, l := range now.Limits {
		if limitNamed(d.Limits, l.Name) < 0 {
			note(true, "%s: %s added, at most %d", d.Name, l.Name, l.Most)
		}
	}
}

func listed(names []string) string {
	if len(names) == 0 {
		return "every report"
	}
	return strings.Join(names, ", ")
}

func (l Limit) compare(door string, now Limit, note func(tighter bool, format string, args ...any)) {
	if l.Most != now.Most {
		note(now.Most < l.Most, "%s: %s %d → %d", door, l.Name, l.Most, now.Most)
	}
	if l.Mode != now.Mode {
		note(now.Mode == Enforce, "%s: %s %s → %s", door, l.Name, l.Mode, now.Mode)
	}
	if now.Firm && !l.Firm {
		note(true, "%s: %s firm from now on", door, l.Name)
		l.Firm = true
	}
	l.Most, l.Mode, l.Say, l.groups, l.sets, l.generated, l.At = now.Most, now.Mode, now.Say, now.groups, now.sets, now.generated, now.At
	if !reflect.DeepEqual(l, now) {
		note(false, "%s: %s altered", door, l.Name)
	}
}
