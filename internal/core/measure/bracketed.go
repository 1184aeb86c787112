package measure

import (
	"slices"

	"zincdoor/internal/core/change"
)

// reader follows the tokens of one text, whose brackets are paired.
type reader struct {
	*language
	tokens []token
	match  []int // for each bracket the index of the one that it is paired with, -1 for none
}

func (l *language) reader(tokens []token) *reader {
	return &reader{language: l, tokens: tokens, match: pairBrackets(tokens)}
}

// pairBrackets pairs brackets of one kind with one another. One that isn't closed, or was never opened, has no pair.
func pairBrackets(tokens []token) []int {
	match := make([]int, len(tokens))
	var open []int
	for i, t := range tokens {
		match[i] = -1
		if t.kind != sign {
			continue
		}
		switch t.text {
		case "(", "[", "{":
			open = append(open, i)
		case ")", "]", "}":
			if n := len(open); n > 0 && closes(tokens[open[n-1]].text, t.text) {
				match[i], match[open[n-1]] = open[n-1], i
				open = open[:n-1]
			} else if t.text == "}" { // whatever was open inside a block isn't behind it
				for n > 0 && tokens[open[n-1]].text != "{" {
					n--
				}
				if open = open[:n]; n > 0 {
					match[i], match[open[n-1]] = open[n-1], i
					open = open[:n-1]
				}
			}
		}
	}
	return match
}

func closes(open, shut string) bool {
	return open == "(" && shut == ")" || open == "[" && shut == "]" || open == "{" && shut == "}"
}

func (r *reader) is(i int, text string) bool {
	return i >= 0 && i < len(r.tokens) && r.tokens[i].text == text && r.tokens[i].kind != quoted
}

// isAny reports whether a token is one of some.
func (r *reader) isAny(i int, texts ...string) bool {
	return i >= 0 && i < len(r.tokens) && r.tokens[i].kind != quoted && slices.Contains(texts, r.tokens[i].text)
}

func (r *reader) isWord(i int) bool {
	return i >= 0 && i < len(r.tokens) && r.tokens[i].kind == word
}

// bracketedFunctions finds the functions of a language whose blocks stand in brackets.
func (l *language) bracketedFunctions(tokens []token) (all []Function) {
	r := l.reader(tokens)
	var types []enclosing
	for i := 0; i < len(tokens); i++ {
		for len(types) > 0 && i > types[len(types)-1].end {
			types = types[:len(types)-1]
		}
		if t, ok := r.typeAt(i); ok {
			types = append(types, t)
		}
		d, ok := r.declarationAt(i)
		if !ok {
			continue
		}
		f := r.function(d)
		if len(types) > 0 && d.of == "" {
			d.of = types[len(types)-1].name
		}
		if d.of != "" {
			f.Name = d.of + "." + f.Name
		}
		all = append(all, f)
		i = r.match[d.body]
	}
	return all
}

// enclosing is a type whose methods stand inside it.
type enclosing struct {
	name string
	end  int
}

// longestHead bounds how many tokens stand before a block that belongs to them.
const longestHead = 500

// typing are the words that a type begins with whose methods stand inside it.
var typing = wordsOf("class struct interface enum trait impl object extension record union")

// typeAt is the type that begins with the word at i.
func (r *reader) typeAt(i int) (t enclosing, ok bool) {
	if !r.isWord(i) || !typing[r.tokens[i].text] || r.receiver || r.name == "C" {
		return t, false
	}
	at := i + 1
	if r.generics && r.is(at, "<") {
		at = r.behindTypes(at)
	}
	if !r.isWord(at) {
		return t, false
	}
	name := r.tokens[at].text
	for k := at + 1; k < min(len(r.tokens), at+longestHead); k++ {
		switch {
		case r.is(k, "{") && r.match[k] > 0:
			return enclosing{name, r.match[k]}, true
		case r.is(k, "(") && r.match[k] > 0:
			k = r.match[k]
		case r.isAny(k, ";", "}", ")"), r.isWord(k) && r.declaring[r.tokens[k].text]:
			return t, false
		case r.is(k, "for") && r.isWord(k+1): // impl Tide for Board
			name = r.tokens[k+1].text
		}
	}
	return t, false
}

// declaration is where the parts of a function stand, as indices of tokens.
type declaration struct {
	first  int // its first word
	name   string
	of     string // the type that it is declared for beside its name
	params int    // the bracket that opens its parameters
	body   int    // the bracket that opens its body
	vague  bool   // what is between the two was guessed
}

