package process

import (
	"bytes"
	"os"
	"strconv"
	"syscall"
)

// EndMarked ends every process that has a mark, a whole NAME=value, in its environment, wherever it hid from its process group.
func EndMarked(mark string) {
	for range 3 { // which may start another one just now
		ended := false
		processes, _ := os.ReadDir("/proc")
		for _, p := range processes {
			pid, err := strconv.Atoi(p.Name())
			if err != nil || pid == os.Getpid() {
				continue
			}
			env, err := os.ReadFile("/proc/" + p.Name() + "/environ")
			if err == nil && bytes.Contains(env, []byte(mark+"\x00")) {
				ended = syscall.Kill(pid, syscall.SIGKILL) == nil || ended
			}
		}
		if !ended {
			return
		}
	}
}
