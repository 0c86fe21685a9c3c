package plan

import (
	"encoding/json"
	"strings"
	"unicode"

	"obiter/internal/config"
	"obiter/internal/exchange"
	"obiter/internal/instance"
	"obiter/internal/schema"
)

// rules gives out the cases of rules that no schema says.
func (e *emitter) rules() {
	if e.op.bound == nil {
		return
	}
	e.holds()
	i := len(e.op.Parts) - 1
	if i < 0 || e.op.Parts[i].In != "body" {
		return
	}
	part := e.op.Parts[i]
	control := part.Controls[0].Value
	for _, r := range e.op.bound.rest {
		switch {
		case r.Flaw != "":
			e.rule(r, control, instance.Merge(control, r.Patch), "rule", slug(r.Flaw), r.Flaw, r.Blames)
		case r.NotBlank != "":
			e.rule(r, control, blank(control, r.NotBlank), "not-blank", "blanks", "the text is blanks alone", []string{r.NotBlank})
		case r.Exists != "":
			e.rule(r, control, elsewhere(part, control, r.Exists), "exists", "well-formed", "the value is of the right form and names nothing that is there", []string{r.Exists})
		case r.Unique != "" && e.op.Method != "POST": // it would be the value of the record itself
		case r.Unique != "":
			e.rule(r, control, taken(control, e.stored, r.Unique), "unique", "taken", "the value is the one of the record that the first control made", []string{r.Unique})
		case r.Trimmed != "":
			e.trimmed(part, control, r)
		}
	}
}

// taken is the control with the value that another record has already; nil
// where there is none.
func taken(control, stored any, at string) any {
	v, ok := instance.Get(stored, at)
	if !ok {
		return nil
	}
	body, ok := instance.Set(control, at, v)
	if !ok {
		return nil
	}
	return body
}

func (e *emitter) rule(r config.Rule, control, body any, rule, variant, reason string, blames []string) {
	f := exchange.Flaw{In: "body", Rule: rule, Variant: variant, Reason: reason}
	if body == nil || instance.Equal(body, control) {
		e.drop(f, "no such value could be made, or the payload stays as it is")
		return
	}
	values := e.op.values(fullest)
	values["body"] = body
	e.businessCase(r, f, blames, values)
}

// slug makes a stable name of words.
func slug(words string) string {
	return strings.Join(strings.FieldsFunc(strings.ToLower(words), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }), "-")
}

// blank is the control with a text of blanks as long as what stands there; nil
// where no text does.
func blank(control any, at string) any {
	now, _ := instance.Get(control, at)
	text, ok := now.(string)
	if !ok {
		return nil
	}
	body, _ := instance.Set(control, at, strings.Repeat(" ", max(len([]rune(text)), 1)))
	return body
}

// elsewhere is the control with another value of the same form; nil where none
// is known.
func elsewhere(part *Part, control any, at string) any {
	now, there := instance.Get(control, at)
	if !there {
		return nil
	}
	candidates := []any{"0b17e8d3-6c1f-4e57-9f0a-5d1f2a7c4e99", json.Number("2000000011")}
	if s, ok := now.(string); ok {
		candidates = append(candidates, turned(s))
	}
	for _, v := range candidates {
		body, ok := instance.Set(control, at, v)
		if seen, sendable := part.seen(body); ok && sendable && schema.Obeys([]schema.Schema{part.Schema}, seen) && !instance.Equal(v, now) {
			return body
		}
	}
	return nil
}

// turned replaces each digit by another one.
func turned(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return '0' + (r-'0'+7)%10
		}
		return r
	}, s)
}
