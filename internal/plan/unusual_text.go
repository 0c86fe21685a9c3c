package plan

import (
	"unicode/utf8"

	"obiter/internal/exchange"
	"obiter/internal/flaw"
	"obiter/internal/instance"
)

// unusualText puts U+0000 into the first string of the body that no pattern,
// format or list restricts. JSON allows the character (RFC 8259, section 7).
func (e *emitter) unusualText(s sent) {
	if s.control == nil || !IsJSON(e.op.Media) || !e.at(flaw.Usual) {
		return
	}
	part := e.op.Parts[len(e.op.Parts)-1]
	for _, f := range part.Fields() {
		now, _ := instance.Get(s.control, f.Pointer)
		text, is := now.(string)
		if !is || f.Shape.HasEnum || f.Shape.Binary || len(f.Shape.Patterns)+len(f.Shape.Formats)+len(f.Shape.Unchecked) > 0 {
			continue
		}
		_, first := utf8.DecodeRuneInString(text)
		body, ok := instance.Set(s.control, f.Pointer, text[:first]+"\x00"+text[first:])
		if !ok || !part.Schema.Valid(body) {
			continue
		}
		fl := exchange.Flaw{In: "body", Pointer: f.Pointer, Rule: "unusual-text", Variant: "nul", Reason: "the string contains U+0000, which JSON allows"}
		e.single(fl, e.op.with("body", body), body, s.control)
		return
	}
}
