package plan

import (
	"iter"
	"runtime"
	"sync"
	"time"

	"obiter/internal/input/oad"
)

// Map does work on the selected operations, on several at a time, and gives out
// what comes of it in the order of the document. Few results are held at a time.
func Map[T any](p *Plan, workers int, work func(*Operation) T) iter.Seq[T] {
	return func(yield func(T) bool) {
		jobs := byPath(p.operations)
		if p.hasWhole() {
			jobs = append(jobs, nil) // the API as a whole
		}
		results := make([]chan []T, len(jobs))
		for i := range results {
			results[i] = make(chan []T, 1)
		}
		var (
			wg    sync.WaitGroup
			todo  = make(chan int)
			ahead = make(chan struct{}, 8*workers) // jobs begun and not yet given out
			stop  = make(chan struct{})
		)
		defer wg.Wait()
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
				for i := range todo {
					q.owners = newOwners()
					var out []T
					for _, o := range jobs[i] {
						select {
						case <-stop:
							return
						default:
							out = append(out, work(q.prepare(o)))
						}
					}
					if len(jobs[i]) == 0 {
						if op := q.prepareWhole(); op != nil {
							out = append(out, work(op))
						}
					}
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

// Count counts the cases of a plan; false where there was no time for all.
func (p *Plan) Count(most time.Duration) (int, bool) {
	deadline := time.Now().Add(most)
	total, all := 0, true
	for n := range Map(p, runtime.GOMAXPROCS(0), func(op *Operation) int {
		n := 0
		for range op.Cases() {
			if n++; n%64 == 0 && time.Now().After(deadline) {
				break
			}
		}
		return n
	}) {
		if total += n; time.Now().After(deadline) {
			all = false
			break
		}
	}
	return total, all
}
