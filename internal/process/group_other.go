//go:build !unix

package process

import (
	"os"
	"os/exec"
)

// Group stands for a command alone where there are no process groups.
type Group struct{}

// NewGroup gives a command no group.
func NewGroup(*exec.Cmd) *Group { return &Group{} }

// End ends nothing: the command is gone.
func (*Group) End() {}

// ask ends a process, which can't be asked here.
func ask(p *os.Process) error { return p.Kill() }
