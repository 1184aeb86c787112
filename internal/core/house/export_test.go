package house

// ByLines reports whether a rule looks at a text line by line.
func (r Rule) ByLines() bool { return r.lines != nil }
