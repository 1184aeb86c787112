package main

import (
	"fmt"
	"os"
	"strings"
	"time"
)

// watchPeak follows the memory of a running process and returns a function that gives the most it held itself, in
// bytes. What the kernel reports about an ended process won't do: it counts children, and the process it was forked from.
func watchPeak(pid int) (peak func() int64) {
	stop, most := make(chan bool), make(chan int64)
	go func() {
		var kib int64
		for {
			status, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
			if _, rest, ok := strings.Cut(string(status), "VmHWM:"); ok {
				fmt.Sscan(rest, &kib)
			}
			select {
			case <-stop:
				most <- kib * 1024
				return
			case <-time.After(2 * time.Millisecond):
			}
		}
	}()
	return func() int64 {
		stop <- true
		return <-most
	}
}
