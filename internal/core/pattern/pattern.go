// Package pattern knows regular expressions that are part of the program. Each is made when it is first asked: there are over a
// hundred, most calls need few of them, and to make them all takes longer than the rest of the program's start.
package pattern

import (
	"regexp"
	"sync"
)

// Pattern is a regular expression. It may be used by several at once.
type Pattern struct {
	text string
	made func() *regexp.Regexp
}

// all are those that there are, for a test that makes them.
var all []*Pattern

// Of is the pattern of a text, which must be a regular expression; else whoever asks it first panics. It is for package variables.
func Of(text string) *Pattern {
	p := &Pattern{text, sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(text) })}
	all = append(all, p)
	return p
}

// All are the patterns of all packages of a program.
func All() []*Pattern { return all }

// Text is what the pattern was made of.
func (p *Pattern) Text() string { return p.text }

// Regexp is the pattern itself.
func (p *Pattern) Regexp() *regexp.Regexp { return p.made() }

// The methods do what those of regexp.Regexp do.

func (p *Pattern) Match(b []byte) bool                  { return p.made().Match(b) }
func (p *Pattern) MatchString(s string) bool            { return p.made().MatchString(s) }
func (p *Pattern) Find(b []byte) []byte                 { return p.made().Find(b) }
func (p *Pattern) FindSubmatch(b []byte) [][]byte       { return p.made().FindSubmatch(b) }
func (p *Pattern) FindString(s string) string           { return p.made().FindString(s) }
func (p *Pattern) FindStringSubmatch(s string) []string { return p.made().FindStringSubmatch(s) }
func (p *Pattern) ReplaceAllString(s, by string) string { return p.made().ReplaceAllString(s, by) }
func (p *Pattern) FindAllStringIndex(s string, n int) [][]int {
	return p.made().FindAllStringIndex(s, n)
}
func (p *Pattern) ReplaceAllStringFunc(s string, by func(string) string) string {
	return p.made().ReplaceAllStringFunc(s, by)
}
func (p *Pattern) FindIndex(b []byte) []int { return p.made().FindIndex(b) }
func (p *Pattern) FindAllStringSubmatch(s string, n int) [][]string {
	return p.made().FindAllStringSubmatch(s, n)
}