// declarationAt is the function with a body that begins at i.
func (r *reader) declarationAt(i int) (d declaration, ok bool) {
	if !r.isWord(i) {
		return d, false
	}
	if r.declaring[r.tokens[i].text] {
		if d, ok = r.declared(i); ok {
			return d, true
		}
	}
	if len(r.declaring) > 0 && !r.language.named {
		return d, false
	}
	return r.namedOnly(i)
}

// declared reads a function that begins with a word for it.
func (r *reader) declared(i int) (d declaration, ok bool) {
	d.first = i
	at := i + 1
	if r.receiver && r.is(at, "(") {
		end := r.match[at]
		if end < 0 {
			return d, false
		}
		if r.isWord(end+1) && r.tokens[end+1].line == r.tokens[end].line && (r.is(end+2, "(") || r.is(end+2, "[")) && !r.declaring[r.tokens[end+1].text] {
			d.of = r.typeIn(at+1, end)
			at = end + 1
		}
	}
	if r.tokens[i].text == "init" {
		d.name, at = "init", i+1
	} else if r.isWord(at) {
		d.name = r.tokens[at].text
		at++
		for r.is(at, ".") && r.isWord(at+1) { // fun Board.draw()
			d.of, d.name = d.name, r.tokens[at+1].text
			at += 2
		}
	}
	if r.is(at, "[") && r.match[at] > 0 {
		at = r.match[at] + 1
	}
	if r.generics && r.is(at, "<") {
		at = r.behindTypes(at)
	}
	if !r.is(at, "(") || r.match[at] < 0 {
		return d, false
	}
	given := i - 1
	if r.is(given, "async") {
		given--
	}
	if d.name == "" && r.isWord(given-1) && r.isAny(given, "=", ":", ":=") { // draw = function()
		d.first, d.name = given-1, r.tokens[given-1].text
	}
	d.params = at
	d.body = r.bodyBehind(r.match[at] + 1)
	return d, d.body > 0 && d.name != ""
}

// typeIn is the name of the type of a receiver.
func (r *reader) typeIn(from, to int) (name string) {
	for i := from; i < to; i++ {
		switch {
		case r.isWord(i):
			name = r.tokens[i].text
		case r.is(i, "["):
			return name
		}
	}
	return name
}

// behindTypes is the place behind a list of types in < and >; where it isn't closed, behind the <.
func (r *reader) behindTypes(at int) int {
	depth := 0
	for i := at; i < min(len(r.tokens), at+longestHead); i++ {
		switch t := r.tokens[i]; {
		case t.kind != sign:
		case t.text == "<":
			depth++
		case t.text == "<<":
			depth += 2
		case t.text == ">":
			depth--
		case t.text == ">>":
			depth -= 2
		case t.text == ";" || t.text == "{" || t.text == "}":
			return at + 1
		}
		if depth <= 0 {
			return i + 1
		}
	}
	return at + 1
}

// bodyBehind is the bracket that opens a function's body behind its parameters and what it gives; 0 where it has none.
func (r *reader) bodyBehind(at int) int {
	for i := at; i < min(len(r.tokens), at+longestHead); i++ {
		t := r.tokens[i]
		switch {
		case t.kind == sign && t.text == "{":
			if r.match[i] < 0 {
				return 0
			}
			if r.literals && (r.is(i-1, "interface") || r.is(i-1, "struct")) { // a type that it gives
				i = r.match[i]
				continue
			}
			return i
		case t.kind == sign && (t.text == "(" || t.text == "["):
			if r.match[i] < 0 {
				return 0
			}
			i = r.match[i]
		case t.kind == sign && (t.text == ";" || t.text == "}" || t.text == "=" || t.text == ")" || t.text == branch):
			return 0
		case r.name == "Go" && t.indent >= 0 && t.line > r.tokens[i-1].end && !r.is(i-1, ",") && !r.is(i-1, "("): // declared without a body
			return 0
		case r.declaring[t.text] && t.kind == word && t.text != "func" && t.text != "init":
			return 0
		}
	}
	return 0
}

