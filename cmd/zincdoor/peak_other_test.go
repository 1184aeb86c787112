//go:build !linux

package main

// watchPeak knows nothing of a process's memory on this system.
func watchPeak(int) (peak func() int64) { return func() int64 { return 0 } }
