//go:build !linux

package lint

// endMarked does nothing where a process's environment can't be read by others: process groups are all there is.
func endMarked(string) {}
