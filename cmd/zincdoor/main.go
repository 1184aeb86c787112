// Command zincdoor judges whether a change may pass, by what linters and compilers say of it.
package main

import (
	"os"

	"zincdoor/internal/cli"
)

func main() {
	os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}
