// Package custom knows the kinds of rules that no schema says, but for expressions: that a value
// refers to something, is taken, may not be blank. Each kind has a file of its own, and says of a
// valid request what breaks the rule.
package custom

import (
	"maps"
	"slices"
	"strings"
	"unicode"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/business"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/sample"
	"obiter/internal/generate/wire"
	"obiter/internal/input/config"
)

// Kind is a sort of rule. What a kind does not need is nil.
type Kind struct {
	Rule   string // in the catalogue
	Member string // of the rule in the configuration
	// Field is the pointer of the field that a rule of this kind is about; "" for another kind.
	Field func(config.Rule) string
	// Check finds a rule that can never be broken by a body.
	Check func(r config.Rule, body any) *business.RuleError
	// Admit says why a planted flaw of a body is not one under the rule; "" where it is one.
	Admit func(r config.Rule, body *wire.Place, p flaw.Planted) string
	// Edge reports whether a valid body keeps the rule.
	Edge func(r config.Rule, p flaw.Planted) bool
	// Refresh gives the body that a case sends what the rule demands of it; false if that is
	// impossible.
	Refresh func(n Renewal, r config.Rule, c *exchange.Case, body any) (any, bool)
	// Cases are the requests that break the rule, and those that just keep it.
	Cases func(r config.Rule, valid Request) []Case
}

// Request is a valid request, in which rules are broken.
type Request struct {
	Method string
	Body   *wire.Place    // nil: it has none
	Values map[string]any // by place
	Stored any            // the body of the first request that created a record; nil: none did
}

// Renewal makes values that differ from run to run, and from case to case.
type Renewal struct {
	Maker *sample.Maker
	Salt  uint64
	Body  *wire.Place
}

// Case is a request that breaks a rule at the fields that it blames, or an edge that keeps it.
type Case struct {
	Flaw   exchange.Flaw // of an edge: its boundary
	Blames []string
	Edge   bool
	Values map[string]any // by place; nil: it could not be made
	Why    string         // it could not
}

// Kinds are all of them, but for the last one, a flaw by hand, about a field.
var Kinds = []Kind{exists, unique, notBlank, trimmed, is, byHand}

// Of is the kind of a rule that is not an expression.
func Of(r config.Rule) Kind {
	i := slices.IndexFunc(Kinds, func(k Kind) bool { return k.Field(r) != "" })
	if i < 0 {
		return Kinds[len(Kinds)-1]
	}
	return Kinds[i]
}

// with is the case of the request with another body, which breaks a rule; nil where none could be
// made.
func (q Request) with(body any, f exchange.Flaw, blames ...string) Case {
	f.In = "body"
	if body == nil || instance.Equal(body, q.Values["body"]) {
		return Case{Flaw: f, Why: "no such value could be made, or the payload stays as it is"}
	}
	values := maps.Clone(q.Values)
	values["body"] = body
	return Case{Flaw: f, Blames: blames, Values: values}
}

// Slug is a stable name made of words.
func Slug(words string) string {
	return strings.Join(strings.FieldsFunc(strings.ToLower(words), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }), "-")
}
