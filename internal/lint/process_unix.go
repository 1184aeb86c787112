//go:build unix

package lint

import (
	"errors"
	"os"
	"os/exec"
	"syscall"
	"time"
)

// ownGroup starts a command as the head of a process group, which is asked to end as a whole.
func ownGroup(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error {
		err := syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM)
		time.AfterFunc(grace/2, func() { syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) })
		if errors.Is(err, syscall.ESRCH) {
			return os.ErrProcessDone
		}
		return err
	}
}

// endGroup ends what a command that is gone has left behind.
func endGroup(cmd *exec.Cmd) { syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
