//go:build unix

package process

import (
	"errors"
	"os"
	"os/exec"
	"syscall"
	"time"
)

// Group is the process group of a command that was started as its head.
type Group struct {
	cmd  *exec.Cmd
	kill *time.Timer // set once the group was asked to end
}

// NewGroup makes a command the head of a process group of its own, which is asked to end as a whole.
func NewGroup(cmd *exec.Cmd) *Group {
	g := &Group{cmd: cmd}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error {
		err := syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM)
		g.kill = time.AfterFunc(Grace, func() { syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) })
		if errors.Is(err, syscall.ESRCH) {
			return os.ErrProcessDone
		}
		return err
	}
	return g
}

// End ends what a command that is gone has left behind. It is called once the command was waited for.
func (g *Group) End() {
	if g.kill != nil {
		g.kill.Stop()
	}
	syscall.Kill(-g.cmd.Process.Pid, syscall.SIGKILL)
}

// ask asks a process to end.
func ask(p *os.Process) error { return p.Signal(syscall.SIGTERM) }
