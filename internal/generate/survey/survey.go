// Package survey tells what there is to break in a description before anything
// is sent: operations with their fields and rules, the number of cases they
// give, and the gaps, where the description says less than it could.
package survey

import (
	"fmt"
	"regexp/syntax"
	"slices"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/plan"
	"obiter/internal/generate/sample"
	"obiter/internal/input/oad"
	"obiter/internal/input/schema"
)

// Survey is what a description has. Its JSON form is what survey --format json prints.
type Survey struct {
	Title      string      `json:"title"`
	Version    string      `json:"version"`
	OpenAPI    string      `json:"openapi"`
	Operations []Operation `json:"operations"`
	Gaps       []Gap       `json:"gaps"`
}

// Operation is one operation; with a Skip there is nothing else of it.
type Operation struct {
	Operation string  `json:"operation"`
	Skip      string  `json:"skip,omitempty"`
	Fields    []Field `json:"fields,omitempty"`
	Controls  int     `json:"controls"`
	Flawed    int     `json:"flawed"`
	Edges     int     `json:"edges"`
}

// Rules counts the rules of all fields.
func (o Operation) Rules() int {
	n := 0
	for _, f := range o.Fields {
		n += len(f.Rules)
	}
	return n
}

// Field is a field of a request with its rules.
type Field struct {
	In      string        `json:"in"`
	Pointer string        `json:"pointer"`
	Rules   []schema.Rule `json:"rules"`
}

// Name is the field as people read it: "query /limit", "/name", "(body)".
func (f Field) Name() string {
	switch {
	case f.Pointer == "":
		return "(" + f.In + ")"
	case f.In != "body":
		return f.In + " " + f.Pointer
	}
	return f.Pointer
}

// Gap is a place where the description says less than it could.
type Gap struct {
	Kind      string `json:"gap"`
	Operation string `json:"operation"`
	Field     string `json:"field,omitempty"`
	Says      string `json:"says,omitempty"`
}

// The kinds of gaps, in the order in which they are listed.
const (
	TooMany        = "more fields than one request is made with, so the last are not tried"
	TooHeavy       = "schemas refer to one another so often that only required fields of the body are tried"
	BrokenExample  = "an example breaks its own schema"
	NoExample      = "no example"
	NoMaxLength    = "string without a maximum length"
	NoMaxItems     = "array without a maximum count"
	NoAnchors      = "pattern without anchors"
	NotChecked     = "a pattern or format that cannot be checked"
	NotBroken      = "a rule that no request breaks"
	NotTried       = "a parameter that is not tried"
	Beyond         = "a rule of a field that is beyond the budget; a larger --budget, or --depth deep, tries it"
	OpenObject     = "object open to unknown members"
	NotRenewed     = "a field whose value has to be new each time, as its path parameter shows, is in no request"
	StaysEmpty     = "it stays empty in every request, so that nothing in it is tried"
	ClosedApart    = "allOf of which one member forbids what another describes; read as closed together (unevaluatedProperties)"
	No4XX          = "no 4xx is documented"
	NotProblem     = "a documented 4xx is not application/problem+json"
	RuledElsewhere = "ruled differently on create and update"
)

// Kinds are all kinds of gaps in order.
var Kinds = []string{TooMany, TooHeavy, BrokenExample, NoExample, NoMaxLength, NoMaxItems, NoAnchors, NotChecked, NotBroken, NotTried, Beyond, NotRenewed, StaysEmpty, ClosedApart, OpenObject, No4XX, NotProblem, RuledElsewhere}

// Of surveys a plan, several operations at a time.
func Of(doc *oad.Document, p *plan.Plan, workers int) Survey {
	s := Survey{Title: doc.Title, Version: doc.Version, OpenAPI: doc.OpenAPI, Operations: []Operation{}, Gaps: []Gap{}}
	for one := range plan.Map(p, workers, of) {
		s.Operations = append(s.Operations, one.Operations...)
		s.Gaps = append(s.Gaps, one.Gaps...)
	}
	for _, at := range doc.Together {
		s.Gaps = append(s.Gaps, Gap{Kind: ClosedApart, Says: doc.Place(at)})
	}
	s.compare()
	slices.SortStableFunc(s.Gaps, func(a, b Gap) int { return slices.Index(Kinds, a.Kind) - slices.Index(Kinds, b.Kind) })
	return s
}

