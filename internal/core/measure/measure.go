// Package measure knows numbers about code: how long files and functions are, how deeply they nest, at how many points they decide
// and how many parameters they take. It reads a text as tokens, by a table of what languages have in common, and doesn't know where
// the text came from.
package measure

import (
	"bytes"
	"strings"

	"zincdoor/internal/core/change"
)

// Function is a function or method with its body, and what is declared inside it.
type Function struct {
	Name string // with the type that it belongs to, where that stands beside it: "Board.draw"
	change.Span
	Nesting    int // how deep control structures stand inside one another
	Decisions  int // points at which it goes on in one of several ways
	Parameters int // without the receiver
	Estimated  bool
}

// File are the numbers of one file.
type File struct {
	Language  string // "" for one that isn't known
	Lines     int
	Code      change.Lines // that hold more than white space and comments
	Functions []Function
}

// Nesting is that of the function which nests deepest.
func (f File) Nesting() (most int) {
	for _, fn := range f.Functions {
		most = max(most, fn.Nesting)
	}
	return most
}

// Decisions are those of all functions.
func (f File) Decisions() (all int) {
	for _, fn := range f.Functions {
		all += fn.Decisions
	}
	return all
}

// Of measures a file by its path, which says what language it is in, and its text. Without a language that is known there are no
// functions and no comments.
func Of(path string, text []byte) File {
	l := languageOf(path)
	if l == nil {
		l = &language{}
	}
	f := File{Language: l.name, Lines: bytes.Count(text, []byte("\n"))}
	if len(text) > 0 && text[len(text)-1] != '\n' {
		f.Lines++
	}
	tokens := l.lex(text)
	var code []int
	last := 0
	for _, t := range tokens {
		for n := max(t.line, last+1); n <= t.end; n++ {
			code = append(code, n)
		}
		last = max(last, t.end)
	}
	f.Code = change.LinesOf(code)
	switch {
	case l.name == "":
	case l.indented:
		f.Functions = l.indentedFunctions(tokens)
	default:
		f.Functions = l.bracketedFunctions(tokens)
	}
	for i := range f.Functions {
		fn := &f.Functions[i]
		fn.Name, fn.Estimated = strings.Clone(fn.Name), fn.Estimated || l.estimated // the tokens' texts keep all of the file in memory
	}
	return f
}
