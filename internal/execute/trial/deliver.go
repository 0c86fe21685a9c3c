package trial

import (
	"context"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/evaluate/judge"
)

// renewal knows which fields get new values in the requests of an operation. It is safe for
// concurrent use.
type renewal struct {
	nth        atomic.Uint64
	mu         sync.Mutex
	operations map[string]renewed
}

// renewed is what the service showed of an operation's new values.
type renewed struct {
	settled bool            // a request with them, or without some of them, was accepted
	fixed   map[string]bool // fields that do not take them
	wide    bool            // others get new values, too
	refused map[string]bool // valid requests, by their shapes, that were refused with all values as planned, too
}

func (r *renewal) of(operation string) renewed {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.operations[operation]
}

func (r *renewal) learn(operation string, is renewed) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.operations == nil {
		r.operations = map[string]renewed{}
	}
	is.settled = true
	r.operations[operation] = is
}

// refuse notes a valid request that is refused whatever its values are: another one may be accepted.
func (r *renewal) refuse(operation, shape string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.operations == nil {
		r.operations = map[string]renewed{}
	}
	is := r.operations[operation]
	refused := map[string]bool{shape: true}
	maps.Copy(refused, is.refused)
	is.refused = refused
	r.operations[operation] = is
}

// renew is the case with new values, as far as its operation takes them.
func (r *renewal) renew(c exchange.Case, is renewed) exchange.Exchange {
	if len(c.Variables) == 0 {
		return exchange.Exchange{Case: c}
	}
	c.Variables = slices.DeleteFunc(slices.Clone(c.Variables), func(v exchange.Variable) bool { return is.fixed[v.Pointer] || v.Wide && !is.wide })
	fresh, sent := c.Renewed(r.nth.Add(1))
	return exchange.Exchange{Case: fresh, Fresh: sent}
}

// deliver sends a case with new values, by send, which is called for each try. Where the
// service reports a duplicate it is sent once more. A valid request that is refused is tried
// with fewer new values, until it is known which of them the service takes: one may stand for
// something that it knows.
func (r *renewal) deliver(ctx context.Context, c exchange.Case, send func(exchange.Exchange) exchange.Exchange) exchange.Exchange {
	is := r.of(c.Operation)
	e := send(r.renew(c, is))
	if len(c.Variables) == 0 || e.Response.Err != "" || ctx.Err() != nil {
		return e
	}
	if c.Expect.Class != exchange.Duplicate && reportsDuplicate(e) {
		return r.otherwise(ctx, c, is, e, send)
	}
	if c.Kind != exchange.Control || is.settled || is.refused[c.Base] || len(e.Fresh) == 0 {
		return e
	}
	if e.Response.Success() {
		r.learn(c.Operation, is)
		return e
	}
	if !mayBeOfValues(e.Response) {
		return e
	}
	for _, fixed := range fewer(c, e) {
		if ctx.Err() != nil {
			break
		}
		is := renewed{fixed: fixed}
		if again := send(r.renew(c, is)); again.Response.Success() {
			r.learn(c.Operation, is)
			return again
		}
	}
	r.refuse(c.Operation, c.Base)
	return e
}

// otherwise sends a case again that is reported to be a duplicate: with other values, and with
// other values in more fields.
func (r *renewal) otherwise(ctx context.Context, c exchange.Case, is renewed, first exchange.Exchange, send func(exchange.Exchange) exchange.Exchange) exchange.Exchange {
	c.Again = true
	e := first
	tries := []bool{false, true} // whether more fields get new values
	if is.wide || len(first.Fresh) == 0 && !settles(c) {
		tries = tries[1:]
	}
	for _, wide := range tries {
		if ctx.Err() != nil {
			break
		}
		is.wide = wide
		again := send(r.renew(c, is))
		if again.Response.Err != "" {
			return e
		}
		if e = again; !reportsDuplicate(e) {
			if wide {
				r.learn(c.Operation, is)
			}
			return e
		}
	}
	return e
}

func settles(c exchange.Case) bool {
	return slices.ContainsFunc(c.Variables, func(v exchange.Variable) bool { return v.Settled })
}

// reportsDuplicate reports whether an answer says that a value is taken.
func reportsDuplicate(e exchange.Exchange) bool {
	if e.Response.Err != "" || e.Response.Status < http.StatusBadRequest || e.Response.Status >= http.StatusInternalServerError {
		return false
	}
	if e.Response.Status == http.StatusConflict {
		return true
	}
	if !judge.MayBeTaken(e.Response.Body) { // most rejections say nothing of the kind, and reading them takes long
		return false
	}
	c := e.Case
	if c.Part() != "body" {
		c.Body = c.Control
	}
	_, taken := judge.Taken(c, e.Response)
	return taken
}

// mayBeOfValues reports whether a valid request was refused in a way that may be about its
// values.
func mayBeOfValues(a exchange.Answer) bool {
	switch a.Status {
	case http.StatusUnauthorized, http.StatusForbidden, http.StatusMethodNotAllowed, http.StatusTooManyRequests, http.StatusServiceUnavailable, http.StatusNotImplemented:
		return false
	}
	return a.Status >= http.StatusBadRequest
}

// fewer are sets of fields that keep their values as planned, in the order in which they are
// tried: those that the answer speaks of; all but those that records are known by; all.
func fewer(c exchange.Case, e exchange.Exchange) []map[string]bool {
	said := strings.ToLower(string(e.Response.Body))
	named, others, all := map[string]bool{}, map[string]bool{}, map[string]bool{}
	for _, v := range c.Variables {
		if v.Wide {
			continue
		}
		all[v.Pointer] = true
		if name := strings.ToLower(instance.Last(v.Pointer)); strings.Contains(said, name) {
			named[v.Pointer] = true
		}
		if !v.Key {
			others[v.Pointer] = true
		}
	}
	var out []map[string]bool
	for _, some := range []map[string]bool{named, others, all} {
		if len(some) > 0 && !slices.ContainsFunc(out, func(o map[string]bool) bool { return len(o) == len(some) }) {
			out = append(out, some)
		}
	}
	return out
}
