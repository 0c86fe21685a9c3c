package run

import "sync"

// worker does its jobs, one after another. A goroutine that did much has room for much on its
// stack, which a new one has to make first.
func worker(jobs <-chan func()) {
	for do := range jobs {
		do()
	}
}

// tracked is a job that a group waits for.
func tracked(g *sync.WaitGroup, do func()) func() {
	g.Add(1)
	return func() {
		defer g.Done()
		do()
	}
}

// submit does something as soon as a worker is free to do it.
func (o *operation) submit(g *sync.WaitGroup, do func()) { o.jobs <- tracked(g, do) }

// spawn does something at once.
func (s *scheduler) spawn(do func()) {
	select {
	case s.spareJobs <- do:
	default:
		go func() {
			do()
			worker(s.spareJobs)
		}()
	}
}

// together does things that do not depend on one another: side by side where requests may
// be.
func (s *scheduler) together(all []func()) {
	var g sync.WaitGroup
	for _, do := range all {
		if s.opt.Parallel == 1 {
			do()
		} else {
			s.spawn(tracked(&g, do))
		}
	}
	g.Wait()
}
