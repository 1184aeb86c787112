// Package process knows how programs that were started come to their end: asked first, as a whole, and wherever they hid.
package process

import (
	"os"
	"os/exec"
	"time"
)

// Grace is how long a program that is asked to end has for it.
const Grace = time.Second

// EndPolitely has a command that is called off be asked to end, so that it can take away its temporary files and locks; where it
// doesn't, it is ended after Grace. It is to be run by Start or Run, since what it writes would be cut off after Grace else.
func EndPolitely(cmd *exec.Cmd) {
	cmd.WaitDelay = Grace
	cmd.Cancel = func() error { return ask(cmd.Process) }
}

// Mark has every program that this one starts, and all that those start, have a mark by which EndMarked finds them.
func Mark(name, value string) (mark string, err error) {
	return name + "=" + value, os.Setenv(name, value)
}
