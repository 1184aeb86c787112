package policyfile

import (
	"maps"
	"regexp"
	"slices"
	"strconv"

	"github.com/antchfx/xpath"
	"github.com/theory/jsonpath"
	"go.yaml.in/yaml/v4"

	"zincdoor/internal/core/policy"
)

var recipeKinds = []string{policy.PlainText, policy.JSONText, policy.XMLText, policy.HTMLText, policy.CSVText, policy.TSVText}

func (r *reader) recipes(n *yaml.Node) {
	for _, f := range r.fields(n, "recipes") {
		if slices.Contains(policy.Formats, f.name) {
			r.complain(f.key, "a recipe can't be called %q, which is a format's name", f.name)
		}
		recipe := Placed[*policy.Recipe]{r.recipe(f), r.position(f.key)}
		r.file.Recipes = append(slices.DeleteFunc(slices.Clone(r.file.Recipes), func(o Placed[*policy.Recipe]) bool { return o.Value.Name == f.name }), recipe)
	}
}

func (r *reader) recipe(f field) *policy.Recipe {
	recipe := &policy.Recipe{Name: f.name, Header: true, Fields: map[string]policy.Field{}}
	given := map[string]field{}
	complaints := len(r.problems)
	known := map[string]func(*yaml.Node){
		"as":     func(n *yaml.Node) { recipe.As = oneOf(r, n, "as", recipeKinds) },
		"each":   func(n *yaml.Node) { recipe.Each = r.texts(n, "each") },
		"match":  func(n *yaml.Node) { recipe.Match = r.pattern(n, "match") },
		"then":   func(n *yaml.Node) { recipe.Then = r.pattern(n, "then") },
		"header": func(n *yaml.Node) { recipe.Header = r.boolean(n, "header") },
		"noise":  func(n *yaml.Node) { recipe.Noise = r.pattern(n, "noise") },
		"clean":  func(n *yaml.Node) { recipe.Clean = r.pattern(n, "clean") },
		"severities": func(n *yaml.Node) {
			recipe.Severities = map[string]string{}
			for _, w := range r.fields(n, "severities") {
				recipe.Severities[w.name] = r.severity(w.value, "severities: "+w.name)
			}
		},
	}
	for _, name := range policy.RecipeFields {
		known[name] = func(*yaml.Node) {} // needs the kind of text
	}
	r.mapping(f.value, keys{
		what: "recipe " + f.name, need: []string{"as"}, read: known,
		seen: func(f field) { given[f.name] = f },
	})
	if len(r.problems) > complaints {
		return recipe
	}
	for _, name := range policy.RecipeFields {
		if f, ok := given[name]; ok {
			recipe.Fields[name] = r.recipeField(f, recipe)
		}
	}
	r.checkRecipe(f, recipe, given)
	return recipe
}