// namedOnly reads a function that is a name, parameters in brackets, and a block.
func (r *reader) namedOnly(i int) (d declaration, ok bool) {
	name := r.tokens[i].text
	at := i + 1
	if r.generics && r.is(at, "<") {
		at = r.behindTypes(at)
	}
	if !r.is(at, "(") || r.match[at] < 0 || notNames[name] || r.controlling[name] || r.deciding[name] || r.isAny(i-1, ".", "->", "new", "=", "return") {
		return d, false
	}
	d = declaration{first: r.firstOf(i), name: name, params: at}
	for ; ; i-- {
		if r.is(i-1, "~") {
			d.name = "~" + d.name
		} else if r.is(i-1, "::") && r.isWord(i-2) {
			i--
			d.of = r.tokens[i-1].text
		} else {
			break
		}
	}
	d.body, d.vague = r.blockBehind(r.match[at] + 1)
	return d, d.body > 0
}

// blockBehind is the bracket that opens a function's body behind its parameters, where nothing else stands between but what belongs to
// the function: const, throws Trouble, -> bool, the fields that it begins with. It is 0 where there is none; vague says that it was
// guessed.
func (r *reader) blockBehind(at int) (body int, vague bool) {
	for k := at; k < min(len(r.tokens), at+longestHead); k++ {
		switch t := r.tokens[k]; {
		case t.kind == word && !r.controlling[t.text], r.isAny(k, "->", "::", ".", "&", "&&", "*", "<", ">", "?"):
		case r.is(k, ",") && (r.name == "Java" || vague):
		case r.isAny(k, "(", "[") && r.match[k] > 0 && (vague && r.isWord(k-1) || r.isAny(k-1, "noexcept", "throw")):
			k = r.match[k]
		case r.is(k, ":"):
			vague = true
		case r.is(k, "{") && r.match[k] > 0:
			if !vague || !r.isField(k) {
				return k, vague
			}
			k = r.match[k]
		default:
			return 0, false
		}
	}
	return 0, false
}

// isField reports whether a bracket opens what a field begins with, among those of a constructor: y{2}.
func (r *reader) isField(i int) bool {
	return r.name == "C++" && r.isWord(i-1) && r.isAny(r.match[i]+1, ",", "{")
}

// notNames are words before a bracket that are no function's name.
var notNames = wordsOf("if for while switch catch return sizeof else do new delete throw case typeof await yield in of foreach lock using fixed when super this defined alignof decltype static_assert function and or not")

// firstOf is the first token of the declaration that a name stands in: what comes before it up to the end of what went before.
func (r *reader) firstOf(i int) int {
	for least := i - longestHead; i > max(least, 0); {
		t := r.tokens[i-1]
		if t.kind == sign && (t.text == ";" || t.text == "}" || t.text == "{" || t.text == ")" || t.text == branch || t.text == ":") {
			break
		}
		i--
	}
	return i
}

// function counts what a function holds.
func (r *reader) function(d declaration) Function {
	end := r.match[d.body]
	f := Function{Name: d.name, Span: change.Span{First: r.tokens[d.first].line, Last: r.tokens[end].end}, Parameters: r.parameters(d.params), Estimated: d.vague}
	n := nest{reader: r, literals: map[int]bool{}}
	for i := d.body + 1; i < end; i++ {
		switch t := r.tokens[i]; {
		case t.kind == quoted:
		case t.text == branch:
			f.Estimated = true
		case t.kind == word && r.deciding[t.text] && r.decidesAt(i), t.kind == sign && r.deciders[t.text] && r.decidesBy(i):
			f.Decisions++
		}
		n.see(i)
	}
	f.Nesting = n.most
	return f
}

// nest follows how deep control structures stand inside one another.
type nest struct {
	*reader
	blocks   []block
	pending  []pending
	literals map[int]bool // brackets that open values where a block is to come
	indent   int          // of the line
	most     int
}

// block is the block of a control structure.
type block struct {
	end   int // the bracket that closes it
	outer int // how many structures wait for blocks that it isn't the end of
}

// pending is a control structure whose block, or whose one statement, is still to come.
type pending struct {
	depth  int // of brackets, since it began
	indent int // of its line
}

// awaited is how many control structures the next block or statement belongs to, one inside the other.
func (n *nest) awaited() (count int) {
	for count < len(n.pending) && n.pending[len(n.pending)-1-count].depth <= 0 {
		count++
	}
	return count
}

func (n *nest) deeper(by int) {
	if last := len(n.pending) - 1; last >= 0 {
		n.pending[last].depth += by
	}
}

