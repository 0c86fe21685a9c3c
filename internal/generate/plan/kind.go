package plan

import (
	"slices"
	"strings"
	"unicode"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/business"
	"obiter/internal/generate/flaw"
	"obiter/internal/input/config"
)

// kind is a sort of rule that no schema says; each has a file of its own. What a
// kind does not need is nil. Expressions (holds) are looked at together, and so
// have no kind.
type kind struct {
	rule   string // in the catalogue
	member string // of the rule in the configuration
	// field is the field that a rule of this kind is about; "" for another kind.
	field func(config.Rule) string
	// check finds a rule that can never be broken by a body.
	check func(r config.Rule, body any) *business.RuleError
	// admit says why a planted flaw is not one under the rule; "" where it is one.
	admit func(r config.Rule, part *Part, p flaw.Planted) string
	// edge reports whether a valid body keeps the rule.
	edge func(r config.Rule, p flaw.Planted) bool
	// refresh gives the body that a case sends what the rule demands of it; false
	// if that is impossible.
	refresh func(e *emitter, r config.Rule, c *exchange.Case, part *Part, body any) (any, bool)
	// cases gives out the requests that break the rule, and those that just keep it.
	cases func(e *emitter, r config.Rule, part *Part, control any)
}

// kinds are all of them, but for the last one, a flaw by hand, about a field.
var kinds []kind

func init() { kinds = []kind{existsKind, uniqueKind, notBlankKind, trimmedKind, isKind, byHandKind} }

// kindOf is the kind of a rule that is not an expression.
func kindOf(r config.Rule) kind {
	i := slices.IndexFunc(kinds, func(k kind) bool { return k.field(r) != "" })
	if i < 0 {
		return kinds[len(kinds)-1]
	}
	return kinds[i]
}

// rules gives out the cases of rules that no schema says.
func (e *emitter) rules() {
	if e.op.bound == nil {
		return
	}
	e.holds()
	part := e.op.part("body")
	for _, r := range e.op.bound.rest {
		if k := kindOf(r); part != nil {
			k.cases(e, r, part, part.Controls[0].Value)
		} else if r.Flaw != "" {
			k.cases(e, r, nil, nil)
		}
	}
}

// part is what a request holds in a place; nil where it holds nothing there.
func (op *Operation) part(in string) *Part {
	for _, part := range op.Parts {
		if part.In == in {
			return part
		}
	}
	return nil
}

// broken gives out a body that breaks a rule; nil where none could be made.
func (e *emitter) broken(r config.Rule, control, body any, rule, variant, reason string, blames []string) {
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
