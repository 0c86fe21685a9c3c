package schema

import (
	"slices"
	"strconv"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"obiter/internal/core/instance"
)

// Choice picks branches of an alternative: indexes into it.
type Choice func(s Schema, keyword string, n int) []int

// NoBranch is the Choice that leaves alternatives aside.
func NoBranch(Schema, string, int) []int { return nil }

// Apply lists the schemas that hold for instance v where those in list do:
// through $ref, allOf, the branches of oneOf and anyOf that v obeys, the side
// of if/then/else that v falls on, and dependentSchemas of its members.
func Apply(list []Schema, v any) []Schema {
	var e expansion
	for _, s := range list {
		e.add(s, v, true, nil)
	}
	return e.out
}

// At lists the schemas that hold for what is at a JSON Pointer of v, not
// expanded, and what is there. For a member that is missing
// there is false; below it, and where no schema says anything, the list is empty.
func At(list []Schema, v any, pointer string) (at []Schema, value any, there bool) {
	tokens, err := instance.Split(pointer)
	if err != nil {
		return nil, nil, false
	}
	there = true
	for _, token := range tokens {
		sh := Merge(Apply(list, v))
		switch c := v.(type) {
		case map[string]any:
			list, _ = sh.Member(token)
			v, there = c[token]
		case []any:
			i, err := strconv.Atoi(token)
			if err != nil || i < 0 {
				return nil, nil, false
			}
			list = sh.Item(i)
			v, there = instance.Get(v, instance.Join("", token))
		default:
			return nil, nil, false
		}
	}
	return list, v, there
}

// Expand is Apply without an instance: branches are those that choose picks,
// and conditions are left aside.
func Expand(list []Schema, choose Choice) []Schema {
	var e expansion
	for _, s := range list {
		e.add(s, nil, false, choose)
	}
	return e.out
}

type expansion struct {
	out []Schema
}

func (e *expansion) add(s Schema, v any, guided bool, choose Choice) {
	if s.js == nil || slices.Contains(e.out, s) {
		return
	}
	e.out = append(e.out, s)
	js := s.js
	next := func(inner *jsonschema.Schema) {
		if inner != nil {
			e.add(Schema{inner, s.set}, v, guided, choose)
		}
	}
	next(js.Ref)
	if js.DynamicRef != nil {
		next(js.DynamicRef.Ref)
	}
	for _, m := range js.AllOf {
		next(m)
	}
	pick := func(keyword string, list []*jsonschema.Schema) {
		if len(list) == 0 {
			return
		}
		if guided {
			for _, b := range list {
				if (Schema{b, s.set}).Valid(v) {
					next(b)
				}
			}
			return
		}
		for _, i := range choose(s, keyword, len(list)) {
			next(list[i])
		}
	}
	pick("oneOf", js.OneOf)
	pick("anyOf", js.AnyOf)
	if !guided {
		return
	}
	if js.If != nil {
		if (Schema{js.If, s.set}).Valid(v) {
			next(js.Then)
		} else {
			next(js.Else)
		}
	}
	if m, ok := v.(map[string]any); ok {
		for _, name := range instance.Names(m) {
			next(js.DependentSchemas[name])
		}
	}
}