func (n *nest) see(i int) {
	t := n.tokens[i]
	for len(n.blocks) > 0 && i > n.blocks[len(n.blocks)-1].end {
		n.pending = n.pending[:min(n.blocks[len(n.blocks)-1].outer, len(n.pending))]
		n.blocks = n.blocks[:len(n.blocks)-1]
	}
	if t.indent >= 0 && t.text != "{" {
		for count := n.awaited(); count > 0 && t.indent <= n.pending[len(n.pending)-1].indent; count-- { // its statement has ended
			n.pending = n.pending[:len(n.pending)-1]
		}
	}
	if t.indent >= 0 {
		n.indent = t.indent
	}
	switch {
	case t.kind == word && n.controlling[t.text] && !n.is(i-1, ".") && !n.isAny(i+1, "->", "=>"):
		if n.is(i-1, "else") && n.awaited() > 0 { // else if
			n.pending = n.pending[:len(n.pending)-1]
		}
		n.pending = append(n.pending, pending{0, n.indent})
		n.most = max(n.most, len(n.blocks)+len(n.pending))
	case t.kind != sign:
	case t.text == "(" || t.text == "[":
		n.deeper(1)
	case t.text == ")" || t.text == "]" || t.text == "}" && n.literals[n.match[i]]:
		n.deeper(-1)
	case n.awaited() == 0 || n.match[i] < 0 && t.text != ";":
	case t.text == ";" && !n.bare:
		n.pending = n.pending[:len(n.pending)-n.awaited()]
	case t.text == "{" && n.isLiteral(i):
		n.literals[i] = true
		n.deeper(1)
	case t.text == "{":
		n.blocks = append(n.blocks, block{n.match[i], len(n.pending) - n.awaited()})
		n.pending = n.pending[:len(n.pending)-1]
	}
}

// decidesAt reports whether a word of decision is one where it stands.
func (r *reader) decidesAt(i int) bool {
	switch {
	case r.is(i-1, "."), r.is(i-1, "?."): // promise.catch()
		return false
	case r.name == "Rust" && r.is(i, "for") && r.is(i+1, "<"): // for<'a> Fn(&'a T)
		return false
	}
	return true
}

// decidesBy reports whether a sign of decision is one where it stands.
func (r *reader) decidesBy(i int) bool {
	switch r.tokens[i].text {
	case "&&": // auto&& x, T&&
		return r.name != "C++" || !r.isAny(i-1, "auto", ">") && !r.isAny(i+1, ")", ",", ">", "...")
	case "||": // a closure without parameters
		return r.name != "Rust" || !r.isAny(i-1, "(", ",", "=", "move", "{")
	case "?": // List<? extends Board>
		return !r.isAny(i+1, ">", ",", "extends", "super")
	case "=>", "->": // whatever else there is
		return !r.isAny(i-1, "_", "else")
	}
	return true
}

// isLiteral reports whether a bracket opens a value rather than a block, in a language that has values where a block is to come.
func (r *reader) isLiteral(i int) bool {
	next := r.match[i] + 1
	if !r.bare || next >= len(r.tokens) || r.tokens[next].kind != sign || r.tokens[next].line != r.tokens[next-1].end {
		return false
	}
	switch r.tokens[next].text {
	case ")", "]", "}", ",", ";":
		return false
	}
	return true
}

// parameters counts those of a list.
func (r *reader) parameters(open int) (n int) {
	end := r.match[open]
	if end == open+1 || end == open+2 && r.is(open+1, "void") {
		return 0
	}
	angles, last := 0, open // the last comma
	for i := open + 1; i < end; i++ {
		t := r.tokens[i]
		switch {
		case t.kind != sign:
		case r.match[i] > i:
			i = r.match[i]
		case r.generics && t.text == "<":
			angles++
		case r.generics && t.text == ">":
			angles = max(angles-1, 0)
		case r.generics && t.text == ">>":
			angles = max(angles-2, 0)
		case t.text == "," && angles == 0:
			n += r.parameter(last, i)
			last = i
		}
	}
	return n + r.parameter(last, end)
}

// parameter counts what is between two commas: a sign alone, or nothing, is no parameter.
func (r *reader) parameter(from, to int) int {
	for i := from + 1; i < to; i++ {
		if r.tokens[i].kind == word {
			return 1
		}
	}
	return 0
}
