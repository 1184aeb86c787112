package policy

import (
	"maps"
	"regexp"
	"slices"
	"strconv"

	"github.com/antchfx/xpath"
	"github.com/goccy/go-yaml/ast"
	"github.com/theory/jsonpath"

	"zincdoor/internal/core/finding"
)

// The kinds of text that recipes read.
const (
	PlainText = "text"
	JSONText  = "json" // one value, or several one after another
	XMLText   = "xml"
	CSVText   = "csv"
	TSVText   = "tsv"
)

var recipeKinds = []string{PlainText, JSONText, XMLText, CSVText, TSVText}

// RecipeFields are what a recipe can tell of a finding.
var RecipeFields = []string{
	"path", "line", "column", "end_line", "end_column", "rule", "severity", "message", "tool", "measure", "help", "suggestion",
}

// Recipe describes how to read a report whose format has no open standard.
type Recipe struct {
	Name string
	As   string // the kind of text

	Each   []string       // JSON and XML: what leads to a finding, each path from the nodes of the one before it
	Match  *regexp.Regexp // text: a line that begins a finding; its named groups are fields
	Then   *regexp.Regexp // text: a line that goes on with it; nil for none
	Header bool           // CSV and TSV: the first row names the columns

	Noise *regexp.Regexp // lines to pass by; nil for none
	Clean *regexp.Regexp // what stands in a report of a tool that found nothing; nil for none

	Fields map[string]Field
	Words  map[string]string // the rungs of the severities that the report writes
	At     Position

	ladder Ladder
	levels map[finding.Level]string
}

// Field is where a recipe finds one thing.
type Field struct {
	At     string         // a JSONPath, an XPath or a column's name
	Up     int            // so many levels of Each above the finding
	Member int            // JSON: the name of the enclosing member, the innermost being 1; 0 for none
	Nth    int            // CSV: the column's number, from 1; 0 for none
	Is     string         // always this
	Cut    *regexp.Regexp // its first group, or all that it takes, is the value; nil for the whole
	First  int            // the number that the report gives the first line or column
}

// Rung is the rung of a severity that the report writes; known is false for a word that says nothing to the policy, which
// counts as the worst.
func (r *Recipe) Rung(word string) (rung string, known bool) {
	if rung, known = r.Words[word]; known {
		return rung, true
	}
	if slices.Contains(r.ladder, word) {
		return word, true
	}
	if rung, known = r.levels[finding.Level(word)]; known {
		return rung, true
	}
	return r.ladder[0], false
}

// Recipe returns the recipe of that name, nil where there is none.
func (p *Policy) Recipe(name string) *Recipe {
	for _, r := range p.Recipes {
		if r.Name == name {
			return r
		}
	}
	return nil
}

// FormatNames lists the formats and the recipes.
func (p *Policy) FormatNames() []string {
	names := slices.Clone(Formats)
	for _, r := range p.Recipes {
		names = append(names, r.Name)
	}
	return names
}

func (r *reader) recipes(n ast.Node) {
	for _, f := range r.fields(n, "recipes") {
		if slices.Contains(Formats, f.name) {
			r.complain(f.key, "a recipe can't be called %q, which is a format's name", f.name)
		}
		recipe := r.recipe(f)
		r.policy.Recipes = append(slices.DeleteFunc(slices.Clone(r.policy.Recipes), func(o *Recipe) bool { return o.Name == f.name }), recipe)
	}
}

func (r *reader) recipe(f field) *Recipe {
	recipe := &Recipe{Name: f.name, Header: true, Fields: map[string]Field{}, At: r.position(f.key), ladder: r.policy.Ladder}
	given := map[string]field{}
	complaints := len(r.problems)
	known := map[string]func(ast.Node){
		"as":     func(n ast.Node) { recipe.As = oneOf(r, n, "as", recipeKinds) },
		"each":   func(n ast.Node) { recipe.Each = r.texts(n, "each") },
		"match":  func(n ast.Node) { recipe.Match = r.pattern(n, "match") },
		"then":   func(n ast.Node) { recipe.Then = r.pattern(n, "then") },
		"header": func(n ast.Node) { recipe.Header = r.boolean(n, "header") },
		"noise":  func(n ast.Node) { recipe.Noise = r.pattern(n, "noise") },
		"clean":  func(n ast.Node) { recipe.Clean = r.pattern(n, "clean") },
		"words": func(n ast.Node) {
			recipe.Words = map[string]string{}
			for _, w := range r.fields(n, "words") {
				recipe.Words[w.name] = r.rung(w.value, "words: "+w.name)
			}
		},
	}
	for _, name := range RecipeFields {
		known[name] = func(ast.Node) {} // needs the kind of text
	}
	r.mapping(f.value, keys{
		what: "recipe " + f.name, need: []string{"as"}, read: known,
		seen: func(f field) { given[f.name] = f },
	})
	if len(r.problems) > complaints {
		return recipe
	}
	for _, name := range RecipeFields {
		if f, ok := given[name]; ok {
			recipe.Fields[name] = r.recipeField(f, recipe)
		}
	}
	r.checkRecipe(f, recipe, given)
	return recipe
}

