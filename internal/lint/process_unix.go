//go:build unix

package lint

import (
	"errors"
	"os"
	"os/exec"
	"syscall"
	"time"
)

// group is the process group of a command that was started as its head.
type group struct {
	cmd  *exec.Cmd
	kill *time.Timer // set once the group was asked to end
}

// newGroup makes a command the head of a process group of its own, which is asked to end as a whole.
func newGroup(cmd *exec.Cmd) *group {
	g := &group{cmd: cmd}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error {
		err := syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM)
		g.kill = time.AfterFunc(grace/2, func() { syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) })
		if errors.Is(err, syscall.ESRCH) {
			return os.ErrProcessDone
		}
		return err
	}
	return g
}

// end ends what a command that is gone has left behind. It is called once the command was waited for.
func (g *group) end() {
	if g.kill != nil {
		g.kill.Stop()
	}
	syscall.Kill(-g.cmd.Process.Pid, syscall.SIGKILL)
}
