// Package processors shares work among all processors.
package processors

import (
	"runtime"
	"sync"
	"sync/atomic"
)

// atOnce is how many things one processor does before it asks for more.
const atOnce = 8

// Each does something for each i from 0 to n-1, in any order, by several goroutines at once, and returns when all is done. Each
// goroutine has a number of its own, from 0 to below Most().
func Each(n int, do func(worker, i int)) {
	var next atomic.Int64
	work := func(worker int) {
		for {
			from := int(next.Add(atOnce)) - atOnce
			if from >= n {
				return
			}
			for i := from; i < min(from+atOnce, n); i++ {
				do(worker, i)
			}
		}
	}
	var wait sync.WaitGroup
	for worker := 1; worker < min(Most(), (n+atOnce-1)/atOnce); worker++ {
		wait.Go(func() { work(worker) })
	}
	work(0)
	wait.Wait()
}

// Most is how many goroutines work at once, at most.
func Most() int { return runtime.GOMAXPROCS(0) }
