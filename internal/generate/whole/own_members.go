package whole

import (
	"encoding/json"
	"maps"
	"slices"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/flaw"
	"obiter/internal/input/schema"
)

// maxOwn bounds the members of an operation that the service sets and that are sent.
const maxOwn = 8

// OwnMembers sends members that only the service sets: those that are readOnly (JSON
// Schema 2020-12, Validation, section 9.4), and in deep runs such as look like it, where
// the description does not know them. They may be ignored or refused, and must not be stored: their
// values are such as no service comes upon by itself.
func OwnMembers(r *Request) {
	if r.Control == nil || !exchange.IsJSON(r.Media) || !r.at(flaw.Usual) {
		return
	}
	given := 0
	give := func(pointer, variant, reason string, v any) {
		body, ok := instance.Set(r.Control, pointer, v)
		if !ok || given == maxOwn || !r.body().Schema.Valid(body) {
			return
		}
		given++
		f := exchange.Flaw{In: "body", Pointer: pointer, Rule: "read-only", Variant: variant, Reason: reason}
		r.Give(Case{f, r.With(body), body, r.Control})
	}
	for _, f := range r.Fields() {
		object, is := mapAt(r.Control, f.Pointer)
		if !is {
			continue
		}
		for _, name := range f.Shape.Properties {
			members, known := f.Shape.Member(name)
			if _, has := object[name]; has || !known {
				continue
			}
			sh := schema.Merge(schema.Expand(members, schema.NoBranch))
			if v, ok := strange(sh); ok && sh.ReadOnly {
				give(instance.Join(f.Pointer, name), "sent", "a member that only the service sets (readOnly) is sent", v)
			}
		}
	}
	if !r.at(flaw.Deep) {
		return
	}
	for _, name := range undescribedMembers(r.Fields()[0].Shape, r.Control) {
		give(instance.Join("", name), "undescribed", "a member that is not described and looks as if only the service set it", authority[name])
	}
}

// undescribedMembers are members that look as if only the service set them, and that an object of a shape
// neither has nor forbids.
func undescribedMembers(sh *schema.Shape, control any) []string {
	object, is := control.(map[string]any)
	if !is || sh.Open || sh.Closed || sh.Unevaluated {
		return nil
	}
	return slices.DeleteFunc(slices.Sorted(maps.Keys(authority)), func(name string) bool {
		_, has := object[name]
		return has || slices.Contains(sh.Properties, name)
	})
}

// authority are members that services set, with values that none comes upon by itself.
var authority = map[string]any{"id": "ballast-7c1e", "created_at": "2001-02-03T04:05:06Z", "role": "ballast-administrator", "is_admin": "ballast-7c1e"}

// strange is a value that a service would not have by itself; false where the schema
// leaves too few values for one.
func strange(sh *schema.Shape) (any, bool) {
	if sh.HasEnum {
		return nil, false
	}
	for _, v := range []any{"2001-02-03T04:05:06Z", "2001-02-03", "ba11a57e-7c1e-4d0c-9bad-0123456789ab", "ballast@example.com", "https://harbour.example/ballast-7c1e", "ballast-7c1e", json.Number("987654"), json.Number("98765.25")} {
		if text, is := v.(string); is && len(sh.Formats) == 0 && text != "ballast-7c1e" {
			continue
		}
		if sh.Valid(v) && (sh.Typed || len(sh.Formats) > 0) {
			return v, true
		}
	}
	return nil, false
}

func mapAt(v any, pointer string) (map[string]any, bool) {
	at, _ := instance.Get(v, pointer)
	object, is := at.(map[string]any)
	return object, is
}
