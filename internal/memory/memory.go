// Package memory knows how much memory the process may take, has the collector keep what it takes small, and ends the process with
// a word of why before the system would kill it without one.
package memory

import (
	"fmt"
	"maps"
	"math"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"github.com/KimMachineGun/automemlimit/memlimit"
)

// The collector may wait longer than it does by itself, since most calls end before it pays: at first until that many bytes are in
// use, then until as many more are as may be wasted, or half of what is in use where that is more.
const (
	firstAt  = 48 << 20
	mayWaste = 64 << 20
	leanly   = 12 << 20 // that many may be wasted by a process that goes on for long

	leastHeap = 4 << 20 // at which the runtime collects first at 100 percent
)

// Of what the process may take, in percent: what may be in use after a collection, since what comes before the next one must find room
// too, and what the collector tries hard to stay under.
const (
	mostInUse = 55
	mostTaken = 75
)

// Allowed is how many bytes the process may take: by GOMEMLIMIT, by its control group, by its resource limits, and by what the
// machine has; the least of them.
var Allowed = sync.OnceValue(func() int64 {
	allowed := given
	if limit, err := memlimit.FromCgroup(); err == nil {
		allowed = min(allowed, int64(min(limit, math.MaxInt64)))
	}
	if limit, err := memlimit.FromSystem(); err == nil && limit > 0 {
		allowed = min(allowed, int64(min(limit, math.MaxInt64)))
	}
	return min(allowed, byResources())
})

// Share is how many bytes one thing may take: most, or that part of what the process may take where it is less.
func Share(most, part int64) int64 { return min(most, Allowed()/part) }

// given is GOMEMLIMIT, which KeepSmall replaces.
var given = debug.SetMemoryLimit(-1)

// KeepSmall holds the program's memory small as far as that is possible without collecting all the time; how small that is, it finds
// out while the program goes on. Where more is in use than may be, it calls end with the reason, which must end the process.
func KeepSmall(end func(why string)) {
	go func() {
		debug.SetGCPercent(firstAt * 100 / leastHeap)
		debug.SetMemoryLimit(Allowed() / 100 * mostTaken)
		afterCollection(end)
	}()
}

// KeepLean is for a process that goes on for long, beside others: it collects more often than one that ends soon.
func KeepLean() {
	lean.Store(true)
	debug.SetGCPercent(50)
}

var lean atomic.Bool

// GiveBack gives memory that isn't in use back to the system, after work that took much.
func GiveBack() { debug.FreeOSMemory() }

// afterCollection waits for the end of each collection, and sets when the next one comes.
func afterCollection(end func(why string)) {
	runtime.AddCleanup(new([16]byte), func(int) {
		live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
		metrics.Read(live)
		if live[0].Value.Kind() == metrics.KindUint64 {
			inUse := int64(live[0].Value.Uint64())
			if inUse > Allowed()/100*mostInUse {
				end(fmt.Sprintf("%s takes more memory than there is for it: of %d MiB, %d are in use; have the tool report less at once, or give more memory", doing(), Allowed()>>20, inUse>>20))
			}
			if lean.Load() {
				debug.SetGCPercent(int(max(20, leanly*100/max(inUse, leastHeap))))
			} else {
				debug.SetGCPercent(int(max(50, mayWaste*100/max(inUse, leastHeap))))
			}
		}
		afterCollection(end)
	}, 0)
}

// activities are what the process is at, for people.
var activities = struct {
	sync.Mutex
	all map[string]int
}{all: map[string]int{}}

// Doing notes what the process is at, for people ("reading lint.sarif"), until done is called.
func Doing(what string) (done func()) {
	activities.Lock()
	defer activities.Unlock()
	activities.all[what]++
	return func() {
		activities.Lock()
		defer activities.Unlock()
		if activities.all[what]--; activities.all[what] == 0 {
			delete(activities.all, what)
		}
	}
}

func doing() string {
	activities.Lock()
	defer activities.Unlock()
	if len(activities.all) == 0 {
		return "this"
	}
	return strings.Join(slices.Sorted(maps.Keys(activities.all)), " and ")
}