// of surveys one operation.
func of(op *plan.Operation) (s Survey) {
	o := Operation{Operation: op.Name(), Skip: op.SkipReason}
	if op.SkipReason != "" {
		s.Operations = append(s.Operations, o)
		return s
	}
	for _, part := range op.Parts {
		for _, f := range part.Fields() {
			if f.Pointer == "" && part.In != "body" {
				continue
			}
			field := Field{part.In, f.Pointer, f.Shape.Rules()}
			o.Fields = append(o.Fields, field)
			s.fieldGaps(op, part, field, f)
			if now, _ := instance.Get(part.Controls[0].Value, f.Pointer); staysEmpty(f.Shape, now) && !filled(part, f.Pointer) {
				s.gap(StaysEmpty, op, field.Name(), "")
			}
		}
		if part.In == "body" && part.Controls[0].Origin != "example" && !exemplified(part) {
			s.gap(NoExample, op, "", "")
		}
	}
	for c := range op.Cases() {
		switch c.Kind {
		case exchange.Control:
			o.Controls++
		case exchange.Flawed:
			o.Flawed++
		case exchange.Edge:
			o.Edges++
		}
	}
	s.restGaps(op)
	s.Operations = append(s.Operations, o)
	return s
}

// restGaps are those that are of no field that is tried.
func (s *Survey) restGaps(op *plan.Operation) {
	for _, d := range op.Dropped {
		if d.Why == plan.TooHeavy {
			s.gap(TooHeavy, op, "(body)", "")
		}
		if d.Why == plan.BeyondBudget {
			s.gap(Beyond, op, Field{In: d.Flaw.In, Pointer: d.Flaw.Pointer}.Name(), d.Flaw.Rule)
		}
		if d.Why == flaw.NotBroken {
			s.gap(NotBroken, op, Field{In: d.Flaw.In, Pointer: d.Flaw.Pointer}.Name(), d.Flaw.Rule)
		}
	}
	if !op.IsWholeAPI() {
		s.answerGaps(op)
	}
	for _, param := range op.Parameters {
		if param.In == "querystring" {
			s.gap(NotTried, op, Field{In: "query", Pointer: "/" + param.Name}.Name(), "in: querystring")
		}
	}
	for _, at := range op.Unfit {
		s.gap(NotRenewed, op, Field{In: "body", Pointer: at}.Name(), "")
	}
	for _, u := range op.Untried {
		s.gap(NotTried, op, Field{In: u.In, Pointer: instance.Join("", u.Name)}.Name(), u.Why)
	}
	if op.Trimmed {
		s.gap(TooMany, op, "", "")
	}
	for _, r := range op.Rejected {
		s.gap(BrokenExample, op, "", r)
	}
}

// staysEmpty reports whether a value has nothing in it where the schema describes what
// may be there.
func staysEmpty(sh *schema.Shape, now any) bool {
	switch v := now.(type) {
	case []any:
		return len(v) == 0 && len(sh.Item(0)) > 0 && (sh.MaxItems == nil || *sh.MaxItems > 0)
	case nil:
		return sh.Typed && sh.Types&^schema.Null != 0 && !sh.HasEnum
	}
	return false
}

// filled reports whether another control has something at a field.
func filled(part *plan.Part, pointer string) bool {
	return slices.ContainsFunc(part.Controls, func(c sample.Control) bool {
		switch v, _ := instance.Get(c.Value, pointer); v := v.(type) {
		case nil:
			return false
		case []any:
			return len(v) > 0
		}
		return true
	})
}

// exemplified reports whether any field has an example of its own.
func exemplified(part *plan.Part) bool {
	return slices.ContainsFunc(part.Fields(), func(f flaw.Field) bool { return len(f.Shape.Examples) > 0 })
}

func (s *Survey) gap(kind string, op *plan.Operation, field, says string) {
	s.Gaps = append(s.Gaps, Gap{kind, op.Name(), field, says})
}

