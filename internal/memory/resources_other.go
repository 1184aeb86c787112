//go:build !unix

package memory

import "math"

// byResources is how much memory the process's resource limits leave it: there are none here.
func byResources() int64 { return math.MaxInt64 }
