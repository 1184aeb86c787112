package processors

import (
	"sync/atomic"
	"testing"
)

func TestEach(t *testing.T) {
	for _, n := range []int{0, 1, atOnce - 1, atOnce, 5*atOnce + 1} {
		done := make([]atomic.Int32, n)
		Each(n, func(worker, i int) {
			if worker < 0 || worker >= Most() {
				t.Errorf("worker %d of %d", worker, Most())
			}
			done[i].Add(1)
		})
		for i := range done {
			if times := done[i].Load(); times != 1 {
				t.Errorf("%d of %d was done %d times", i, n, times)
			}
		}
	}
}
