// Package whole plants the flaws of requests as a whole: in how a body is written, in the headers
// that tell what it is, in what no schema limits. They are made in the fullest valid request.
package whole

import (
	"obiter/internal/core/exchange"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/wire"
	"obiter/internal/input/oad"
)

// Request is the fullest valid request of an operation, with what it takes to write others.
type Request struct {
	oad.Operation
	Media   string // of the body; empty without one
	Depth   flaw.Depth
	Places  []*wire.Place
	Values  map[string]any      // by place
	Control any                 // the body; nil: there is none
	Bytes   []byte              // as it is written
	Fields  func() []flaw.Field // of the body

	// Again is the request with another method, media type or body; With is it with another value
	// for a body.
	Again func(method, contentType string, body []byte) exchange.Request
	With  func(body any) exchange.Request
	// Give gives a flaw out, and GiveEdge a request that is right and seldom met.
	Give, GiveEdge func(Case)
}

// Case is a request with one flaw.
type Case struct {
	Flaw          exchange.Flaw
	Request       exchange.Request
	Body, Control any // the flawed part and what it is in a valid request; nil where the flaw is in none
}

func (r *Request) at(d flaw.Depth) bool { return d <= r.Depth }

// whole gives out a flaw of the request as a whole.
func (r *Request) whole(control any, rule, variant, reason string, q exchange.Request) {
	r.Give(Case{Flaw: exchange.Flaw{In: "request", Rule: rule, Variant: variant, Reason: reason}, Request: q, Control: control})
}

// again is the request once more.
func (r *Request) again() exchange.Request { return r.Again(r.Method, r.Media, r.Bytes) }

// body is the place of the body; nil where there is none.
func (r *Request) body() *wire.Place {
	for _, p := range r.Places {
		if p.In == "body" {
			return p
		}
	}
	return nil
}

// readsJSON reports whether the body is read as JSON, whatever it means.
func (r *Request) readsJSON() bool {
	return exchange.IsJSON(r.Media) || exchange.MediaTypeOf(r.Media) == exchange.JSONPatch
}
