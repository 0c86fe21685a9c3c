package custom

import (
	"slices"
	"strconv"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/sample"
	"obiter/internal/input/config"
	"obiter/internal/input/schema"
)

// unique: a field whose value no two records share. Every request has a new value there, but for
// the one that breaks the rule.
var unique = Kind{
	Rule: "unique", Member: "unique",
	Field: func(r config.Rule) string { return r.Unique },
	Cases: func(r config.Rule, valid Request) []Case {
		if valid.Method != "POST" || r.Fresh {
			return nil // it would be the value of the record itself
		}
		f := exchange.Flaw{Rule: "unique", Variant: "taken", Reason: "the value is that of the record that the first control made"}
		return []Case{valid.with(taken(valid.Values["body"], valid.Stored, r.Unique), f, r.Unique)}
	},
	// Where the field is itself flawed it stays; where it is an edge it keeps its length.
	Refresh: func(n Renewal, r config.Rule, c *exchange.Case, body any) (any, bool) {
		now, there := instance.Get(body, r.Unique)
		if !there || len(c.Flaws) > 0 && touches(c, r.Unique) {
			return body, true
		}
		ordinal, _ := strconv.ParseUint(c.ID, 16, 64)
		if r.Around != "" {
			body, _ = instance.Set(body, r.Unique, config.Renewed(r.Around, sample.Part(n.Salt, ordinal)))
			return body, true
		}
		same := touches(c, r.Unique)
		list, _, _ := schema.At([]schema.Schema{n.Body.Schema}, body, r.Unique)
		fresh, ok := n.Maker.Fresh(list, now, same, n.Salt, ordinal)
		if !ok && same {
			return body, false
		}
		body, _ = instance.Set(body, r.Unique, fresh)
		return body, true
	},
}

// taken is the control with the value that another record has already; nil
// if there is none.
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

// touches reports whether a case is about a field, or something in or around it.
func touches(c *exchange.Case, at string) bool {
	near := func(f exchange.Flaw) bool {
		return f.In == "body" && (instance.Within(f.Pointer, at) || f.Pointer != "" && instance.Within(at, f.Pointer))
	}
	return c.Edge != nil && near(*c.Edge) || slices.ContainsFunc(c.Flaws, near)
}
