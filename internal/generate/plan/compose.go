package plan

import (
	"maps"
	"slices"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/wire"
)

// values are the parts' values in one of their shapes; a part without that
// shape is the fullest.
func (op *Operation) values(shape string) map[string]any {
	out := map[string]any{}
	for _, part := range op.Parts {
		out[part.In] = part.Controls[0].Value
		for _, c := range part.Controls {
			if c.Shape == shape {
				out[part.In] = c.Value
			}
		}
	}
	return out
}

// with is the fullest request with another value in one part.
func (op *Operation) with(in string, v any) exchange.Request {
	values := op.values(fullest)
	values[in] = v
	return op.compose(values)
}

// compose writes a request.
func (op *Operation) compose(values map[string]any) exchange.Request {
	return op.request(op.Method, op.Media, op.body(values), values)
}

// body writes the body, where there is one.
func (op *Operation) body(values map[string]any) []byte {
	for _, part := range op.Parts {
		if v, ok := values[part.In]; ok && part.In == "body" {
			return part.Encode(v)
		}
	}
	return nil
}

// composer writes fullest requests that differ in one part, most of which is as in a
// control: what is the same in all of them is written once.
func (op *Operation) composer(part *Part, control any) func(v any) exchange.Request {
	around := op.values(fullest)
	if part.In == "body" {
		first, encode := op.compose(around), part.Encode
		if part.Form == "" {
			encode = instance.NewVariants(control).Encode
		}
		return func(v any) exchange.Request {
			r := first
			r.Headers, r.Body = slices.Clone(first.Headers), encode(v)
			return r
		}
	}
	body, written := op.body(around), &wire.Written{}
	op.requestWith(written, op.Method, op.Media, body, around)
	return func(v any) exchange.Request {
		values := maps.Clone(around)
		values[part.In] = v
		return op.requestWith(written, op.Method, op.Media, body, values)
	}
}

// accept is what a usual client sends: successes and problem documents on an equal
// footing, so that no service answers a success as a problem document because of it.
const accept = "application/json, application/problem+json, */*;q=0.1"

// request puts together what is sent.
func (op *Operation) request(method, contentType string, body []byte, values map[string]any) exchange.Request {
	return op.requestWith(&wire.Written{}, method, contentType, body, values)
}

func (op *Operation) requestWith(written *wire.Written, method, contentType string, body []byte, values map[string]any) exchange.Request {
	address, headers := written.Address(op.plan.opt.Base, op.Path, placesOf(op.Parts), values)
	r := exchange.Request{Method: method, URL: address, Body: body}
	r.Headers = append(r.Headers, [2]string{"Accept", accept})
	if contentType == "" && op.Body == nil {
		contentType = op.bodiless
	}
	if contentType != "" {
		r.Headers = append(r.Headers, [2]string{"Content-Type", contentType})
	}
	r.Headers = append(r.Headers, headers...)
	return r
}

func placesOf(parts []*Part) []*wire.Place {
	out := make([]*wire.Place, len(parts))
	for i, part := range parts {
		out[i] = &part.Place
	}
	return out
}
