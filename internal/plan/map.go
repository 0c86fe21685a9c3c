package plan

import (
	"iter"
	"sync"

	"obiter/internal/oad"
)

// Map does work on the selected operations, on several at a time, and gives out
// what comes of it in the order of the document. The work is handed each
// operation by itself; the cases of an operation are numbered from where those
// of another ended, which other is left open. Few results are held at a time.
func Map[T any](p *Plan, workers int, work func(*Operation) T) iter.Seq[T] {
	return func(yield func(T) bool) {
		jobs := byPath(p.operations)
		results := make([]chan []T, len(jobs))
		for i := range results {
			results[i] = make(chan []T, 1)
		}
		var (
			wg    sync.WaitGroup
			once  = newClaims(len(jobs))
			todo  = make(chan int)
			ahead = make(chan struct{}, 2*workers) // jobs begun and not yet given out
			stop  = make(chan struct{})
		)
		defer wg.Wait()
		defer once.stop()
		defer close(stop)
		wg.Go(func() {
			defer close(todo)
			for i := range jobs {
				select {
				case ahead <- struct{}{}:
				case <-stop:
					return
				}
				select {
				case todo <- i:
				case <-stop:
					return
				}
			}
		})
		for range workers {
			wg.Go(func() {
				q := *p
				q.number, q.paths, q.once = new(int), nil, once
				q.renew()
				for i := range todo {
					q.job = i
					var out []T
					for _, o := range jobs[i] {
						select {
						case <-stop:
							return
						default:
							out = append(out, work(q.prepare(o)))
						}
					}
					once.end(i)
					results[i] <- out
				}
			})
		}
		for i := range results {
			for _, r := range <-results[i] {
				if !yield(r) {
					return
				}
			}
			<-ahead
		}
	}
}

// byPath parts operations into jobs: those of one path, which follow one
// another in a description, are done by one worker.
func byPath(operations []oad.Operation) [][]oad.Operation {
	var out [][]oad.Operation
	for i, o := range operations {
		if i == 0 || o.Path != operations[i-1].Path {
			out = append(out, nil)
		}
		out[len(out)-1] = append(out[len(out)-1], o)
	}
	return out
}

// claims tell which operation a flaw is planned with that the plan, or a path,
// has once: the first that can have it, whoever is done sooner.
type claims struct {
	mu      sync.Mutex
	changed sync.Cond
	by      map[string]claim
	ended   []bool // by job
	open    int    // the first job that has not ended
	stopped bool
}

type claim struct {
	job       int
	operation string
}

func newClaims(jobs int) *claims {
	c := &claims{by: map[string]claim{}, ended: make([]bool, jobs)}
	c.changed.L = &c.mu
	return c
}

// first tells whether the operation is the one. Where earlier jobs may claim the
// same it waits until one has, or all have ended.
func (c *claims) first(job int, operation, what string, alone bool) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	for {
		if by, taken := c.by[what]; taken {
			return by == claim{job, operation}
		}
		if alone || c.open >= job {
			c.by[what] = claim{job, operation}
			c.changed.Broadcast()
			return true
		}
		if c.stopped {
			return false
		}
		c.changed.Wait()
	}
}

func (c *claims) end(job int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.ended[job] = true
	for c.open < len(c.ended) && c.ended[c.open] {
		c.open++
	}
	c.changed.Broadcast()
}

func (c *claims) stop() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.stopped = true
	c.changed.Broadcast()
}
