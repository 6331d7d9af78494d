package benchmark

import (
	"runtime"
	"sync"

	"golang.org/x/sync/errgroup"
)

// inParallel does n tasks, as many at once as there are processors, and says after each
// how many are done. What do returns is done alone, after its task: that is where tasks
// add up what they share.
func inParallel(n int, progress func(done, total int), do func(i int) (alone func())) {
	var mu sync.Mutex
	var all errgroup.Group
	all.SetLimit(runtime.GOMAXPROCS(0))
	done := 0
	for i := range n {
		all.Go(func() error {
			alone := do(i)
			mu.Lock()
			defer mu.Unlock()
			if alone != nil {
				alone()
			}
			done++
			progress(done, n)
			return nil
		})
	}
	_ = all.Wait() // no task fails
}
