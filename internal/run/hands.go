package run

import "sync"

// takeUp does what it is handed, one thing after another. A goroutine that did much has room
// for much on its stack, which a new one has to make first.
func takeUp(work <-chan func()) {
	for do := range work {
		do()
	}
}

// hand does something as soon as somebody is free to do it.
func (o *operation) hand(g *sync.WaitGroup, do func()) {
	g.Add(1)
	o.hands <- func() {
		defer g.Done()
		do()
	}
}

// apart does something at once.
func (r *runner) apart(do func()) {
	select {
	case r.more <- do:
	default:
		go func() {
			do()
			takeUp(r.more)
		}()
	}
}

// alongside is apart, for who waits for several things.
func (r *runner) alongside(g *sync.WaitGroup, do func()) {
	g.Add(1)
	r.apart(func() {
		defer g.Done()
		do()
	})
}
