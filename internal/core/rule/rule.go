// Package rule is the catalogue of what a request can break: the assertions of
// JSON Schema 2020-12, and rules of our own about requests as a whole and about
// what no schema says. One entry a rule tells everything that planting,
// planning, judging, reporting and the manual want to know of it.
package rule

import (
	"slices"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
)

// Target is what a rule is about.
type Target int

// The targets. A Payload is a request's body or parameters taken together, as
// business rules see them.
const (
	Value Target = iota // of any type
	String
	Number
	Array
	Object
	Payload
	Request
)

// Stage is when services usually notice a flaw: a decoder that reads into typed
// fields stops at what it cannot read, missing members come next, limits last.
// One answer need not report flaws of several stages.
type Stage int

// The stages, in their order.
const (
	Decoding Stage = iota
	Presence
	Limits
)

// Blame is how well a name in an answer tells of a flaw.
type Blame int

// The grades of blame.
const (
	Missed Blame = iota
	Vague
	Right
)

// Success is what a 2xx to a flawed request means.
type Success int

// Fault: the rule is not enforced. Doubtful: a standard leaves it open, or the
// description may have left something out, so that it is worth a warning.
const (
	Fault Success = iota
	Doubtful
)

// Layer is the part of a service that answers.
type Layer int

// The layers. What Decoder and Server answer is the same for all operations, and
// what Server answers no operation need document.
const (
	Operation Layer = iota // the operation itself, its validation included
	Decoder                // what reads bodies
	Server                 // the router, media types, limits: before any operation
)

// Rule is one entry of the catalogue.
type Rule struct {
	Name string // a JSON Schema keyword, or a name of our own
	// Family has the rules that services enforce, or forget, in one place: the words that name them
	// for people. Empty where Unbroken is set.
	Family string
	// Says tells how requests break the rule, for people. Empty where Unbroken is set.
	Says   string
	Target Target
	Class  exchange.Class // of the answer expected where the flaw is in a body or the request
	Stage  Stage
	// Parent and Above tell what it is worth when an answer names the object that
	// holds the flawed field, or anything further up, in place of the field.
	Parent, Above Blame
	Success       Success
	Layer         Layer
	// Business rules are those that no schema says.
	Business bool
	// Except holds what is different for variants, by their names.
	Except map[string]Exception
	// Unbroken says why a keyword has no flaws of its own; empty where it has.
	Unbroken string
}

// Exception is what is different for one variant of a rule.
type Exception struct {
	Class   exchange.Class // empty: the rule's own
	Success Success
}

var byName = func() map[string]*Rule {
	out := make(map[string]*Rule, len(All))
	for i := range All {
		out[All[i].Name] = &All[i]
	}
	return out
}()

// Find is the entry of a rule; false if there is none.
func Find(name string) (Rule, bool) {
	if r, ok := byName[name]; ok {
		return *r, true
	}
	return Rule{Name: name, Class: exchange.Constraint, Stage: Limits, Parent: Vague, Above: Vague}, false
}

// Of is the entry of a flaw's rule, with what is different for its variant.
func Of(f exchange.Flaw) Rule {
	r, _ := Find(f.Rule)
	if e, is := r.Except[f.Variant]; is {
		r.Success = e.Success
		if e.Class != "" {
			r.Class = e.Class
		}
	}
	return r
}

// StageOf is the stage at which a flaw is usually noticed. A number that no usual
// type holds stops a decoder, whichever limit it breaks.
func StageOf(f exchange.Flaw) Stage {
	if strings.HasSuffix(f.Variant, "-int64") || strings.HasSuffix(f.Variant, "-int32") {
		return Decoding
	}
	return Of(f).Stage
}

// ClassOf is the class of answer expected where these flaws are planted
// together: parameters are answered as such, whatever is wrong with them.
func ClassOf(flaws []exchange.Flaw) exchange.Class {
	switch first := Of(flaws[0]); {
	case first.Target == Request || first.Business || first.Class == exchange.NotFound || first.Class == exchange.Either:
		return first.Class
	case flaws[0].In == "header" && isIgnorable(instance.Last(flaws[0].Pointer)):
		return exchange.Ignorable
	case flaws[0].In == "path":
		return exchange.PathParameter
	case slices.Contains([]string{"query", "header", "cookie"}, flaws[0].In):
		return exchange.Parameter
	case len(flaws) > 1:
		return exchange.Constraint
	default:
		return first.Class
	}
}

// ignorable are header fields of which a service ignores what it cannot use:
// conditions (RFC 9110, section 13.1), ranges (section 14.2), what is preferred
// (section 12.5; RFC 7240, section 2).
var ignorable = []string{"if-match", "if-none-match", "if-modified-since", "if-unmodified-since", "if-range", "range", "prefer"}

func isIgnorable(header string) bool {
	name := strings.ToLower(header)
	return slices.Contains(ignorable, name) || strings.HasPrefix(name, "accept-")
}
