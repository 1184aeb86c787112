package policyfile

import (
	"maps"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"

	"zincdoor/internal/core/house"
	"zincdoor/internal/core/pattern"
	"zincdoor/internal/core/spelling"
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
	switch rule.Name {
	case "file-size":
		c.Most = defaultSize
	case spelling.Rule:
		c.Spelling = &spelling.Setting{Own: []spelling.OwnList{{File: spelling.OwnWords}}, Known: spelling.UsualKnown}
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
		"most":         func(n *yaml.Node) { c.Most = r.size(n) },
		"tab":          func(n *yaml.Node) { c.Tab = max(r.number(n, "tab"), 1) },
		"want":         func(n *yaml.Node) { c.Want = oneOf(r, n, "want", []string{"lf", "crlf"}) },
		"find":         func(n *yaml.Node) { c.Find = r.pattern(n, "find") },
		"text":         func(n *yaml.Node) { c.Find = r.pattern(n, "text") },
		"match":        func(n *yaml.Node) { c.Match = r.pattern(n, "match") },
		"say":          func(n *yaml.Node) { c.Say = r.text(n, "say") },
		"identifiers":  func(n *yaml.Node) { c.Spelling.Names = r.boolean(n, "identifiers") },
		"dictionaries": func(n *yaml.Node) { c.Spelling.Dictionaries = r.dictionaries(n) },
		"own-words":    func(n *yaml.Node) { c.Spelling.Own = r.ownWords(n) },
		"instead":      func(n *yaml.Node) { c.Spelling.Instead = r.instead(n) },
		"known":        func(n *yaml.Node) { c.Spelling.Known = r.number(n, "known") },
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

// dictionaries reads the paths of word lists.
func (r *reader) dictionaries(n *yaml.Node) []string {
	paths := r.texts(n, "dictionaries")
	for _, p := range paths {
		r.checkInside(n, "dictionaries", p)
	}
	return paths
}

// ownWords reads where the team's own words are: a file, several, or by path sets and globs one each.
func (r *reader) ownWords(n *yaml.Node) (lists []spelling.OwnList) {
	if resolve(n).Kind == yaml.MappingNode {
		for _, f := range r.fields(n, "own-words") {
			r.globs(f.key, "own-words")
			file := r.text(f.value, "own-words: "+f.name)
			r.checkInside(f.value, "own-words", file)
			lists = append(lists, spelling.OwnList{Paths: []string{f.name}, File: file})
		}
		return lists
	}
	for _, file := range r.texts(n, "own-words") {
		r.checkInside(n, "own-words", file)
		lists = append(lists, spelling.OwnList{File: file})
	}
	return lists
}

// instead reads the words that the team avoids.
func (r *reader) instead(n *yaml.Node) map[string]string {
	all := map[string]string{}
	for _, f := range r.fields(n, "instead") {
		if !spelling.IsWord(f.name) {
			r.complain(f.key, "%q is no word of letters", f.name)
		}
		all[f.name] = r.text(f.value, "instead: "+f.name)
	}
	return all
}

// writeSpelling writes the keys of the check on spelling.
func writeSpelling(s *spelling.Setting, set func(key, value string)) {
	if s.Names {
		set("identifiers", "true")
	}
	lists(set, []keyed{{"dictionaries", s.Dictionaries}})
	var files []string
	byPath := false
	for _, own := range s.Own {
		files, byPath = append(files, own.File), byPath || len(own.Paths) > 0
	}
	switch {
	case byPath:
		set("own-words", flow(func(set func(key, value string)) {
			for _, own := range s.Own {
				set(Word(own.Paths[0]), Word(own.File))
			}
		}))
	case len(files) == 0:
		set("own-words", "{}")
	case !slices.Equal(files, []string{spelling.OwnWords}):
		lists(set, []keyed{{"own-words", files}})
	}
	if len(s.Instead) > 0 {
		set("instead", flow(func(set func(key, value string)) {
			for _, word := range slices.Sorted(maps.Keys(s.Instead)) {
				set(Word(word), Word(s.Instead[word]))
			}
		}))
	}
	if s.Known != spelling.UsualKnown {
		set("known", strconv.Itoa(s.Known))
	}
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
		if c.Spelling != nil {
			writeSpelling(c.Spelling, set)
		}
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
