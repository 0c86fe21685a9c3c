package plan

import (
	"fmt"
	"slices"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/sample"
	"obiter/internal/generate/wire"
	"obiter/internal/input/config"
	"obiter/internal/input/document"
	"obiter/internal/input/oad"
	"obiter/internal/input/schema"
)

// Part is one place of a request with its values as one object: the body, or
// the parameters of a place by their names.
type Part struct {
	wire.Place
	Controls []sample.Control // fullest first
	heavy    bool             // its schema takes long to check, so that only required fields are tried

	listed map[string][]flaw.Field        // fields of its controls, by their shapes
	varied map[string][]exchange.Variable // the same of what is renewed in them
}

// Untried is an optional parameter that is left out of all requests, and why.
type Untried struct{ In, Name, Why string }

// ignored are header parameters that OpenAPI says have no meaning there, and those that
// the transport owns (RFC 9110, sections 6.6, 7.6 and 8.6; RFC 9112, section 6): it
// writes what is true, whatever a request says.
func ignored(p oad.Parameter) bool {
	return p.In == "header" && slices.Contains([]string{"accept", "content-type", "authorization"}, strings.ToLower(p.Name)) || p.In == "querystring" || ofTransport(p)
}

// ofTransport reports whether a header cannot be sent as it is planned.
func ofTransport(p oad.Parameter) bool {
	return p.In == "header" && slices.Contains([]string{"host", "content-length", "transfer-encoding", "connection", "keep-alive", "proxy-connection", "te", "trailer", "upgrade"}, strings.ToLower(p.Name))
}

// places are where parameters are, in the order in which they are planned.
var places = []string{"path", "query", "header", "cookie"}

// parameterParts makes a part of each place that has parameters, with the values that
// are given for them.
func (p *Plan) parameterParts(op *Operation, given config.Parameters) ([]*Part, error) {
	var out []*Part
	o := op.Operation
	for _, in := range places {
		part := &Part{Place: wire.Place{In: in}}
		var members []schema.Property
		for _, param := range o.Parameters {
			if param.In == "querystring" && param.Required {
				return nil, fmt.Errorf("the query as a whole is described as one required parameter (in: querystring, %q), which is not supported", param.Name)
			}
			if param.In != in || ignored(param) {
				continue
			}
			address := ""
			if param.Schema != (document.Location{}) {
				address = param.Schema.URL()
				_, err := p.set.Compile(address)
				if _, isGiven := given[in][param.Name]; err != nil && !param.Required && !isGiven {
					op.Untried = append(op.Untried, Untried{in, param.Name, err.Error()})
					continue
				}
				if err != nil {
					return nil, fmt.Errorf("the %s parameter %q: %w", in, param.Name, err)
				}
			}
			members = append(members, schema.Property{Name: param.Name, URL: address, Required: param.Required})
			part.Params = append(part.Params, param)
		}
		if len(members) == 0 {
			continue
		}
		s, err := p.set.Object(o.Name()+"/"+in, members)
		if err != nil {
			return nil, fmt.Errorf("the %s parameters: %w", in, err)
		}
		part.Schema = s
		if err := p.parameterControls(part, given[in]); err != nil {
			return nil, err
		}
		out = append(out, part)
	}
	return out, nil
}

// parameterControls makes the values: those that are given, else of examples where
// there are any. A null that is given leaves an optional parameter out.
func (p *Plan) parameterControls(part *Part, given map[string]any) error {
	full, lean := map[string]any{}, map[string]any{}
	origin := "synthesised"
	for _, param := range part.Params {
		chosen, isGiven := given[param.Name]
		if isGiven && chosen == nil && !param.Required {
			continue
		}
		v, err := p.parameterValue(param, chosen)
		if err != nil {
			if param.Required {
				return fmt.Errorf("the %s parameter %q: %w", part.In, param.Name, err)
			}
			continue
		}
		_, ok := part.Sendable(map[string]any{param.Name: v})
		if !ok && !isGiven {
			v, ok = p.sendable(part, param)
		}
		if !ok {
			if param.Required {
				return fmt.Errorf("the %s parameter %q: its value cannot be sent unambiguously", part.In, param.Name)
			}
			continue
		}
		full[param.Name] = v
		if param.Required || isGiven {
			lean[param.Name] = v
		}
		if len(param.Examples) > 0 {
			origin = "example"
		}
	}
	part.Controls = []sample.Control{{Shape: fullest, Value: full, Origin: origin}, {Shape: leanest, Value: lean, Origin: origin}}
	part.Fullest = full
	return nil
}

