package run

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"
	"unicode"

	"obiter/internal/core/exchange"
)

// What a service answers with a 5xx may be the doing of what else was in flight: a locked
// database, two writers of one record, too much to do. Before it counts, the case is sent again
// with fresh values and nothing else in flight.

// mayBeLoad reports whether an answer may be the doing of what else was in flight.
func mayBeLoad(a exchange.Answer) bool {
	return a.Err == "" && a.Status >= http.StatusInternalServerError || a.Status == http.StatusServiceUnavailable
}

// repetition is how often a failure was given again, in a row, and why it says nothing of the case;
// "" where it does.
type repetition struct {
	times int
	err   string
}

// enoughRepeated is how many failures of an operation that say the same are sent again, where all
// of them are given again: the others are then believed.
const enoughRepeated = 8

// holdDoubtful puts a failure aside, to be judged when it was sent again.
func (o *operation) holdDoubtful(ctx context.Context, c *exchange.Case, e *exchange.Exchange) bool {
	if !mayBeLoad(e.Response) || ctx.Err() != nil {
		return false
	}
	o.cut(&e.Response)
	e.Response.Forget()
	o.mu.Lock()
	defer o.mu.Unlock()
	o.appendTrail(*c, o.op.Name(), e.Response)
	o.doubtful = append(o.doubtful, &rejection{c, e})
	o.doubtfulBytes += len(e.Request.Body) + len(e.Response.Body)
	return true
}

// hasManyDoubtful reports whether so many are held that they are to be sent again first.
func (o *operation) hasManyDoubtful() bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return len(o.doubtful) >= maxAgain || o.doubtfulBytes >= maxAgainBytes/o.maxConcurrentOps
}

// resendDoubtful sends the failures that are held once more, one by one, and judges what comes of
// them.
func (o *operation) resendDoubtful(ctx context.Context) {
	list := o.doubtful
	o.doubtful, o.doubtfulBytes = nil, 0
	if len(list) == 0 {
		return
	}
	slices.SortFunc(list, func(a, b *rejection) int { return cmp.Compare(a.Number, b.Number) })
	sent := 0
	for ; sent < len(list) && !o.ends(ctx); sent++ {
		*list[sent].Exchange = o.resend(ctx, *list[sent].planned, *list[sent].Exchange)
	}
	for i, r := range list {
		if i < sent && !o.ends(ctx) || o.mayHaveBroken(r.ID) {
			o.takeAnswer(ctx, r.planned, r.Exchange)
		}
	}
}

// mayHaveBroken reports whether a case may be the one after which the service did not work any
// more.
func (o *operation) mayHaveBroken(id string) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.lost != nil && o.lost.suspects[id]
}

// resend sends a case again that the service failed at, while nothing else is in flight. It gives
// the exchange that counts: the first one, where the failure is given again.
func (o *operation) resend(ctx context.Context, c exchange.Case, first exchange.Exchange) exchange.Exchange {
	says := failureText(first.Response)
	known := o.repeated[says]
	if known.times >= enoughRepeated {
		first.Response.Err = known.err
		return first
	}
	c.Again = true // with values of its own
	again, settled := o.resendAlone(ctx, c)
	for _, pause := range unavailablePauses {
		if settled || o.ends(ctx) {
			break
		}
		select { // whoever keeps the service from working may need it meanwhile
		case <-ctx.Done():
		case <-time.After(pause):
			again, settled = o.resendAlone(ctx, c)
		}
	}
	if !settled {
		again.Response.Err = cmp.Or(again.Response.Err, fmt.Sprintf("the service is busy (%d), and was when it was asked again with nothing else in flight", again.Response.Status))
	}
	switch {
	case ctx.Err() != nil || again.Response.NotSent:
		return first
	case again.Response.Status >= http.StatusInternalServerError:
		o.repeated[says] = repetition{known.times + 1, again.Response.Err}
		first.Response.Err = again.Response.Err
		return first
	}
	if first.Response.Status == http.StatusServiceUnavailable && o.work.Lane != nil && !o.isInOutage() {
		o.work.Lane.Busy()
	}
	delete(o.repeated, says)
	again.Case.Again = false
	before := first.Response
	again.Before = &before
	return again
}

// unavailablePauses are how long a service that is not available is left alone before it is asked
// again.
var unavailablePauses = []time.Duration{200 * time.Millisecond, 500 * time.Millisecond, time.Second}

// resendAlone sends a case with nothing else in flight, and reports whether the answer is about it.
// A 503 is where a valid request is accepted right before and right after it; else, and where the
// case is the valid request itself, the service has too much to do.
func (o *operation) resendAlone(ctx context.Context, c exchange.Case) (e exchange.Exchange, settled bool) {
	defer o.exclusive(ctx)()
	if e = o.send(ctx, c, o.op.Describe); e.Response.Status != http.StatusServiceUnavailable {
		return e, true
	}
	if c.Kind == exchange.Control || !o.works(ctx) {
		return e, false
	}
	if e = o.send(ctx, c, o.op.Describe); e.Response.Status != http.StatusServiceUnavailable {
		return e, true
	}
	if !o.works(ctx) {
		return e, false
	}
	e.Response.Err = ""
	return e, true
}

// works reports whether the service accepts a valid request.
func (o *operation) works(ctx context.Context) bool {
	if o.control != nil && o.op.Method != http.MethodDelete {
		_, accepted := o.sendControlAgain(ctx)
		return accepted
	}
	o.mu.Lock()
	reader := o.reader
	o.mu.Unlock()
	if reader == nil {
		return false
	}
	return reader.healthy(o.send(ctx, reader.c, nil).Response)
}

// failureText is what a failure says, without what differs each time.
func failureText(a exchange.Answer) string {
	const most = 200 // bytes
	text := strings.Map(func(r rune) rune {
		if unicode.IsDigit(r) {
			return -1
		}
		return r
	}, string(a.Body[:min(len(a.Body), most)]))
	return fmt.Sprint(a.Status, " ", text)
}
