package run

import (
	"sync"
	"sync/atomic"
	"testing"
)

// TestThingsAreDoneSideBySide, also those that wait for others, and one after another by the
// same goroutines.
func TestThingsAreDoneSideBySide(t *testing.T) {
	t.Parallel()
	r := &scheduler{spareJobs: make(chan func())}
	var ended sync.WaitGroup
	var done atomic.Int32
	for range 100 {
		var g sync.WaitGroup
		first, second := make(chan bool), make(chan bool)
		r.spawn(tracked(&g, func() { first <- true; <-second; done.Add(1) }))
		r.spawn(tracked(&g, func() { <-first; second <- true; done.Add(1) }))
		r.spawn(tracked(&g, func() { r.spawn(tracked(&g, func() { done.Add(1) })); done.Add(1) }))
		g.Wait()
	}
	if n := done.Load(); n != 400 {
		t.Errorf("%d of 400 things were done", n)
	}
	work := make(chan func())
	ended.Go(func() { worker(work) })
	work <- func() { done.Store(0) }
	close(work)
	ended.Wait() // with what was handed out done
	if done.Load() != 0 {
		t.Error("what was handed out last was not done")
	}
	close(r.spareJobs)
}
