// Package comment knows how comments are written in the kinds of files that there are: where one begins and ends, and what of a text is
// words for people.
package comment

import (
	"path"
	"slices"
	"strings"
	"sync"
)

// syntax is how comments of a kind of file are written, as far as one line shows.
type syntax struct {
	line   []string    // what opens a comment that ends with its line
	block  [][2]string // what opens one that may end before, and what ends it
	quotes string      // the signs that texts stand between
	apart  bool        // a line comment begins only behind white space or at the line's start
}

var (
	slashes = syntax{line: []string{"//"}, block: [][2]string{{"/*", "*/"}}, quotes: "\"'`"}
	hash    = syntax{line: []string{"#"}, quotes: "\"'`", apart: true}
	dashes  = syntax{line: []string{"--"}, block: [][2]string{{"--[[", "]]"}, {"{-", "-}"}, {"/*", "*/"}}, quotes: "\"'"}
	markup  = syntax{block: [][2]string{{"<!--", "-->"}, {"{#", "#}"}, {"{{/*", "*/}}"}, {"<%--", "--%>"}}}
	lisp    = syntax{line: []string{";"}, block: [][2]string{{"#|", "|#"}}, quotes: `"`}
	percent = syntax{line: []string{"%"}}
)

// syntaxes are the kinds of files whose comments are known, by the end of the name or all of it, in lower case.
var syntaxes = sync.OnceValue(func() map[string]syntax {
	all := map[string]syntax{}
	add := func(s syntax, names string) {
		for name := range strings.FieldsSeq(names) {
			all[name] = s
		}
	}
	add(slashes, ".c .h .cc .cpp .cxx .hh .hpp .hxx .inl .m .mm .cu .go .java .js .cjs .mjs .jsx .ts .cts .mts .tsx .kt .kts .swift .cs .scala .groovy .gradle .dart .d .v .sv .proto .zig .sol .hlsl .glsl .scss .less .json5 .jsonc .y .l")
	add(syntax{line: slashes.line, block: slashes.block, quotes: `"`}, ".rs .fs .fsx .fsi") // where ' stands before names too
	add(syntax{line: []string{"//", "#"}, block: slashes.block, quotes: slashes.quotes}, ".php .tf .hcl")
	add(syntax{block: slashes.block, quotes: "\"'"}, ".css")
	add(hash, ".py .pyi .sh .bash .zsh .ksh .rb .pl .pm .yaml .yml .toml .mk .cmake .r .jl .nim .ex .exs .tcl .conf .cfg .properties .awk .sed .nix .ps1 .coffee .cr .gd .dockerfile .env .gitignore .gitattributes makefile gnumakefile dockerfile cmakelists.txt gemfile rakefile vagrantfile jenkinsfile justfile")
	add(dashes, ".sql .lua .hs .adb .ads .vhd .vhdl .elm .purs")
	add(markup, ".html .htm .xml .xhtml .svg .md .vue .svelte .jinja .j2 .twig .tmpl .jsp .xsl .xslt .xsd")
	add(lisp, ".el .clj .cljs .scm .rkt .lisp .cl")
	add(syntax{line: []string{"#", ";", "//", "@"}, block: slashes.block, quotes: `"`}, ".s .asm")
	add(syntax{line: []string{"#", ";"}, quotes: `"`, apart: true}, ".ini")
	add(percent, ".tex .sty .erl .hrl")
	add(syntax{block: [][2]string{{"(*", "*)"}, {"{", "}"}}, line: []string{"//"}, quotes: "'"}, ".pas .pp")
	add(syntax{block: [][2]string{{"(*", "*)"}}, quotes: `"`}, ".ml .mli")
	add(syntax{line: []string{"!"}, quotes: "\"'"}, ".f90 .f95 .f03 .f08")
	add(syntax{line: []string{"'"}, quotes: `"`}, ".vb .bas .vbs")
	add(syntax{line: []string{`"`}, quotes: "'"}, ".vim")
	return all
})

