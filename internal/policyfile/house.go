package policyfile

import (
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"

	"zincdoor/internal/core/house"
	"zincdoor/internal/core/pattern"
)

// The bounds of house checks where a policy doesn't give them.
const (
	defaultWidth = 120     // columns
	defaultTab   = 8       // columns
	defaultSize  = 1 << 20 // bytes
)

// house reads which house checks are on, over those of inherited policies.
func (r *reader) house(n *yaml.Node) {
	checks := slices.Clone(r.file.House)
	set := func(c Placed[house.Setting], on bool) {
		checks = slices.DeleteFunc(checks, func(o Placed[house.Setting]) bool { return o.Value.Name == c.Value.Name })
		if on {
			checks = append(checks, c)
		}
	}
	for _, f := range r.fields(n, "house") {
		r.origin("house.")(f)
		switch rule := house.RuleOf(f.name); {
		case rule == nil:
			var known []string
			for _, rule := range house.Rules {
				known = append(known, rule.Name)
			}
			r.complain(f.key, "there is no house check %q%s", f.name, didYouMean(f.name, known, "; there are "+strings.Join(known, ", ")))
		case f.name == house.Forbid || f.name == house.Require:
			for _, own := range r.fields(f.value, "house: "+f.name) {
				if house.RuleOf(own.name) != nil {
					r.complain(own.key, "a check of your own can't be called %q, which is one of ours", own.name)
				}
				c, on := r.houseCheck(own, rule)
				set(Placed[house.Setting]{c, r.position(own.key)}, on)
			}
		default:
			c, on := r.houseCheck(f, rule)
			set(Placed[house.Setting]{c, r.position(f.key)}, on)
		}
	}
	r.file.House = checks
}

// houseCheck reads one check: on, off, or a mapping of its settings.
func (r *reader) houseCheck(f field, rule *house.Rule) (c house.Setting, on bool) {
	c = house.Setting{Name: f.name, Kind: rule.Name, Most: defaultWidth, Tab: defaultTab}
	if rule.Name == "file-size" {
		c.Most = defaultSize
	}
	needs := map[string]bool{}
	for _, key := range []string{"match", "find", "text"} {
		needs[key] = slices.Contains(rule.Takes, key)
	}
	if s := r.plain(f.value); s != "" {
		if s != "on" && s != "off" && s != "true" && s != "false" {
			r.complain(f.value, "a house check is on, off or a mapping of its settings, not %q", s)
		}
		on = s == "on" || s == "true"
		for key, needed := range needs {
			if on && needed {
				r.complain(f.value, "the house check %s needs the key %q", f.name, key)
			}
		}
		return c, on
	}
	read := map[string]func(*yaml.Node){
		"path":   func(n *yaml.Node) { c.Paths = r.globs(n, "path") },
		"except": func(n *yaml.Node) { c.Except = r.globs(n, "path") },
	}
	for key, do := range map[string]func(*yaml.Node){
		"most":  func(n *yaml.Node) { c.Most = r.size(n) },
		"tab":   func(n *yaml.Node) { c.Tab = max(r.number(n, "tab"), 1) },
		"want":  func(n *yaml.Node) { c.Want = oneOf(r, n, "want", []string{"lf", "crlf"}) },
		"find":  func(n *yaml.Node) { c.Find = r.pattern(n, "find") },
		"text":  func(n *yaml.Node) { c.Find = r.pattern(n, "text") },
		"match": func(n *yaml.Node) { c.Match = r.pattern(n, "match") },
		"say":   func(n *yaml.Node) { c.Say = r.text(n, "say") },
		"with": func(n *yaml.Node) {
			s, ok := scalar(resolve(n))
			if !ok {
				r.complain(n, "with must be one value, not %s", kindOf(resolve(n)))
			}
			c.With, c.Fixes = s, true
		},
	} {
		if slices.Contains(rule.Takes, key) {
			read[key] = do
		}
	}
	var need []string
	for key, needed := range needs {
		if needed {
			need = append(need, key)
		}
	}
	slices.Sort(need)
	complaints := len(r.problems)
	r.mapping(f.value, keys{what: "the house check " + f.name, need: need, read: read})
	return c, len(r.problems) == complaints
}

var sizeForm = pattern.Of(`^(\d{1,9})(KiB|MiB)?$`)

// size reads a number, of bytes also as in 512KiB.
func (r *reader) size(n *yaml.Node) int {
	m := sizeForm.FindStringSubmatch(r.text(n, "most"))
	if m == nil {
		r.complain(n, "most is a number, of bytes also like 512KiB or 2MiB")
		return 1
	}
	number, _ := strconv.Atoi(m[1])
	return number << map[string]int{"": 0, "KiB": 10, "MiB": 20}[m[2]]
}

func writeHouse(c house.Setting) string {
	rule := house.RuleOf(c.Kind)
	return flow(func(set func(key, value string)) {
		lists(set, []keyed{{"path", c.Paths}, {"except", c.Except}})
		for _, key := range rule.Takes {
			switch {
			case key == "most":
				set(key, strconv.Itoa(c.Most))
			case key == "tab":
				set(key, strconv.Itoa(c.Tab))
			case key == "want" && c.Want != "":
				set(key, c.Want)
			case (key == "find" || key == "text") && c.Find != nil:
				set(key, strconv.Quote(c.Find.String()))
			case key == "match" && c.Match != nil:
				set(key, strconv.Quote(c.Match.String()))
			case key == "say" && c.Say != "":
				set(key, Word(c.Say))
			case key == "with" && c.Fixes:
				set(key, strconv.Quote(c.With))
			}
		}
	})
}

// house writes the checks that are on, those of the policy's own under their kinds.
func (w *writer) house() {
	if len(w.file.House) == 0 {
		return
	}
	w.heading("house:")
	for _, kind := range []string{"", house.Forbid, house.Require} {
		headed := false
		for _, placed := range w.file.House {
			c := placed.Value
			own := c.Kind == house.Forbid || c.Kind == house.Require
			switch {
			case kind == "" && !own:
				text := writeHouse(c)
				if text == "{}" {
					text = "on"
				}
				w.put("  "+c.Name+": "+text, placed.At)
			case own && c.Kind == kind:
				if !headed {
					w.heading("  " + kind + ":")
					headed = true
				}
				w.put("    "+Word(c.Name)+": "+writeHouse(c), placed.At)
			}
		}
	}
}
