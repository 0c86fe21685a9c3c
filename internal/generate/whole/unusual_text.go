package whole

import (
	"bytes"
	"unicode/utf8"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/flaw"
)

// UnusualText puts U+0000 and half of a surrogate pair into the first string of the body
// that no pattern, format or list restricts. JSON allows both (RFC 8259, sections 7 and 8.2).
func UnusualText(r *Request) {
	if r.Control == nil || !exchange.IsJSON(r.Media) || !r.at(flaw.Usual) {
		return
	}
	for _, f := range r.Fields() {
		now, _ := instance.Get(r.Control, f.Pointer)
		text, is := now.(string)
		if !is || f.Shape.HasEnum || f.Shape.Binary || len(f.Shape.Patterns)+len(f.Shape.Formats)+len(f.Shape.Unchecked) > 0 {
			continue
		}
		_, first := utf8.DecodeRuneInString(text)
		body, ok := instance.Set(r.Control, f.Pointer, text[:first]+"\x00"+text[first:])
		if !ok || !r.body().Schema.Valid(body) {
			continue
		}
		if r.at(flaw.Deep) { // where it is stored, lists that hold it may no longer be readable
			r.loneSurrogate(f.Pointer, text[:first], text[first:])
		}
		fl := exchange.Flaw{In: "body", Pointer: f.Pointer, Rule: "unusual-text", Variant: "nul", Reason: "the string contains U+0000, which JSON allows"}
		r.Give(Case{fl, r.With(body), body, r.Control})
		return
	}
}

// loneSurrogate puts half of a surrogate pair between two parts of a text.
func (r *Request) loneSurrogate(pointer, before, after string) {
	const mark = "\uE000" // of private use, and so in no text
	marked, _ := instance.Set(r.Control, pointer, before+mark+after)
	body := bytes.Replace(r.body().Encode(marked), []byte(mark), []byte(`\ud800`), 1)
	f := exchange.Flaw{In: "body", Pointer: pointer, Rule: "unusual-text", Variant: "lone-surrogate", Reason: "the string has half of a surrogate pair, which JSON does not rule out (RFC 8259, section 8.2)"}
	r.Give(Case{f, r.Again(r.Method, r.Media, body), nil, r.Control})
}
