package report

import (
	"regexp"
	"sync"
)

// form is a regular expression that is made when it is first asked: there are a hundred, a run that reads no text needs none of them,
// and to make them all takes longer than the rest of the program's start. It may be used by several at once.
type form struct {
	text string
	made func() *regexp.Regexp
}

// forms are all that there are.
var forms []*form

func formOf(text string) *form {
	f := &form{text, sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(text) })}
	forms = append(forms, f)
	return f
}

func (f *form) Match(b []byte) bool                  { return f.made().Match(b) }
func (f *form) MatchString(s string) bool            { return f.made().MatchString(s) }
func (f *form) Find(b []byte) []byte                 { return f.made().Find(b) }
func (f *form) FindSubmatch(b []byte) [][]byte       { return f.made().FindSubmatch(b) }
func (f *form) FindStringSubmatch(s string) []string { return f.made().FindStringSubmatch(s) }
func (f *form) ReplaceAllString(s, by string) string { return f.made().ReplaceAllString(s, by) }
