package policyfile

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"zincdoor/internal/core/policy"
	"zincdoor/internal/seal"
)

// seals reads whose keys seal what, by name. One of a name that is there already takes its place, unless that is firm.
func (r *reader) seals(n *yaml.Node) {
	for _, f := range r.fields(n, "seals") {
		s := policy.Seal{Name: f.name}
		list := f.value
		if m := resolve(list); m.Kind == yaml.MappingNode && !hasKey(m, "key") {
			list = nil
			r.mapping(f.value, keys{what: "seal " + f.name, need: []string{"keys"}, read: map[string]func(*yaml.Node){
				"keys": func(n *yaml.Node) { list = n },
				"firm": func(n *yaml.Node) { s.Firm = r.boolean(n, "firm") },
			}})
		}
		if list != nil {
			s.Keys = r.sealKeys(list)
		}
		under := func(o Placed[policy.Seal]) bool { return o.Value.Name == f.name }
		if i := slices.IndexFunc(r.under.Seals, under); i >= 0 && r.under.Seals[i].Value.Firm {
			r.complain(f.key, "seal %s is firm in %s, so its keys can't be set here", f.name, r.under.Seals[i].At)
		}
		r.file.Seals = append(slices.DeleteFunc(r.file.Seals, under), Placed[policy.Seal]{s, r.position(f.key)})
	}
}

// hasKey reports whether a mapping has a key.
func hasKey(m *yaml.Node, name string) bool {
	for i := 0; i+1 < len(m.Content); i += 2 {
		if key, _ := scalar(m.Content[i]); key == name {
			return true
		}
	}
	return false
}

// sealKeys reads one key or several.
func (r *reader) sealKeys(n *yaml.Node) (all []policy.Key) {
	items := []*yaml.Node{n}
	if list := resolve(n); list.Kind == yaml.SequenceNode {
		if items = list.Content; len(items) == 0 {
			r.complain(n, "a seal needs at least one key")
		}
	}
	known := map[string]bool{}
	for _, item := range items {
		var key policy.Key
		read := func(n *yaml.Node) {
			if key.Text = strings.TrimSpace(r.text(n, "key")); key.Text == "" {
				return
			}
			public, err := seal.ParsePublic(key.Text)
			switch {
			case err != nil:
				r.complain(n, "%v", err)
			case known[public.ID]:
				r.complain(n, "the key %s is named twice", public.ID)
			}
			known[public.ID] = true
		}
		if resolve(item).Kind != yaml.MappingNode {
			read(item)
		} else {
			r.mapping(item, keys{what: "a key", need: []string{"key"}, read: map[string]func(*yaml.Node){
				"key":   read,
				"from":  func(n *yaml.Node) { key.From = r.date(n, "from") },
				"until": func(n *yaml.Node) { key.Until = r.date(n, "until") },
				"path":  func(n *yaml.Node) { key.Paths = r.globs(n, "path") },
			}})
			if key.From > key.Until && key.Until != "" {
				r.complain(item, "the key's until is before its from, so it would never count")
			}
		}
		all = append(all, key)
	}
	return all
}

// sealNames reads the names of seals, which are looked up when all of the policy is read.
func (r *reader) sealNames(n *yaml.Node, what string) []string {
	names := r.texts(n, what)
	r.namedSeals = append(r.namedSeals, named{n, names})
	return names
}

// checkSeals complains of seals and doors that aren't there.
func (r *reader) checkSeals() {
	var seals, doors []string
	for _, s := range r.file.Seals {
		seals = append(seals, s.Value.Name)
	}
	for _, d := range r.file.Doors {
		doors = append(doors, d.Value.Name)
	}
	r.lookUp(r.namedSeals, seals, "seals: has no %q")
	r.lookUp(r.doorNamesNeeded, doors, "no door is called %q, whose verdict this needs")
}

// need reads one thing that a door needs: a report by its name, or a sealed verdict.
func (r *reader) need(n *yaml.Node, door *policy.Door) {
	if resolve(n).Kind != yaml.MappingNode {
		if name := r.text(n, "needs"); name != "" && !slices.Contains(door.Needs, name) {
			door.Needs = append(slices.Clip(door.Needs), name)
		}
		return
	}
	var s policy.Sealed
	r.mapping(n, keys{what: "a verdict that a door needs", need: []string{"verdict", "sealed"}, read: map[string]func(*yaml.Node){
		"verdict": func(n *yaml.Node) {
			s.Verdict = r.text(n, "verdict")
			r.doorNamesNeeded = append(r.doorNamesNeeded, named{n, []string{s.Verdict}})
		},
		"sealed": func(n *yaml.Node) { s.By = r.sealNames(n, "sealed") },
	}})
	door.Verdicts = append(slices.Clip(door.Verdicts), s)
}

// needs reads what a door needs, in the place of what an inherited one does. What of that is sealed by a firm seal stays needed.
func (r *reader) needs(n *yaml.Node, door *policy.Door, under *Door) {
	items := []*yaml.Node{n}
	if list := resolve(n); list.Kind == yaml.SequenceNode {
		if items = list.Content; len(items) == 0 {
			r.complain(n, "needs must name something")
		}
	}
	door.Needs, door.Verdicts = nil, nil
	for _, item := range items {
		r.need(item, door)
	}
	r.reportNames = append(r.reportNames, named{n, door.Needs})
	if under == nil {
		return
	}
	below := r.under.withLists()
	for _, v := range under.Value.Verdicts {
		if by := below.FirmSeal(v.By); by != "" && !slices.ContainsFunc(door.Verdicts, func(own policy.Sealed) bool { return own.Verdict == v.Verdict && holdsAll(v.By, own.By) }) {
			r.complain(n, "door %s needs the verdict of %s sealed by %s, which is firm in %s and can't be left out here", door.Name, v.Verdict, by, r.under.sealAt(by))
		}
	}
	reports, needed := below.Needed(under.Value)
	for _, report := range reports {
		if by := below.FirmSeal(report.Sealed); by != "" && needed[report.Name] && !slices.Contains(door.Needs, report.Name) {
			r.complain(n, "door %s needs the report %s sealed by %s, which is firm in %s and can't be left out here", door.Name, report.Name, by, r.under.sealAt(by))
		}
	}
}