func (s *Survey) fieldGaps(op *plan.Operation, part *plan.Part, field Field, f flaw.Field) {
	sh, name := f.Shape, field.Name()
	if sh.HasEnum {
		return
	}
	kind := sh.Kind()
	endless := sh.MaxLength == nil && len(sh.Formats) == 0 && !sh.Binary && !bounded(sh.Patterns)
	if kind == schema.String && endless {
		s.gap(NoMaxLength, op, name, "")
	}
	if kind == schema.Array && sh.MaxItems == nil {
		s.gap(NoMaxItems, op, name, "")
	}
	for _, p := range sh.Patterns {
		if !strings.HasPrefix(p, "^") || !strings.HasSuffix(p, "$") {
			s.gap(NoAnchors, op, name, p)
		}
	}
	for _, u := range sh.Unchecked {
		if !slices.Contains([]string{"format password", "format binary"}, u) { // they constrain nothing
			s.gap(NotChecked, op, name, u)
		}
	}
	limited := sh.Closed || sh.Open || sh.Unevaluated || len(sh.MemberPatterns) > 0
	if kind == schema.Object && part.In == "body" && !limited {
		s.gap(OpenObject, op, name, "")
	}
}

// bounded reports whether one of the patterns, anchored, matches only up to some length.
func bounded(patterns []string) bool {
	return slices.ContainsFunc(patterns, func(p string) bool {
		re, err := syntax.Parse(p, syntax.Perl)
		return err == nil && strings.HasPrefix(p, "^") && strings.HasSuffix(p, "$") && finite(re)
	})
}

func finite(re *syntax.Regexp) bool {
	if re.Op == syntax.OpStar || re.Op == syntax.OpPlus || re.Op == syntax.OpRepeat && re.Max < 0 {
		return false
	}
	return !slices.ContainsFunc(re.Sub, func(sub *syntax.Regexp) bool { return !finite(sub) })
}

func (s *Survey) answerGaps(op *plan.Operation) {
	documented := false
	for _, r := range op.Responses {
		if !strings.HasPrefix(r.Status, "4") && r.Status != "default" {
			continue
		}
		documented = true
		if !slices.ContainsFunc(r.Media, func(m oad.Media) bool { return strings.HasPrefix(m.Type, "application/problem+") }) {
			var types []string
			for _, m := range r.Media {
				types = append(types, m.Type)
			}
			s.gap(NotProblem, op, "", strings.TrimSpace(r.Status+" "+strings.Join(types, ", ")))
		}
	}
	if !documented && (len(op.Parts) > 0 || len(op.Security) > 0) { // else nothing of its own can be wrong
		s.gap(No4XX, op, "", "")
	}
}

// compare holds the body fields of a collection's POST against those of its
// records' PUT and PATCH: what one demands of a field the other should too.
func (s *Survey) compare() {
	updates := map[string][]Operation{} // by the path above their last parameter
	for _, o := range s.Operations {
		method, path, _ := strings.Cut(o.Operation, " ")
		if i := strings.LastIndexByte(path, '/'); i >= 0 && (method == "PUT" || method == "PATCH") && o.Skip == "" && strings.HasPrefix(path[i:], "/{") {
			updates[path[:i]] = append(updates[path[:i]], o)
		}
	}
	for _, create := range s.Operations {
		path, ok := strings.CutPrefix(create.Operation, "POST ")
		if !ok || create.Skip != "" {
			continue
		}
		for _, update := range updates[strings.TrimSuffix(path, "/")] {
			ruled := map[string]Field{}
			for _, g := range update.Fields {
				if g.In == "body" {
					ruled[g.Pointer] = g
				}
			}
			for _, f := range create.Fields {
				if g, both := ruled[f.Pointer]; both && f.In == "body" && f.Pointer != "" && rulesOf(f) != rulesOf(g) {
					s.Gaps = append(s.Gaps, Gap{RuledElsewhere, update.Operation, g.Name(), fmt.Sprintf("%s here, %s on %s", rulesOf(g), rulesOf(f), create.Operation)})
				}
			}
		}
	}
}

// rulesOf is a field's rules in a line, presence of members aside: a change may
// leave out what a create may not.
func rulesOf(f Field) string {
	var out []string
	for _, r := range f.Rules {
		if r.Keyword != "required" {
			out = append(out, r.Keyword+" "+r.Says)
		}
	}
	if len(out) == 0 {
		return "no rules"
	}
	return strings.Join(out, ", ")
}
