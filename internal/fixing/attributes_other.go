//go:build unix && !linux

package fixing

// hasAttributes reports whether a file has extended attributes, which nothing tells here.
func hasAttributes(string) bool { return false }