// withLists is the policy of a file as it is read so far, with its lists.
func (f *File) withLists() *policy.Policy {
	return &policy.Policy{Seals: values(f.Seals), Reports: values(f.Reports)}
}

// sealAt is where a seal is set.
func (f *File) sealAt(name string) Position {
	i := slices.IndexFunc(f.Seals, func(s Placed[policy.Seal]) bool { return s.Value.Name == name })
	if i < 0 {
		return Position{}
	}
	return f.Seals[i].At
}

// checkFirmReport complains of a report that takes another one's place without the firm seal that one needs.
func (r *reader) checkFirmReport(at *yaml.Node, report policy.Report) {
	below := r.under.withLists()
	old, there := below.Report(report.Name)
	if !there {
		return
	}
	by := below.FirmSeal(old.Sealed)
	if by == "" {
		return
	}
	if len(report.Sealed) == 0 || !holdsAll(old.Sealed, report.Sealed) {
		r.complain(at, "report %s is sealed by %s, which is firm in %s and can't be loosened here", report.Name, by, r.under.sealAt(by))
	}
	if report.Optional && !old.Optional {
		r.complain(at, "report %s can't be optional, since it is sealed by %s, which is firm in %s", report.Name, by, r.under.sealAt(by))
	}
}

// exceptions reads whose exceptions open a door. Beside firm seals no others can be brought in.
func (r *reader) exceptions(n *yaml.Node, door *policy.Door, under *Door) {
	door.Exceptions = r.sealNames(n, "exceptions")
	if under == nil || holdsAll(under.Value.Exceptions, door.Exceptions) {
		return
	}
	for _, s := range r.under.Seals {
		if s.Value.Firm {
			r.complain(n, "door %s can't have further exceptions, since the seal %s is firm in %s", door.Name, s.Value.Name, s.At)
			return
		}
	}
}

func writeSeal(s policy.Seal) string {
	items := make([]string, len(s.Keys))
	for i, k := range s.Keys {
		items[i] = Word(k.Text)
		if k.From+k.Until != "" || len(k.Paths) > 0 {
			items[i] = flow(func(set func(key, value string)) {
				set("key", Word(k.Text))
				for _, part := range [][2]string{{"from", k.From}, {"until", k.Until}} {
					if part[1] != "" {
						set(part[0], part[1])
					}
				}
				lists(set, []keyed{{"path", k.Paths}})
			})
		}
	}
	all := "[" + strings.Join(items, ", ") + "]"
	if s.Firm {
		all = flow(func(set func(key, value string)) {
			set("keys", all)
			firmly(set, true)
		})
	}
	return all
}

// writeNeeds writes what a door needs.
func writeNeeds(d policy.Door) string {
	var items []string
	for _, name := range d.Needs {
		items = append(items, Word(name))
	}
	for _, v := range d.Verdicts {
		items = append(items, flow(func(set func(key, value string)) {
			set("verdict", Word(v.Verdict))
			lists(set, []keyed{{"sealed", v.By}})
		}))
	}
	if len(items) == 1 {
		return items[0]
	}
	return "[" + strings.Join(items, ", ") + "]"
}

// compareSealed tells what a new door alters in the verdicts it needs and the exceptions that open it.
func compareSealed(d, now policy.Door, note func(tighter bool, format string, args ...any)) {
	by := func(d policy.Door) map[string][]string {
		all := map[string][]string{}
		for _, v := range d.Verdicts {
			all[v.Verdict] = v.By
		}
		return all
	}
	was, is := by(d), by(now)
	for _, door := range slices.Sorted(maps.Keys(was)) {
		if now, there := is[door]; !there {
			note(false, "%s: no longer needs the verdict of %s", d.Name, door)
		} else if !slices.Equal(was[door], now) {
			note(holdsAll(was[door], now), "%s: the verdict of %s is sealed by %s → %s", d.Name, door, fmt.Sprint(was[door]), fmt.Sprint(now))
		}
	}
	for _, door := range slices.Sorted(maps.Keys(is)) {
		if _, there := was[door]; !there {
			note(true, "%s: needs the verdict of %s", d.Name, door)
		}
	}
	if !slices.Equal(d.Exceptions, now.Exceptions) {
		note(holdsAll(d.Exceptions, now.Exceptions), "%s: exceptions altered", d.Name)
	}
}

// seals notes those that nothing asks for.
func (i *idle) seals() {
	var asked []string
	for _, r := range i.Reports {
		asked = append(asked, r.Value.Sealed...)
	}
	for _, d := range i.Doors {
		asked = append(asked, d.Value.Exceptions...)
		for _, v := range d.Value.Verdicts {
			asked = append(asked, v.By...)
		}
	}
	for _, s := range i.Seals {
		if !slices.Contains(asked, s.Value.Name) {
			i.note(s.At, "nothing asks for the seal %s", s.Value.Name)
		}
	}
}
