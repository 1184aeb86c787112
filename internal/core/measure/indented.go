package measure

import "zincdoor/internal/core/change"

// indentedFunctions finds the functions of a language whose blocks are made by indentation. A function inside another is part of it.
func (l *language) indentedFunctions(tokens []token) (all []Function) {
	r := l.reader(tokens)
	depths := bracketDepths(tokens)
	var types []enclosingIndent
	for i := 0; i < len(tokens); i++ {
		t := tokens[i]
		if t.indent >= 0 && depths[i] == 0 {
			for len(types) > 0 && t.indent <= types[len(types)-1].indent {
				types = types[:len(types)-1]
			}
		}
		if r.is(i, "class") && t.indent >= 0 && r.isWord(i+1) {
			types = append(types, enclosingIndent{r.tokens[i+1].text, t.indent})
		}
		if !r.isWord(i) || !r.declaring[t.text] || !r.isWord(i+1) || !r.is(i+2, "(") || r.match[i+2] < 0 {
			continue
		}
		first, indent := i, t.indent
		if indent < 0 && i > 0 && r.is(i-1, "async") {
			first, indent = i-1, tokens[i-1].indent
		}
		if indent < 0 {
			continue
		}
		end := r.match[i+2] + 1
		for end < len(tokens) && (depths[end] > 0 || tokens[end].indent < 0 || tokens[end].indent > indent) {
			end++
		}
		f := r.indentedFunction(i, end, depths)
		f.First = tokens[first].line
		if len(types) > 0 {
			f.Name = types[len(types)-1].name + "." + f.Name
		}
		all = append(all, f)
		i = end - 1
	}
	return all
}

// enclosingIndent is a type whose methods stand further in.
type enclosingIndent struct {
	name   string
	indent int
}

// bracketDepths tells for each token in how many brackets it stands.
func bracketDepths(tokens []token) []int {
	depths := make([]int, len(tokens))
	depth := 0
	for i, t := range tokens {
		if t.kind == sign && (t.text == ")" || t.text == "]" || t.text == "}") {
			depth = max(depth-1, 0)
		}
		depths[i] = depth
		if t.kind == sign && (t.text == "(" || t.text == "[" || t.text == "{") {
			depth++
		}
	}
	return depths
}

// indentedFunction counts what a function holds, from its word to the token behind it.
func (r *reader) indentedFunction(at, end int, depths []int) Function {
	f := Function{Name: r.tokens[at+1].text, Span: change.Span{Last: r.tokens[end-1].end}, Parameters: r.parameters(at + 2)}
	var blocks []int // how far in the control structures begin that are open
	for i := r.match[at+2] + 1; i < end; i++ {
		t := r.tokens[i]
		if t.indent >= 0 && depths[i] == 0 {
			for len(blocks) > 0 && t.indent <= blocks[len(blocks)-1] {
				blocks = blocks[:len(blocks)-1]
			}
			if t.kind == word && (r.controlling[t.text] || t.text == "async" && r.isWord(i+1) && r.controlling[r.tokens[i+1].text]) {
				blocks = append(blocks, t.indent)
				f.Nesting = max(f.Nesting, len(blocks))
			}
		}
		if t.kind == word && r.deciding[t.text] && !r.is(i-1, ".") {
			f.Decisions++
		}
	}
	return f
}
