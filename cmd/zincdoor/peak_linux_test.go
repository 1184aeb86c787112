package main

import (
	"os"
	"syscall"
)

// peak is the most memory a process held, in bytes.
func peak(state *os.ProcessState) int64 {
	return state.SysUsage().(*syscall.Rusage).Maxrss * 1024
}