// recipeField reads where one thing is found: in short by its path or column alone.
func (r *reader) recipeField(f field, recipe *Recipe) Field {
	field := Field{First: 1}
	at := f.value
	if _, long := r.resolve(f.value).(*ast.MappingNode); long {
		r.mapping(f.value, keys{
			what: f.name,
			read: map[string]func(ast.Node){
				"at":     func(n ast.Node) { field.At, at = r.text(n, "at"), n },
				"up":     func(n ast.Node) { field.Up = r.number(n, "up") },
				"member": func(n ast.Node) { field.Member = r.number(n, "member") },
				"nth":    func(n ast.Node) { field.Nth = r.number(n, "nth") },
				"is":     func(n ast.Node) { field.Is = r.text(n, "is") },
				"cut":    func(n ast.Node) { field.Cut = r.pattern(n, "cut") },
				"first":  func(n ast.Node) { field.First = r.number(n, "first") },
			},
		})
	} else {
		field.At = r.text(f.value, f.name)
	}
	ways := 0
	for _, is := range []bool{field.At != "", field.Member > 0, field.Nth > 0, field.Is != ""} {
		if is {
			ways++
		}
	}
	switch {
	case ways != 1:
		r.complain(f.value, "%s says one of at, member, nth and is", f.name)
	case recipe.As == PlainText && field.Is == "":
		r.complain(f.value, "of a text, the fields are the named groups of match and then; beside them %s can only say is", f.name)
	case field.Member > 0 && recipe.As != JSONText:
		r.complain(f.value, "member goes with as: json")
	case field.Nth > 0 && recipe.As != CSVText && recipe.As != TSVText:
		r.complain(f.value, "nth goes with as: csv and as: tsv")
	case field.At != "":
		r.checkPath(at, f.name, field.At, recipe.As)
	}
	if field.Up > 0 && field.Up >= len(recipe.Each) {
		r.complain(f.value, "%s: there are no %d levels above the finding", f.name, field.Up)
	}
	return field
}

// checkPath complains of a path that can't be read.
func (r *reader) checkPath(at ast.Node, what, path, kind string) {
	var err error
	switch kind {
	case JSONText:
		_, err = jsonpath.Parse(path)
	case XMLText:
		_, err = xpath.Compile(path)
	}
	if err != nil {
		r.complain(at, "%s: %q can't be read: %v", what, path, err)
	}
}

func (r *reader) checkRecipe(f field, recipe *Recipe, given map[string]field) {
	nested := recipe.As == JSONText || recipe.As == XMLText
	switch {
	case nested && len(recipe.Each) == 0:
		r.complain(f.value, "recipe %s needs each: what leads to a finding", f.name)
	case !nested && len(recipe.Each) > 0:
		r.complain(given["each"].key, "each goes with as: json and as: xml")
	case recipe.As == PlainText && recipe.Match == nil:
		r.complain(f.value, "recipe %s needs match: the line that begins a finding", f.name)
	case recipe.As != PlainText && (recipe.Match != nil || recipe.Then != nil):
		r.complain(f.value, "match and then go with as: text")
	}
	for _, path := range recipe.Each {
		r.checkPath(given["each"].value, "each", path, recipe.As)
	}
	names := slices.Collect(maps.Keys(recipe.Fields))
	for _, pattern := range []*regexp.Regexp{recipe.Match, recipe.Then} {
		if pattern == nil {
			continue
		}
		for _, group := range pattern.SubexpNames() {
			if group != "" && !slices.Contains(RecipeFields, group) {
				r.complain(given["match"].value, "no field is called %q%s", group, didYouMean(group, RecipeFields, ""))
			}
			names = append(names, group)
		}
	}
	if !slices.Contains(names, "message") && !slices.Contains(names, "rule") {
		r.complain(f.value, "recipe %s needs a message or a rule", f.name)
	}
}

// settleRecipes gives the recipes what they need of the whole policy, and looks up the formats that reports name.
func (r *reader) settleRecipes() {
	for _, recipe := range r.policy.Recipes {
		recipe.ladder, recipe.levels = r.policy.Ladder, r.policy.Levels
		if _, taken := r.policy.Report(recipe.Name); taken {
			r.complain(r.root, "a report and a recipe are both called %q; give one another name", recipe.Name)
		}
	}
	r.lookUp(r.formatNames, r.policy.FormatNames(), "no format and no recipe is called %q")
}

func (r *Recipe) write() string {
	return flow(func(set func(key, value string)) {
		set("as", r.As)
		lists(set, []keyed{{"each", r.Each}})
		for _, part := range []struct {
			key     string
			pattern *regexp.Regexp
		}{{"match", r.Match}, {"then", r.Then}, {"noise", r.Noise}, {"clean", r.Clean}} {
			if part.pattern != nil {
				set(part.key, word(part.pattern.String()))
			}
		}
		if !r.Header {
			set("header", "false")
		}
		for _, name := range RecipeFields {
			if f, ok := r.Fields[name]; ok {
				set(name, f.write())
			}
		}
		if len(r.Words) > 0 {
			set("words", flow(func(set func(key, value string)) {
				for _, name := range slices.Sorted(maps.Keys(r.Words)) {
					set(word(name), word(r.Words[name]))
				}
			}))
		}
	})
}

func (f Field) write() string {
	if f == (Field{At: f.At, First: 1}) {
		return word(f.At)
	}
	return flow(func(set func(key, value string)) {
		for _, part := range [][2]string{{"at", f.At}, {"is", f.Is}} {
			if part[1] != "" {
				set(part[0], word(part[1]))
			}
		}
		for _, part := range []struct {
			key    string
			number int
		}{{"up", f.Up}, {"member", f.Member}, {"nth", f.Nth}} {
			if part.number > 0 {
				set(part.key, strconv.Itoa(part.number))
			}
		}
		if f.Cut != nil {
			set("cut", word(f.Cut.String()))
		}
		if f.First != 1 {
			set("first", strconv.Itoa(f.First))
		}
	})
}
