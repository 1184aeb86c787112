// Command zincdoor judges whether a change may pass, by what linters and compilers say of it.
package main

import (
	"os"
	"runtime/debug"

	"zincdoor/internal/cli"
)

// gcPercent lets the garbage collector wait a little longer than it does by itself: most calls end before it pays.
const gcPercent = 150

func main() {
	debug.SetGCPercent(gcPercent)
	os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}
