package measure

import (
	"path"
	"slices"
	"strings"
	"sync"
)

// language is how the texts of a language are read.
type language struct {
	name string
	ends string // of its files' names, with a blank between

	line   []string    // what opens a comment that ends with its line
	block  [][2]string // what opens and closes one that may go on
	nested bool        // such comments may stand inside one another
	quotes []quote     // the longest opening first
	primes bool        // ' opens a character only where it is closed at once: names may begin with it
	regex  bool        // / may open a pattern
	macros bool        // lines that begin with # are for the preprocessor

	indented bool   // blocks are made by indentation
	declares string // the words that a function begins with, "" where a name, parameters and a block make one
	named    bool   // beside these words, a name, parameters and a block make one too
	receiver bool   // the first of two lists of parameters is the receiver
	generics bool   // < and > stand around parameters of types
	literals bool   // a type may hold brackets like those of a block
	bare     bool   // what a control structure depends on stands without brackets

	decides   string // the words that stand at points of decision
	signs     string // and the signs
	controls  string // the words that begin a control structure
	estimated bool   // the table can't tell all decisions from what looks like them

	declaring, deciding, deciders, controlling words // declares, decides, signs and controls, once the language is looked up
}

// quote is how a text is written.
type quote struct {
	open, shut string
	escape     bool // \ takes the next character's meaning away
	doubled    bool // shut, twice, stands for itself
	long       bool // it may go on over several lines
}

var (
	double   = quote{open: `"`, shut: `"`, escape: true}
	single   = quote{open: `'`, shut: `'`, escape: true}
	triple   = quote{open: `"""`, shut: `"""`, escape: true, long: true}
	triple1  = quote{open: `'''`, shut: `'''`, escape: true, long: true}
	raw      = quote{open: "`", shut: "`", long: true}
	template = quote{open: "`", shut: "`", escape: true, long: true}
	slashes  = []string{"//"}
	stars    = [][2]string{{"/*", "*/"}}
)

const (
	cDecides  = "if for while case catch"
	cControls = "if else for while do switch try catch finally synchronized"
)

// languages is the table.
var languages = []language{
	{
		name: "Go", ends: ".go", line: slashes, block: stars, quotes: []quote{double, single, raw},
		declares: "func", receiver: true, literals: true, bare: true,
		decides: "if for case", signs: "&& ||", controls: "if else for switch select",
	},
	{
		name: "C", ends: ".c .h", line: slashes, block: stars, quotes: []quote{double, single}, macros: true,
		decides: "if for while case", signs: "&& || ?", controls: cControls,
	},
	{
		name: "C++", ends: ".cc .cpp .cxx .hh .hpp .hxx .inl .cu", line: slashes, block: stars, quotes: []quote{double, single}, macros: true, generics: true,
		decides: cDecides, signs: "&& || ?", controls: cControls,
	},
	{
		name: "Java", ends: ".java", line: slashes, block: stars, quotes: []quote{triple, double, single}, generics: true,
		decides: cDecides, signs: "&& || ?", controls: cControls,
	},
	{
		name: "C#", ends: ".cs", line: slashes, block: stars, quotes: []quote{triple, {open: `@"`, shut: `"`, doubled: true, long: true}, {open: `$@"`, shut: `"`, doubled: true, long: true}, double, single}, macros: true, generics: true,
		decides: "if for foreach while case catch", signs: "&& || ??", controls: cControls + " foreach using lock", estimated: true,
	},
	{
		name: "JavaScript", ends: ".js .cjs .mjs .jsx", line: slashes, block: stars, quotes: []quote{double, single, template}, regex: true, declares: "function", named: true,
		decides: cDecides, signs: "&& || ?? ?", controls: cControls, estimated: true,
	},
	{
		name: "TypeScript", ends: ".ts .cts .mts .tsx", line: slashes, block: stars, quotes: []quote{double, single, template}, regex: true, generics: true, literals: true, declares: "function", named: true,
		decides: cDecides, signs: "&& || ??", controls: cControls, estimated: true,
	},
	{
		name: "Rust", ends: ".rs", line: slashes, block: stars, nested: true, quotes: []quote{{open: `r#"`, shut: `"#`, long: true}, {open: `r"`, shut: `"`, long: true}, {open: `"`, shut: `"`, escape: true, long: true}}, primes: true, generics: true, bare: true,
		declares: "fn", decides: "if for while", signs: "&& || =>", controls: "if else for while loop match", estimated: true,
	},
	{
		name: "Kotlin", ends: ".kt .kts", line: slashes, block: stars, nested: true, quotes: []quote{triple, double, single}, generics: true,
		declares: "fun", decides: "if for while catch", signs: "&& || ?: ->", controls: cControls + " when", estimated: true,
	},
	{
		name: "Swift", ends: ".swift", line: slashes, block: stars, nested: true, quotes: []quote{triple, double}, generics: true, bare: true,
		declares: "func init", decides: "if for while case catch guard", signs: "&& || ??", controls: "if else for while repeat switch do catch", estimated: true,
	},
	{
		name: "PHP", ends: ".php", line: []string{"//", "#"}, block: stars, quotes: []quote{double, single},
		declares: "function", decides: "if elseif for foreach while case catch", signs: "&& || ??", controls: cControls + " elseif foreach", estimated: true,
	},
	{
		name: "Python", ends: ".py .pyi", line: []string{"#"}, quotes: []quote{triple, triple1, double, single},
		indented: true, declares: "def", decides: "if elif for while except and or", controls: "if elif else for while try except finally with",
	},
}

// words are those of a list, to be asked for one by one.
type words map[string]bool

func wordsOf(list string) words {
	all := words{}
	for word := range strings.FieldsSeq(list) {
		all[word] = true
	}
	return all
}

// byEnd finds languages by the end of a file's name.
var byEnd = sync.OnceValue(func() map[string]*language {
	all := map[string]*language{}
	for i := range languages {
		l := &languages[i]
		l.declaring, l.deciding, l.deciders, l.controlling = wordsOf(l.declares), wordsOf(l.decides), wordsOf(l.signs), wordsOf(l.controls)
		for end := range strings.FieldsSeq(l.ends) {
			all[end] = l
		}
	}
	return all
})

// languageOf is the language that a file is in, by the end of its name; nil for one that isn't known.
func languageOf(file string) *language { return byEnd()[strings.ToLower(path.Ext(file))] }

// Knows reports whether a file is in a language that is known.
func Knows(file string) bool { return languageOf(file) != nil }

// Languages are the names of those that are known, sorted.
func Languages() []string {
	var all []string
	for _, l := range languages {
		all = append(all, l.name)
	}
	slices.Sort(all)
	return all
}
