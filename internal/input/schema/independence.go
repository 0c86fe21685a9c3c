package schema

import (
	"slices"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

// looksAtSeveral reports whether a schema has keywords that look at more than one member or
// element at a time.
func looksAtSeveral(js *jsonschema.Schema) bool {
	return len(js.DependentSchemas)+len(js.Dependencies) > 0 ||
		js.Not != nil || js.If != nil || js.Enum != nil || js.Const != nil || js.Contains != nil || js.UniqueItems ||
		js.UnevaluatedProperties != nil || js.UnevaluatedItems != nil || js.DynamicRef != nil || js.RecursiveRef != nil || len(js.Extensions) > 0
}

// MembersIndependent reports whether the sources look at the members and elements of
// v one at a time: whether a change inside one of them is right then depends on
// nothing around it, and nothing around it on that. Alternatives are not in
// the way where v obeys one branch and every other is ruled out by what stays as
// it is; those ruled out by one member alone are its affair: a change inside a
// member in decisive may bring another branch in.
func (sh *Shape) MembersIndependent(v any) (decisive map[string]bool, ok bool) {
	for _, s := range sh.Sources {
		if looksAtSeveral(s.js) {
			return nil, false
		}
	}
	for _, a := range sh.Choices() {
		object, isObject := v.(map[string]any)
		if !isObject {
			return nil, false
		}
		taken := 0
		for _, b := range a.Branches {
			if slices.Contains(sh.Sources, b) {
				taken++
				continue
			}
			switch by := excluding(b.js, object, 0); {
			case len(by) == 0:
				return nil, false
			case len(by) == 1 && by[0] != always:
				if decisive == nil {
					decisive = map[string]bool{}
				}
				decisive[by[0]] = true
			}
		}
		if taken != 1 {
			return nil, false
		}
	}
	return decisive, true
}

// always is for what changes inside no member can repair.
const always = "\x00"

// excluding names members of an object that a schema refuses each for itself:
// two at most, or always where it refuses the object whatever its members hold.
func excluding(js *jsonschema.Schema, object map[string]any, depth int) []string {
	if js == nil || depth > 8 {
		return nil
	}
	if js.Types != nil && !js.Types.IsEmpty() && !slices.Contains(js.Types.ToStrings(), "object") {
		return []string{always}
	}
	for _, name := range js.Required {
		if _, has := object[name]; !has {
			return []string{always}
		}
	}
	var out []string
	for name, member := range js.Properties {
		if v, has := object[name]; has && member.Validate(v) != nil {
			if out = append(out, name); len(out) == 2 {
				return out
			}
		}
	}
	for _, inner := range append([]*jsonschema.Schema{js.Ref}, js.AllOf...) {
		for _, name := range excluding(inner, object, depth+1) {
			if name == always {
				return []string{always}
			}
			if !slices.Contains(out, name) {
				if out = append(out, name); len(out) == 2 {
					return out
				}
			}
		}
	}
	return out
}