// recipeField reads where one thing is found: in short by its path or column alone.
func (r *reader) recipeField(f field, recipe *policy.Recipe) policy.Field {
	field := policy.Field{First: 1}
	at := f.value
	if resolve(f.value).Kind == yaml.MappingNode {
		r.mapping(f.value, keys{
			what: f.name,
			read: map[string]func(*yaml.Node){
				"at":     func(n *yaml.Node) { field.At, at = r.text(n, "at"), n },
				"up":     func(n *yaml.Node) { field.Up = r.number(n, "up") },
				"member": func(n *yaml.Node) { field.Member = r.number(n, "member") },
				"nth":    func(n *yaml.Node) { field.Nth = r.number(n, "nth") },
				"is":     func(n *yaml.Node) { field.Is = r.text(n, "is") },
				"cut":    func(n *yaml.Node) { field.Cut = r.pattern(n, "cut") },
				"first":  func(n *yaml.Node) { field.First = r.number(n, "first") },
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
	case recipe.As == policy.PlainText && field.Is == "":
		r.complain(f.value, "of a text, the fields are the named groups of match and then; beside them %s can only say is", f.name)
	case field.Member > 0 && recipe.As != policy.JSONText:
		r.complain(f.value, "member goes with as: json")
	case field.Nth > 0 && recipe.As != policy.CSVText && recipe.As != policy.TSVText:
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
func (r *reader) checkPath(at *yaml.Node, what, path, kind string) {
	var err error
	switch kind {
	case policy.JSONText:
		_, err = jsonpath.Parse(path)
	case policy.XMLText, policy.HTMLText:
		_, err = xpath.Compile(path)
	}
	if err != nil {
		r.complain(at, "%s: %q can't be read: %v", what, path, err)
	}
}

func (r *reader) checkRecipe(f field, recipe *policy.Recipe, given map[string]field) {
	nested := slices.Contains([]string{policy.JSONText, policy.XMLText, policy.HTMLText}, recipe.As)
	switch {
	case nested && len(recipe.Each) == 0:
		r.complain(f.value, "recipe %s needs each: what leads to a finding", f.name)
	case !nested && len(recipe.Each) > 0:
		r.complain(given["each"].key, "each goes with as: json, xml and html")
	case recipe.As == policy.PlainText && recipe.Match == nil:
		r.complain(f.value, "recipe %s needs match: the line that begins a finding", f.name)
	case recipe.As != policy.PlainText && (recipe.Match != nil || recipe.Then != nil):
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
			if group != "" && !slices.Contains(policy.RecipeFields, group) {
				r.complain(given["match"].value, "no field is called %q%s", group, didYouMean(group, policy.RecipeFields, ""))
			}
			names = append(names, group)
		}
	}
	switch {
	case recipe.ReadsCoverage():
		for _, need := range []string{"path", "line"} {
			if !slices.Contains(names, need) {
				r.complain(f.value, "recipe %s reads what tests cover, and needs a %s", f.name, need)
			}
		}
	case !slices.Contains(names, "message") && !slices.Contains(names, "rule"):
		r.complain(f.value, "recipe %s needs a message or a rule", f.name)
	}
}

// checkRecipes complains of recipes that are called like a report, and of formats that reports name and aren't there.
func (r *reader) checkRecipes() {
	names := slices.Clone(policy.Formats)
	for _, recipe := range r.file.Recipes {
		name := recipe.Value.Name
		names = append(names, name)
		if slices.ContainsFunc(r.file.Reports, func(o Placed[policy.Report]) bool { return o.Value.Name == name }) {
			r.complain(r.root, "a report and a recipe are both called %q; give one another name", name)
		}
	}
	r.lookUp(r.formatNames, names, "no format and no recipe is called %q")
}

func writeRecipe(r *policy.Recipe) string {
	return flow(func(set func(key, value string)) {
		set("as", r.As)
		lists(set, []keyed{{"each", r.Each}})
		for _, part := range []struct {
			key     string
			pattern *regexp.Regexp
		}{{"match", r.Match}, {"then", r.Then}, {"noise", r.Noise}, {"clean", r.Clean}} {
			if part.pattern != nil {
				set(part.key, Word(part.pattern.String()))
			}
		}
		if !r.Header {
			set("header", "false")
		}
		for _, name := range policy.RecipeFields {
			if f, ok := r.Fields[name]; ok {
				set(name, writeField(f))
			}
		}
		if len(r.Severities) > 0 {
			set("severities", flow(func(set func(key, value string)) {
				for _, name := range slices.Sorted(maps.Keys(r.Severities)) {
					set(Word(name), Word(r.Severities[name]))
				}
			}))
		}
	})
}

func writeField(f policy.Field) string {
	if f == (policy.Field{At: f.At, First: 1}) {
		return Word(f.At)
	}
	return flow(func(set func(key, value string)) {
		for _, part := range [][2]string{{"at", f.At}, {"is", f.Is}} {
			if part[1] != "" {
				set(part[0], Word(part[1]))
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
			set("cut", Word(f.Cut.String()))
		}
		if f.First != 1 {
			set("first", strconv.Itoa(f.First))
		}
	})
}
