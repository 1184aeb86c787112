//go:build unix

package memory

import (
	"math"
	"os"
	"runtime/metrics"
	"strconv"
	"strings"
	"syscall"
)

// byResources is how much memory the process's resource limits leave the runtime, which has some already: of the address space and
// of the data, less what they count beside that.
func byResources() int64 {
	total := []metrics.Sample{{Name: "/memory/classes/total:bytes"}}
	metrics.Read(total)
	space, data := taken()
	space, data = max(space-int64(total[0].Value.Uint64()), 0), max(data-int64(total[0].Value.Uint64()), 0)
	allowed := int64(math.MaxInt64)
	for resource, taken := range map[int]int64{syscall.RLIMIT_AS: space, syscall.RLIMIT_DATA: data} {
		var limit syscall.Rlimit
		if err := syscall.Getrlimit(resource, &limit); err == nil && uint64(limit.Cur) < math.MaxInt64 {
			allowed = min(allowed, max(int64(limit.Cur)-taken, 0))
		}
	}
	return allowed
}

// taken is how much address space and how much data the process has, in bytes; 0 where the system doesn't say.
func taken() (space, data int64) {
	about, err := os.ReadFile("/proc/self/statm") // in pages: all, resident, shared, text, 0, data and stack, 0
	fields := strings.Fields(string(about))
	if err != nil || len(fields) < 6 {
		return 0, 0
	}
	number := func(i int) int64 {
		pages, _ := strconv.ParseInt(fields[i], 10, 64)
		return pages * int64(os.Getpagesize())
	}
	return number(0), number(5)
}
