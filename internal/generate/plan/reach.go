package plan

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/sample"
	"obiter/internal/input/document"
	"obiter/internal/input/oad"
	"obiter/internal/input/schema"
	"obiter/internal/input/sources"
)

// mayBeOthers is the reason for dropping what could reach a record of somebody else.
const mayBeOthers = "it may name a record that somebody else made"

// decisive is the reason for dropping what could change other records than its operation may.
const decisive = "it decides which records are changed"

// changes reports whether the operation changes or removes the record that its path
// names.
func (e *emitter) changes() bool {
	return slices.Contains([]string{"PUT", "PATCH", "DELETE"}, e.op.Method) || e.op.reach != nil && e.op.Method == "POST"
}

// mayReachOthers is the flaw because of which a case that changes or deletes something may reach a
// record of somebody else; nil where it may not. Services fold odd spellings of ids onto records
// that exist, so ids are sent as they are. What is left are an id that belonged to a record of this
// run, and words where ids are numbers or UUIDs.
func (e *emitter) mayReachOthers(c exchange.Case) *exchange.Flaw {
	switch {
	case !e.changes():
		return nil
	case len(c.Flaws) == 0 || c.Flaws[0].In != "path":
		return nil
	}
	f, last := c.Flaws[0], lastOf(e.op.Address())
	if len(c.Flaws) == 1 && f.Pointer == instance.Join("", last) {
		if f.Rule == "unknown-id" && e.op.plan.opt.Retires[e.op.Name()] {
			return nil
		}
		now, _ := instance.Get(c.Body, f.Pointer)
		valid, _ := instance.Get(c.Control, f.Pointer)
		if f.Rule != "unknown-id" && isNoID(now, valid) {
			return nil
		}
	}
	return &f
}

// lastOf is the name of the last parameter of a path.
func lastOf(path string) string {
	open, shut := strings.LastIndexByte(path, '{'), strings.LastIndexByte(path, '}')
	if open < 0 || shut < open {
		return ""
	}
	return path[open+1 : shut]
}

// isWord matches words without digits, separators and wildcards, which no service takes for an
// id that is a number or a UUID, and takesNoWords reports whether a valid id is one of these.
var isWord = regexp.MustCompile(`^[A-Za-z]{2,}(-[A-Za-z]+)*$`)

// isNoID reports whether a value is such a word in the place of such an id.
func isNoID(v, valid any) bool {
	text, is := v.(string)
	return is && isWord.MatchString(text) && takesNoWords(valid)
}

func takesNoWords(id any) bool {
	switch id := id.(type) {
	case json.Number:
		return true
	case string:
		return uuid.MatchString(id)
	}
	return false
}

var uuid = regexp.MustCompile(`^[0-9A-Fa-f]{8}(-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12}$`)

// decisive is the flaw or edge because of which a case may change other records than the valid
// requests of its operation do: something in it that decides which these are is not what it is
// there. Nil where there is none.
func (e *emitter) decisive(c exchange.Case) *exchange.Flaw {
	r := e.op.reach
	if r == nil {
		return nil
	}
	flaws := c.Flaws
	if c.Edge != nil {
		flaws = []exchange.Flaw{*c.Edge}
	}
	for i, f := range flaws {
		whole := f.In == "request" && f.Rule != "credentials" && f.Rule != "wrong-method" || f.In == "body" && f.Pointer == ""
		if whole && r.Wide && r.Decided {
			return &flaws[i]
		}
	}
	if len(flaws) == 0 || flaws[0].In == "request" {
		return nil
	}
	if e.decidesOtherwise(c, r) || !r.Wide && addsNumber(r, c.Part(), c.Body, c.Control) {
		return &flaws[0]
	}
	return nil
}

