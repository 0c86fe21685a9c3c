package plan

import (
	"errors"
	"fmt"
	"strings"

	"obiter/internal/document"
	"obiter/internal/exchange"
	"obiter/internal/instance"
	"obiter/internal/oad"
	"obiter/internal/sample"
	"obiter/internal/schema"
	"obiter/internal/wire"
)

func (p *Plan) bodyPart(op *Operation) error {
	media, form, ok := usableMedia(op.Body.Media)
	if !ok {
		return errors.New("its body is neither JSON nor a form: " + mediaNames(op.Body.Media))
	}
	op.Media = sentAs(media.Type)
	op.merge = strings.HasPrefix(media.Type, "application/merge-patch+json")
	if media.Schema == (document.Location{}) {
		return errors.New("its body has no schema")
	}
	s, err := p.set.Compile(media.Schema.URL())
	if err != nil {
		return fmt.Errorf("%s: %w", p.doc.Place(media.Schema), err)
	}
	if err := bearable(s); err != nil {
		return fmt.Errorf("%s: %w", p.doc.Place(media.Schema), err)
	}
	part := &Part{Place: wire.Place{In: "body", Schema: s, Form: form}}
	res, err := p.maker.Controls(s, p.published(media.Examples))
	op.Rejected, op.Trimmed = res.Rejected, res.Trimmed
	if err != nil {
		return fmt.Errorf("%s: %w", p.doc.Place(media.Schema), err)
	}
	patch, patched := p.opt.Bodies[op.Name()]
	for _, c := range res.Controls {
		if patched {
			c.Value = instance.Merge(c.Value, patch)
			if size(c.Value) > maxValues {
				return fmt.Errorf("the configured body has more than %d values in it", maxValues)
			}
			if found := s.Validate(c.Value, nil); len(found) > 0 {
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
	if len(part.Controls) == 0 {
		return errors.New("its form has fields that cannot be sent unambiguously")
	}
	if form == "multipart" {
		op.Media += "; boundary=" + wire.Boundary
	}
	op.Parts = append(op.Parts, part)
	return nil
}

// What a schema may ask for: hundreds of times what those of real descriptions do.
const (
	maxValues = 5_000
	maxSteps  = 10_000
)

// size is how many values there are in one.
func size(v any) (n int) {
	instance.Walk(v, func(string, any) bool {
		n++
		return n <= maxValues
	})
	return n
}

// bearable refuses a schema whose instances are too large to be made and checked by the
// hundred.
func bearable(s schema.Schema) error {
	w := s.Weight()
	switch {
	case w.Values > maxValues:
		return fmt.Errorf("each valid value has more than %d values in it", maxValues)
	case w.Steps > maxSteps:
		return fmt.Errorf("its schemas refer to one another so often that checking one value takes more than %d steps", maxSteps)
	}
	return nil
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

// usableMedia finds the first media type that can be written: JSON before forms.
// "*/*" takes JSON too.
func usableMedia(list []oad.Media) (m oad.Media, form string, ok bool) {
	for _, m := range list {
		if IsJSON(m.Type) {
			return m, "", true
		}
	}
	for _, m := range list {
		switch exchange.MediaTypeOf(m.Type) {
		case "*/*", "application/*":
			return m, "", true
		case "application/x-www-form-urlencoded":
			return m, "urlencoded", true
		case "multipart/form-data":
			return m, "multipart", true
		}
	}
	return oad.Media{}, "", false
}

// IsJSON reports whether a media type is JSON: application/json, or a type with
// the suffix +json (RFC 6839, section 3.1). JSON Patch (RFC 6902) is left out:
// its bodies are programs, not fields.
func IsJSON(mediaType string) bool {
	t := exchange.MediaTypeOf(mediaType)
	return t == "application/json" || t == "text/json" || strings.HasSuffix(t, "+json") && t != "application/json-patch+json"
}

func sentAs(mediaType string) string {
	if strings.Contains(mediaType, "*") {
		return "application/json"
	}
	return mediaType
}

func mediaNames(list []oad.Media) string {
	var out []string
	for _, m := range list {
		out = append(out, m.Type)
	}
	if len(out) == 0 {
		return "no media type is described"
	}
	return strings.Join(out, ", ")
}