func (p *Plan) parameterValue(param oad.Parameter, given any) (any, error) {
	if given != nil {
		return p.given(param, given)
	}
	if param.Schema == (document.Location{}) {
		if len(param.Examples) > 0 {
			return param.Examples[0].Value, nil
		}
		return "1", nil
	}
	s, err := p.set.Compile(param.Schema.URL())
	if err == nil {
		err = s.Bearable()
	}
	if err != nil {
		return nil, err
	}
	return p.maker.Value(s, p.published(param.Examples))
}

// sendable is a value that the place can carry: of the other examples, or made so.
func (p *Plan) sendable(part *Part, param oad.Parameter) (any, bool) {
	if param.Schema == (document.Location{}) {
		return "1", true
	}
	s, err := p.set.Compile(param.Schema.URL())
	if err != nil {
		return nil, false
	}
	carried := func(v any, err error) bool {
		_, ok := part.Sendable(map[string]any{param.Name: v})
		return ok && err == nil
	}
	published := p.published(param.Examples)
	for i := range published {
		if v, err := p.maker.Value(s, published[i:i+1]); carried(v, err) {
			return v, true
		}
	}
	if v, err := p.maker.Value(s, nil); carried(v, err) {
		return v, true
	}
	v, err := p.maker.Plain(s)
	return v, carried(v, err)
}

// given is a configured value as the parameter's schema takes it: text that reads
// as a number may be one.
func (p *Plan) given(param oad.Parameter, v any) (any, error) {
	if param.Schema == (document.Location{}) {
		return v, nil
	}
	s, err := p.set.Compile(param.Schema.URL())
	if err == nil {
		err = s.Bearable()
	}
	if err != nil {
		return nil, err
	}
	read := wire.Read([]schema.Schema{s}, v)
	if !s.Valid(read) {
		return nil, fmt.Errorf("the value %s, which is given for it, breaks its schema", instance.Encode(v))
	}
	return read, nil
}

// Fields lists the part's fields with their rules.
func (part *Part) Fields() []flaw.Field { return part.fields(part.Controls[0]) }

// fields lists those of one of the part's controls.
func (part *Part) fields(c sample.Control) []flaw.Field {
	list, known := part.listed[c.Shape]
	if !known {
		if list = flaw.Fields(part.Schema, c.Value); part.listed == nil {
			part.listed = map[string][]flaw.Field{}
		}
		part.listed[c.Shape] = list
	}
	return list
}

// unchecked lists the fields whose values may break a pattern or a format that cannot be
// checked here.
func (op *Operation) unchecked(values map[string]any) []string {
	var out []string
	for _, part := range op.Parts {
		for _, f := range part.Fields() {
			if v, has := instance.Get(values[part.In], f.Pointer); has && f.Shape.Guesses(v) {
				out = append(out, exchange.Flaw{In: part.In, Pointer: f.Pointer}.Where())
			}
		}
	}
	return out
}

// alternatives lists the fields of a control that have a oneOf or anyOf:
// what is wrong inside, a service may tell of any branch.
func (part *Part) alternatives(c sample.Control) []string {
	var out []string
	for _, f := range part.fields(c) {
		if len(f.Shape.Choices()) > 0 {
			out = append(out, f.Pointer)
		}
	}
	return out
}

// secretFields are the fields of a control whose values must not come back:
// those that are only written, and passwords.
func (part *Part) secretFields(c sample.Control) []string {
	var out []string
	for _, f := range part.fields(c) {
		if f.Shape.WriteOnly || f.Shape.Secret {
			out = append(out, f.Pointer)
		}
	}
	return out
}
