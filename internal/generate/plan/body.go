package plan

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/sample"
	"obiter/internal/generate/wire"
	"obiter/internal/input/document"
	"obiter/internal/input/oad"
	"obiter/internal/input/schema"
)

func (p *Plan) bodyPart(op *Operation) error {
	media, form, ok := wire.Usable(op.Body.Media)
	if !ok {
		return errors.New("nothing is known to write for its body: " + wire.MediaNames(op.Body.Media))
	}
	op.Media = wire.SentAs(media.Type, form)
	op.merge = strings.HasPrefix(media.Type, "application/merge-patch+json")
	s, err := p.bodySchema(media)
	if err != nil {
		return fmt.Errorf("%s: %w", p.doc.Place(media.Schema), err)
	}
	err = s.Bearable()
	heavy := errors.Is(err, schema.ErrSteps)
	if err != nil && !heavy {
		return fmt.Errorf("%s: %w", p.doc.Place(media.Schema), err)
	}
	part := &Part{Place: wire.Place{In: "body", Schema: s, Form: form, Root: rootOf(media.Schema.URL())}, heavy: heavy}
	published := p.published(media.Examples)
	if usual, is := wire.SampleOf(exchange.MediaTypeOf(op.Media), form); is && s.Valid(usual) {
		published = append(published, sample.Published{Value: usual})
	}
	if media.Schema == (document.Location{}) && len(published) == 0 && form == wire.Plain {
		published = append(published, sample.Published{Value: "ballast"})
	}
	build := p.maker.Controls
	if heavy {
		build = p.maker.Leanest
	}
	res, err := build(s, published)
	op.Rejected, op.Trimmed = res.Rejected, res.Trimmed
	if exchange.MediaTypeOf(op.Media) == exchange.JSONPatch && len(media.Examples) == 0 && s.Valid([]any{}) {
		res.Controls, err = []sample.Control{{Shape: fullest, Value: []any{}, Origin: "synthesised"}}, nil // any other changes something
	}
	if err != nil {
		return fmt.Errorf("%s: %w", p.doc.Place(media.Schema), err)
	}
	if err := p.addControls(op, part, res.Controls); err != nil {
		return err
	}
	if len(part.Controls) == 0 {
		return errors.New("its form has fields that cannot be sent unambiguously")
	}
	if form == wire.Multipart {
		op.Media += "; boundary=" + wire.Boundary
	}
	op.Parts = append(op.Parts, part)
	return nil
}

// addControls gives a part of a body its valid instances, with the configured body merged over
// each.
func (p *Plan) addControls(op *Operation, part *Part, controls []sample.Control) error {
	patch, patched := p.opt.Bodies[op.Name()]
	for _, c := range controls {
		if patched {
			c.Value = fitted(part.Schema, instance.Merge(c.Value, patch), patch)
			if size(c.Value) > schema.MaxValues {
				return fmt.Errorf("the configured body has more than %d values in it", schema.MaxValues)
			}
			if found := part.Schema.Validate(c.Value, nil); len(found) > 0 {
				if len(part.Controls) == 0 && c.Shape == fullest {
					return fmt.Errorf("with the configured body its control breaks the schema at %s: %s", instance.Fragment(found[0].Pointer), found[0].Message())
				}
				continue // a branch that the configured body rules out
			}
		}
		if v, ok := part.trim(c.Value); ok {
			c.Value = v
			if part.Controls = append(part.Controls, c); len(part.Controls) == 1 {
				part.Fullest = v
			}
		}
	}
	return nil
}

// fitted is a body with a patch in it whose numbers and texts at the top are what the schema takes:
// an id that is a number in an answer may be a text here. Where that does not help it stays as it is.
func fitted(s schema.Schema, body, patch any) any {
	members, is := patch.(map[string]any)
	if !is || s.Valid(body) {
		return body
	}
	out := body
	for _, name := range instance.Names(members) {
		at := instance.Join("", name)
		var other any
		switch v := members[name].(type) {
		case json.Number:
			other = v.String()
		case string:
			if n := json.Number(v); json.Valid([]byte(v)) && n.String() != "" {
				if _, err := n.Float64(); err == nil {
					other = n
				}
			}
		}
		if _, there := instance.Get(out, at); !there || other == nil {
			continue
		}
		before := len(s.Validate(out, nil))
		if with, _ := instance.Set(out, at, other); len(s.Validate(with, nil)) < before {
			out = with
		}
	}
	if s.Valid(out) {
		return out
	}
	return body
}

// bodySchema is the schema of a media type; where it has none, anything will do.
func (p *Plan) bodySchema(media oad.Media) (schema.Schema, error) {
	if media.Schema == (document.Location{}) {
		return p.set.Anything()
	}
	return p.set.Compile(media.Schema.URL())
}

// TooHeavy is the reason for dropping the flaws of a body's optional fields.
var TooHeavy = schema.ErrSteps.Error()

// size is how many values there are in one.
func size(v any) (n int) {
	instance.Walk(v, func(string, any) bool {
		n++
		return n <= schema.MaxValues
	})
	return n
}

// trim takes out optional members that the form cannot send.
func (part *Part) trim(v any) (any, bool) {
	if _, ok := part.Seen(v); ok {
		return v, true
	}
	object, ok := v.(map[string]any)
	if !ok {
		return v, false
	}
	out := map[string]any{}
	for name, m := range object {
		if _, ok := part.Sendable(map[string]any{name: m}); ok {
			out[name] = m
		}
	}
	return out, part.Schema.Valid(out)
}

func (p *Plan) published(examples []oad.Example) []sample.Published {
	var out []sample.Published
	for _, e := range examples {
		out = append(out, sample.Published{Value: e.Value, Place: p.doc.Place(e.At)})
	}
	return out
}

// rootOf is the name of the element that an XML body is: of the schema, where that has one.
func rootOf(address string) string {
	_, pointer, _ := strings.Cut(address, "#")
	if name, is := strings.CutPrefix(pointer, "/components/schemas/"); is && !strings.Contains(name, "/") {
		return instance.Last(pointer)
	}
	return "body"
}
