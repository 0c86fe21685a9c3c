package plan

import (
	"bytes"
	"unicode/utf8"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/flaw"
)

// unusualText puts U+0000 and half of a surrogate pair into the first string of the body
// that no pattern, format or list restricts. JSON allows both (RFC 8259, sections 7 and 8.2).
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
		if e.at(flaw.Deep) { // where it is stored, lists that hold it may no longer be readable
			e.loneSurrogate(s, f.Pointer, text[:first], text[first:])
		}
		fl := exchange.Flaw{In: "body", Pointer: f.Pointer, Rule: "unusual-text", Variant: "nul", Reason: "the string contains U+0000, which JSON allows"}
		e.single(fl, e.op.with("body", body), body, s.control)
		return
	}
}

// loneSurrogate puts half of a surrogate pair between two parts of a text.
func (e *emitter) loneSurrogate(s sent, pointer, before, after string) {
	const mark = "\uE000" // of private use, and so in no text
	marked, _ := instance.Set(s.control, pointer, before+mark+after)
	body := bytes.Replace(e.op.body(map[string]any{"body": marked}), []byte(mark), []byte(`\ud800`), 1)
	f := exchange.Flaw{In: "body", Pointer: pointer, Rule: "unusual-text", Variant: "lone-surrogate", Reason: "the string has half of a surrogate pair, which JSON does not rule out (RFC 8259, section 8.2)"}
	e.single(f, s.again(e.op.Method, e.op.Media, body), nil, s.control)
}
