// Package measure knows numbers about code: how long files and functions are, how deeply they nest, at how many points they decide
// and how many parameters they take. It reads a text as tokens, by a table of what languages have in common, and doesn't know where
// the text came from.
package measure

// Lines are a stretch of lines, 1-based, both ends included.
type Lines struct{ First, Last int }

// Count is how many lines there are.
func (l Lines) Count() int { return l.Last - l.First + 1 }

// Function is a function or method with its body, and what is declared inside it.
type Function struct {
	Name string // with the type that it belongs to, where that stands beside it: "Board.draw"
	Lines
	Nesting    int // how deep control structures stand inside one another
	Decisions  int // points at which it goes on in one of several ways
	Parameters int // without the receiver
	Estimated  bool
}

// File are the numbers of one file.
type File struct {
	Language  string // "" for one that isn't known, whose lines alone are counted
	Lines     int
	Code      int // lines that hold more than white space and comments
	Functions []Function
	Estimated bool // the numbers of its functions are, all of them
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

// Of measures a file by its path, which says what language it is in, and its text.
func Of(path string, text []byte) File {
	f := File{Lines: countLines(text)}
	l := languageOf(path)
	if l == nil {
		f.Code = countInked(text)
		return f
	}
	f.Language, f.Estimated = l.name, l.estimated
	tokens := l.lex(text)
	last := 0
	for _, t := range tokens {
		for n := max(t.line, last+1); n <= t.end; n++ {
			f.Code++
		}
		last = max(last, t.end)
	}
	if l.indented {
		f.Functions = l.indentedFunctions(tokens)
	} else {
		f.Functions = l.bracketedFunctions(tokens)
	}
	for i := range f.Functions {
		f.Functions[i].Estimated = f.Functions[i].Estimated || l.estimated
	}
	return f
}

// CodeLines are the lines of a file that hold more than white space and comments; nil where its language isn't known.
func CodeLines(path string, text []byte) map[int]bool {
	l := languageOf(path)
	if l == nil {
		return nil
	}
	lines := map[int]bool{}
	for _, t := range l.lex(text) {
		for n := t.line; n <= t.end; n++ {
			lines[n] = true
		}
	}
	return lines
}

// countLines counts lines as package source does: a last one without a line feed is one.
func countLines(text []byte) (n int) {
	for _, c := range text {
		if c == '\n' {
			n++
		}
	}
	if len(text) > 0 && text[len(text)-1] != '\n' {
		n++
	}
	return n
}

// countInked counts the lines that hold more than white space.
func countInked(text []byte) (n int) {
	inked := false
	for _, c := range text {
		switch {
		case c == '\n':
			inked = false
		case c > ' ' && !inked:
			inked = true
			n++
		}
	}
	return n
}