// openers are all that opens a comment somewhere, the longest first; in files of kinds that aren't known a waiver must begin the
// line with one of them.
var openers = sync.OnceValue(func() (all []string) {
	for _, s := range syntaxes() {
		all = append(all, s.line...)
		for _, b := range s.block {
			all = append(all, b[0])
		}
	}
	all = append(all, "rem", "dnl", "::", "@rem")
	slices.SortFunc(all, func(a, b string) int {
		if len(a) != len(b) {
			return len(b) - len(a)
		}
		return strings.Compare(a, b)
	})
	return slices.Compact(all)
})

// syntaxOf is how comments of a file are written.
func syntaxOf(file string) (s syntax, known bool) {
	name := strings.ToLower(path.Base(file))
	if s, known = syntaxes()[name]; !known {
		s, known = syntaxes()[path.Ext(name)]
	}
	return s, known
}

// Of finds the comment in a line, outside of texts, that begins with sign; "" where there is none. Own says that nothing
// stands beside it.
func Of(file, line, sign string) (words string, own bool) {
	s, known := syntaxOf(file)
	if !known {
		start := len(line) - len(strings.TrimLeft(line, " \t"))
		for _, o := range openers() {
			if len(line) >= start+len(o) && strings.EqualFold(line[start:start+len(o)], o) {
				if at := wordsBehind(line, start+len(o), o); strings.HasPrefix(line[at:], sign) {
					return line[at:], true
				}
			}
		}
		return "", false
	}
	quote := byte(0)
	for i := 0; i < len(line); i++ {
		c := line[i]
		switch {
		case quote != 0 && c == '\\':
			i++
		case quote != 0 && c == quote:
			quote = 0
		case quote != 0:
		case s.opens(line, i) != "":
			o := s.opens(line, i)
			if at := wordsBehind(line, i+len(o), o); strings.HasPrefix(line[at:], sign) {
				end := s.endOf(line, i, o)
				return line[at:end], strings.TrimSpace(line[:i]+line[end:]) == ""
			}
			i = s.endOf(line, i, o) - 1
		case strings.IndexByte(s.quotes, c) >= 0 && !betweenDigits(line, i):
			quote = c
		}
	}
	return "", false
}

// betweenDigits reports whether a sign parts the digits of a number, as ' may.
func betweenDigits(line string, i int) bool {
	digit := func(i int) bool { return i >= 0 && i < len(line) && line[i] >= '0' && line[i] <= '9' }
	return line[i] == '\'' && digit(i-1) && digit(i+1)
}

// opens is what opens a comment at a place of a line, the longest of several; "" where nothing does.
func (s syntax) opens(line string, i int) (longest string) {
	for _, b := range s.block {
		if strings.HasPrefix(line[i:], b[0]) && len(b[0]) > len(longest) {
			longest = b[0]
		}
	}
	if s.apart && i > 0 && line[i-1] != ' ' && line[i-1] != '\t' {
		return longest
	}
	for _, o := range s.line {
		if strings.HasPrefix(line[i:], o) && len(o) > len(longest) {
			longest = o
		}
	}
	return longest
}

// endOf is where a comment that was opened at a place ends in its line: at the line's end where it goes on to there, or beyond.
func (s syntax) endOf(line string, i int, opener string) int {
	for _, b := range s.block {
		if b[0] != opener {
			continue
		}
		if n := strings.Index(line[i+len(opener):], b[1]); n >= 0 {
			return i + len(opener) + n + len(b[1])
		}
	}
	return len(line)
}

// wordsBehind is where the words behind a comment's opener begin: it may be drawn out, as in "///" and "/**".
func wordsBehind(line string, at int, opener string) int {
	last := opener[len(opener)-1]
	for at < len(line) && (line[at] == last && (last < 'a' || last > 'z') || line[at] == '!' || line[at] == '*') {
		at++
	}
	for at < len(line) && (line[at] == ' ' || line[at] == '\t') {
		at++
	}
	return at
}
