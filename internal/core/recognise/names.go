package recognise

import "zincdoor/internal/core/source"

// name is a text as a number: texts are the same where their numbers are, and none is the empty text.
type name uint32

const none name = 0

// names numbers texts. It may be read by several goroutines at once, while nobody adds to it.
type names struct {
	numbers map[string]name
	texts   []string
}

func newNames() *names { return &names{numbers: map[string]name{}, texts: []string{""}} }

// of is the number of a text, a new one where it has none yet.
func (n *names) of(text string) name {
	if text == "" {
		return none
	}
	number, known := n.numbers[text]
	if !known {
		number = name(len(n.texts))
		n.numbers[text], n.texts = number, append(n.texts, text)
	}
	return number
}

// text is what a number stands for.
func (n *names) text(of name) string { return n.texts[of] }

// run numbers texts that mostly come several times in a row.
type run struct {
	names *names
	text  string
	name  name
}

func (r *run) of(text string) name {
	if text != r.text {
		r.text, r.name = text, r.names.of(text)
	}
	return r.name
}

// code is a line of code as a number: lines are the same where their numbers are, and 0 is no line.
type code uint64

// Numbers of codes: those of lines have one bit above the 48 of their hash, and those of texts that are no hash another.
const (
	isLine code = 1 << source.HashBits
	isText code = 1 << (source.HashBits + 1)
)

// codeOf is the number of a line.
func codeOf(line string) code { return isLine | code(source.Sum(line)) }

// code is the number of a line whose hash is known, as an entry says it.
func (n *names) code(hash string) code {
	if hash == "" {
		return 0
	}
	if sum, ok := source.ParseHash(hash); ok {
		return isLine | code(sum)
	}
	return isText | code(n.of(hash))
}