// decidesOtherwise reports whether a value that decides which records change is not the one of
// the valid requests.
func (e *emitter) decidesOtherwise(c exchange.Case, r *sources.Reach) bool {
	in := c.Part()
	differs := c.Body == nil && r.Wide && r.Decided // it is written otherwise than JSON is
	instance.Walk(e.op.values(fullest)[in], func(at string, valid any) bool {
		if differs || at == "" || r.Of(in, at) == sources.Nothing {
			return !differs
		}
		now, has := instance.Get(c.Body, at)
		switch {
		case has && instance.Equal(now, valid), !has && !r.Wide: // without it the address alone decides
		case isNoID(now, valid) && r.Of(in, at) == sources.Names:
		default:
			differs = true
		}
		return !differs
	})
	return differs
}

// addsNumber reports whether a body names its record by a number that the valid one does not have:
// what only the service sets.
func addsNumber(r *sources.Reach, in string, body, control any) bool {
	object, _ := body.(map[string]any)
	for _, name := range instance.Names(object) {
		at := instance.Join("", name)
		_, number := object[name].(json.Number)
		if _, has := instance.Get(control, at); number && !has && r.Of(in, at) == sources.Names {
			return true
		}
	}
	return false
}

// decided puts what decides which records an operation changes into all of its requests, as it is
// in the fullest.
func (op *Operation) decided() {
	if op.reach == nil || !op.reach.Wide {
		return
	}
	for _, part := range op.Parts {
		full, is := part.Controls[0].Value.(map[string]any)
		if !is {
			continue
		}
		for i, c := range part.Controls {
			for _, name := range instance.Names(full) {
				if at := instance.Join("", name); op.holdsDecision(part, at) {
					c.Value, _ = instance.Set(c.Value, at, full[name])
				}
			}
			part.Controls[i] = c
		}
		part.Controls = slices.DeleteFunc(part.Controls, func(c sample.Control) bool { return !part.Schema.Valid(c.Value) }) // a branch that does without
	}
}

// holdsDecision reports whether the value at a place of a part decides which records the operation
// changes, or has something in it that does.
func (op *Operation) holdsDecision(part *Part, pointer string) bool {
	if op.reach == nil || !op.reach.Wide {
		return false
	}
	if op.reach.Of(part.In, pointer) != sources.Nothing {
		return true
	}
	found := false
	v, _ := instance.Get(part.Controls[0].Value, pointer)
	instance.Walk(v, func(at string, _ any) bool {
		found = found || op.reach.Of(part.In, pointer+at) != sources.Nothing
		return !found
	})
	return found
}

// nameTries bounds how many names are made until one can stand in an address as it is.
const nameTries = 16

// NewName is a valid value for a parameter of an operation's path that hardly anything has; another
// one for each number. The error says why there is none.
func (p *Plan) NewName(operation, parameter string, nth uint64) (any, error) {
	o, err := p.described(operation)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(o.Parameters, func(q oad.Parameter) bool { return q.In == "path" && q.Name == parameter })
	if i < 0 {
		return nil, fmt.Errorf("the path parameter %q is not described", parameter)
	}
	p = p.own()
	param := o.Parameters[i]
	like, err := p.parameterValue(param, nil)
	if err != nil {
		return nil, fmt.Errorf("the path parameter %q: %w", parameter, err)
	}
	var list []schema.Schema
	if param.Schema != (document.Location{}) {
		s, err := p.set.Compile(param.Schema.URL())
		if err != nil {
			return nil, fmt.Errorf("the path parameter %q: %w", parameter, err)
		}
		list = []schema.Schema{s}
	}
	for i := range uint64(nameTries) {
		v, ok := p.maker.Fresh(list, like, false, p.opt.Salt, nth*nameTries+i)
		if text, is := v.(string); is && strings.Contains(text, " ") {
			v = strings.ReplaceAll(text, " ", "-")
			ok = ok && schema.Obeys(list, v)
		}
		if ok && inAddress.MatchString(fmt.Sprint(v)) {
			return v, nil
		}
	}
	return nil, fmt.Errorf("the path parameter %q can have no value that nothing else has", parameter)
}

// inAddress matches what stands in an address as it is.
var inAddress = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9_.~-]*$`)
