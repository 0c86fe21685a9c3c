package run

import (
	"context"
	"errors"
	"fmt"
	"time"

	"obiter/internal/core/exchange"
)

// GoneError says that the service went away in the middle of a run.
type GoneError struct {
	Cause    error    // why it cannot be reached
	Done     int      // cases answered until then
	Suspects []string // ids of cases that were cut off when it went, in the order they were noticed
}

func (e *GoneError) Error() string {
	return fmt.Sprintf("the service is gone after %d cases: %v", e.Done, e.Cause)
}

func (e *GoneError) Unwrap() error { return e.Cause }

// How long a service that refuses connections is given: some are started again
// by whoever watches over them.
const (
	goneTries = 3
	gonePause = 300 * time.Millisecond
)

// maxSuspects bounds how many cases are named.
const maxSuspects = 16

// serviceReachable reports whether the service is still there. If not, the run is stopped.
func (s *scheduler) serviceReachable(ctx context.Context) bool {
	if s.opt.Alive == nil {
		return true
	}
	for n := 1; ; n++ {
		err := s.opt.Alive(ctx)
		if err == nil || ctx.Err() != nil {
			return err == nil
		}
		if n == goneTries {
			s.stop(&GoneError{Cause: err})
			return false
		}
		select {
		case <-ctx.Done():
			return false
		case <-time.After(gonePause):
		}
	}
}

// suspect remembers a case that was cut off. Those of long ago are forgotten: the
// service survived them.
func (s *scheduler) suspect(e exchange.Exchange) {
	if e.Response.ClosedEarly {
		s.suspects = append(s.suspects, cutOff{e.ID, s.done})
	}
	recent := 2 * max(s.opt.Parallel, 1)
	for len(s.suspects) > 0 && (len(s.suspects) > maxSuspects || s.suspects[0].done < s.done-recent) {
		s.suspects = s.suspects[1:]
	}
}

// cutOff is a case that was cut off, and how many were done by then.
type cutOff struct {
	id   string
	done int
}

// brokenOff reports whether an exchange was cut off by the end of the service,
// and not by that of the run.
func brokenOff(ctx context.Context, e exchange.Exchange) bool {
	var gone *GoneError
	return e.Response.ClosedEarly && errors.As(context.Cause(ctx), &gone)
}

// ended is the error of a run that was stopped; nil where it was not.
func (s *scheduler) ended(ctx context.Context) error {
	cause := context.Cause(ctx)
	var gone *GoneError
	if errors.As(cause, &gone) {
		gone.Done = s.done
		for _, c := range s.suspects {
			gone.Suspects = append(gone.Suspects, c.id)
		}
	}
	return cause
}
