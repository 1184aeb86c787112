package main

import (
	"math"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
)

// The collector may wait a little longer than it does by itself, since most calls end before it pays; but as long as
// what is in use is little, the whole stays little too.
const (
	gcPercent   = 300
	memoryLimit = 53 << 20 // bytes
)

// keepSmall holds the program's memory under the limit while that is possible without collecting all the time.
func keepSmall() {
	debug.SetGCPercent(gcPercent)
	debug.SetMemoryLimit(memoryLimit)
	afterCollection()
}

// afterCollection waits for the end of each collection, and lifts the limit when too much is in use to stay under it.
func afterCollection() {
	runtime.AddCleanup(new([16]byte), func(int) {
		live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
		metrics.Read(live)
		if live[0].Value.Kind() == metrics.KindUint64 && live[0].Value.Uint64() > memoryLimit*4/5 {
			debug.SetMemoryLimit(math.MaxInt64)
			return
		}
		afterCollection()
	}, 0)
}
