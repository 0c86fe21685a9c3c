package plan

import (
	"bytes"
	"slices"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/generate/flaw"
	"obiter/internal/input/oad"
)

// WholeAPI is the name of what a plan has once, as an operation of its own that
// comes last: what does not depend on the operation that is asked.
const WholeAPI = "the API as a whole"

// Name is the operation as users write it, or WholeAPI.
func (op *Operation) Name() string {
	if op.whole != nil {
		return WholeAPI
	}
	return op.Operation.Name()
}

// IsWholeAPI reports whether the operation is not one of the description's.
func (op *Operation) IsWholeAPI() bool { return op.whole != nil }

// wholeAPI tells through which operations the API as a whole is tried. Their
// controls prove that it can be.
type wholeAPI struct {
	any  *Operation // the first that is planned
	json *Operation // the first that takes a JSON body, and no nested lists; may be nil
}

// hasWhole reports whether the plan tries the API as a whole: not where single
// operations are selected.
func (p *Plan) hasWhole() bool {
	return (p.opt.Within == nil || p.opt.Within[WholeAPI]) && len(p.opt.Only)+len(p.opt.Tags) == 0 && len(p.operations) > 0 && !p.opt.ControlsOnly
}

// prepareWhole makes the operation for the API as a whole; nil where
// no operation is planned through which it could be tried.
func (p *Plan) prepareWhole() *Operation {
	w := &wholeAPI{}
	for _, o := range p.operations {
		if w.any != nil && (o.Body == nil || !slices.ContainsFunc(o.Body.Media, func(m oad.Media) bool { return exchange.IsJSON(m.Type) })) || o.Method == "DELETE" {
			continue
		}
		op := p.prepare(o)
		if op.SkipReason != "" {
			continue
		}
		if w.any == nil {
			w.any = op
		}
		if op.takesJSON() {
			w.json = op
			break
		}
	}
	if w.any == nil {
		return nil
	}
	return &Operation{plan: p, whole: w, Drops: map[string]int{}}
}

// takesJSON reports whether the body is JSON and no list of lists or texts, so
// that deep nesting is a flaw.
func (op *Operation) takesJSON() bool {
	if op.Body == nil || !exchange.IsJSON(op.Media) || len(op.Parts) == 0 {
		return false
	}
	part := op.Parts[len(op.Parts)-1]
	return part.In == "body" && !part.Schema.Valid([]any{[]any{}}) && !part.Schema.Valid([]any{"x"})
}

// wholeAPI gives out what the plan has once.
func (e *emitter) wholeAPI() {
	w := e.op.whole
	if w.json != nil {
		e.oversized(w.json)
	}
	for _, root := range e.op.plan.roots() {
		path := e.op.plan.unknownPath(root)
		if path == "" || root != "" && !e.at(flaw.Usual) {
			continue
		}
		variant := "unlisted"
		if root != "" {
			variant += "-in-" + strings.ReplaceAll(strings.Trim(root, "/"), "/", "-")
		}
		r := w.any.request("GET", "", nil, w.any.values(fullest))
		r.URL = strings.TrimSuffix(e.op.plan.opt.Base, "/") + path
		e.through(w.any, "unknown-path", variant, "no path of the description matches "+path, r)
	}
}

// through gives out a request that is sent like those of another operation.
func (e *emitter) through(op *Operation, rule, variant, reason string, r exchange.Request) {
	e.provenBy, e.credentials = op.Name(), op.credentials
	e.whole(op.values(fullest)["body"], rule, variant, reason, r)
}

// oversized sends JSON that no reader should take to the end: nested deeply, and
// in deep runs very large. Once a plan: it is the same reader.
func (e *emitter) oversized(op *Operation) {
	send := func(rule, variant, reason string, body []byte) {
		e.through(op, rule, variant, reason, op.request(op.Method, op.Media, body, op.values(fullest)))
	}
	if e.at(flaw.Usual) {
		send("deep-nesting", "10000-levels", "the JSON nests 10,000 arrays", nested(10_000))
	}
	if e.at(flaw.Deep) {
		send("deep-nesting", "100000-levels", "the JSON nests 100,000 arrays", nested(100_000))
		send("large-body", "8-mib", "the body has 8 MiB", []byte(`["`+strings.Repeat("x", 8<<20)+`"]`))
	}
}

func nested(levels int) []byte {
	return append(bytes.Repeat([]byte("["), levels), bytes.Repeat([]byte("]"), levels)...)
}

// maxRoots bounds next to how many resources an unknown path is tried.
const maxRoots = 8

// roots are the paths that resources lie in, in their order, as far as no parameter
// is in them: the root first, then such as /api/v1. Other layers may answer there.
func (p *Plan) roots() []string {
	out := []string{""}
	for _, o := range p.doc.Operations {
		resource, _, _ := strings.Cut(o.Address(), "/{")
		if i := strings.LastIndexByte(resource, '/'); i > 0 && len(out) < maxRoots && !slices.Contains(out, resource[:i]) && !strings.Contains(resource, "{") {
			out = append(out, resource[:i])
		}
	}
	return out
}

// unknownPath is a path in another that no template of the description matches; ""
// where every such path is described.
func (p *Plan) unknownPath(path string) string {
	for range 4 {
		path += "/no-such-place"
		if !slices.ContainsFunc(p.doc.Operations, func(o oad.Operation) bool { return oad.Match(o.Address(), path) }) {
			return path
		}
	}
	return ""
}
