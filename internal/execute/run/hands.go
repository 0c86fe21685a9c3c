package run

import "sync"

// takeUp does what it is handed, one thing after another. A goroutine that did much has room
// for much on its stack, which a new one has to make first.
func takeUp(work <-chan func()) {
	for do := range work {
		do()
	}
}

// waited is something that a group waits for.
func waited(g *sync.WaitGroup, do func()) func() {
	g.Add(1)
	return func() {
		defer g.Done()
		do()
	}
}

// hand does something as soon as somebody is free to do it.
func (o *operation) hand(g *sync.WaitGroup, do func()) { o.hands <- waited(g, do) }

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
