package business

import (
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"

	"obiter/internal/core/instance"
)

// keptValue is a ${NAME} in an expression, alone or as all of a quoted text.
type keptValue struct {
	name     string
	variable string // that stands for it; as long as what is written
	quoted   bool
}

// referenceIn is a ${NAME} at the beginning of a text, quoted or not.
var referenceIn = regexp.MustCompile(`^(?:'\$\{([A-Za-z_]\w*)\}'|"\$\{([A-Za-z_]\w*)\}"|\$\{([A-Za-z_]\w*)\})`)

// referring is an expression with a variable in place of each ${NAME}, at the same
// columns.
func referring(text string) (string, []keptValue, error) {
	var out strings.Builder
	var list []keptValue
	var quote byte
	for i := 0; i < len(text); {
		c := text[i]
		if m := referenceIn.FindStringSubmatch(text[i:]); m != nil && quote == 0 {
			v := keptValue{name: m[1] + m[2] + m[3], quoted: c != '$'}
			v.variable = strings.Repeat("_", len(m[0])-len(v.name)-1) + v.name + "_"
			list = append(list, v)
			out.WriteString(v.variable)
			i += len(m[0])
			continue
		} else if m != nil {
			return "", nil, &ExpressionError{i + 1, "a reference is a text of its own; join texts with +, as in 'berth ' + " + m[0]}
		}
		switch {
		case quote != 0 && c == '\\' && i+1 < len(text):
			out.WriteByte(c)
			i++
		case quote == c:
			quote = 0
		case quote == 0 && (c == '\'' || c == '"'):
			quote = c
		}
		out.WriteByte(text[i])
		i++
	}
	return out.String(), list, nil
}

// reference is a place that an expression speaks of; a token * is any index.
type reference struct {
	in     string
	tokens []string
}

func (r reference) member(name string) *reference {
	return &reference{r.in, append(slices.Clone(r.tokens), name)}
}

var partNames = []string{"body", "query", "path", "header"}

// literal keeps a value that an expression mentions.
func (r *Rule) literal(v ref.Val) {
	switch v := v.(type) {
	case types.String:
		r.strings = append(r.strings, string(v))
	case types.Int:
		r.numbers = append(r.numbers, json.Number(strconv.FormatInt(int64(v), 10)))
	case types.Double:
		r.numbers = append(r.numbers, json.Number(strconv.FormatFloat(float64(v), 'g', -1, 64)))
	}
}

// read collects what an expression speaks of. Variables of comprehensions are
// for the elements of what they range over.
func (r *Rule) read(e ast.Expr, variables map[string]*reference) {
	if ref := r.place(e, variables); ref != nil && len(ref.tokens) > 0 {
		r.add(*ref)
		return
	}
	switch e.Kind() {
	case ast.IdentKind:
		r.clock = r.clock || e.AsIdent() == "now"
	case ast.LiteralKind:
		r.literal(e.AsLiteral())
	case ast.SelectKind:
		r.read(e.AsSelect().Operand(), variables)
	case ast.CallKind:
		call := e.AsCall()
		r.sized = r.sized || call.FunctionName() == "size"
		if call.IsMemberFunction() {
			r.read(call.Target(), variables)
		}
		for _, a := range call.Args() {
			r.read(a, variables)
		}
	case ast.ListKind:
		for _, m := range e.AsList().Elements() {
			r.read(m, variables)
		}
	case ast.MapKind:
		for _, m := range e.AsMap().Entries() {
			r.read(m.AsMapEntry().Key(), variables)
			r.read(m.AsMapEntry().Value(), variables)
		}
	case ast.ComprehensionKind:
		c := e.AsComprehension()
		r.read(c.IterRange(), variables)
		inner := maps.Clone(variables)
		if over := r.place(c.IterRange(), variables); over != nil {
			inner[c.IterVar()] = over.member("*")
		}
		for _, x := range []ast.Expr{c.AccuInit(), c.LoopCondition(), c.LoopStep(), c.Result()} {
			r.read(x, inner)
		}
	}
}

// mention notes a value that is tried where the rule is to be broken or kept.
func (r *Rule) mention(v any) {
	switch v := v.(type) {
	case string:
		r.strings = append(r.strings, v)
	case json.Number:
		r.numbers = append(r.numbers, v)
	}
}

// place is the place that an expression is, if it is nothing but that.
func (r *Rule) place(e ast.Expr, variables map[string]*reference) *reference {
	switch e.Kind() {
	case ast.IdentKind:
		name := e.AsIdent()
		if ref, ok := variables[name]; ok {
			return ref
		}
		if slices.Contains(partNames, name) {
			return &reference{in: name}
		}
	case ast.SelectKind:
		if of := r.place(e.AsSelect().Operand(), variables); of != nil {
			return of.member(e.AsSelect().FieldName())
		}
	case ast.CallKind:
		call := e.AsCall()
		if call.FunctionName() != "_[_]" || len(call.Args()) != 2 {
			return nil
		}
		of := r.place(call.Args()[0], variables)
		if of == nil {
			return nil
		}
		if key := call.Args()[1]; key.Kind() == ast.LiteralKind {
			return of.member(fmt.Sprint(key.AsLiteral().Value()))
		}
		return of.member("*")
	}
	return nil
}

func (r *Rule) add(ref reference) {
	same := func(o reference) bool { return o.in == ref.in && slices.Equal(o.tokens, ref.tokens) }
	if !slices.ContainsFunc(r.refs, same) {
		r.refs = append(r.refs, ref)
	}
}

// Field is a place in a request.
type Field struct{ In, Pointer string }

// maxIndexes is how many elements of a list are looked at.
const maxIndexes = 4

// fields are the places that a rule speaks of in these values, what it blames
// first.
func (r *Rule) fields(values map[string]any) []Field {
	var out []Field
	for _, ref := range r.refs {
		pointers := []string{""}
		for _, token := range ref.tokens {
			var next []string
			for _, p := range pointers {
				if token != "*" {
					next = append(next, instance.Join(p, token))
					continue
				}
				v, _ := instance.Get(values[ref.in], p)
				list, _ := v.([]any)
				for i := range list[:min(len(list), maxIndexes)] {
					next = append(next, instance.Join(p, strconv.Itoa(i)))
				}
			}
			pointers = next
		}
		for _, p := range pointers {
			if f := (Field{ref.in, p}); !slices.Contains(out, f) {
				out = append(out, f)
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Field) int { return r.rank(a) - r.rank(b) })
	return out
}

// rank is 0 for fields that are blamed, or lie in one that is.
func (r *Rule) rank(f Field) int {
	for _, b := range r.Blames {
		if matches(b, f.Pointer) || instance.Within(f.Pointer, b) {
			return 0
		}
	}
	return 1
}

// matches reports whether a pointer is the one blamed, in which * is any index.
func matches(blamed, pointer string) bool {
	b, _ := instance.Split(blamed)
	p, _ := instance.Split(pointer)
	return slices.EqualFunc(b, p, func(x, y string) bool { return x == y || x == "*" })
}

// Blamed are the pointers that a rule blames when these fields were changed: in
// place of each * the index that was.
func (r *Rule) Blamed(changed []Field) []string {
	var out []string
	for _, b := range r.Blames {
		tokens, _ := instance.Split(b)
		for i, token := range tokens {
			if token != "*" {
				continue
			}
			tokens[i] = "0"
			for _, c := range changed {
				if at, _ := instance.Split(c.Pointer); len(at) > i && slices.Equal(at[:i], tokens[:i]) {
					tokens[i] = at[i]
				}
			}
		}
		out = append(out, instance.Join("", tokens...))
	}
	return out
}

// Speaks are the pointers of the fields that a rule speaks of in these values,
// or blames.
func (s *Space) Speaks(r *Rule, values map[string]any) []string {
	out := r.Blamed(nil)
	for _, f := range r.fields(values) {
		if !slices.Contains(out, f.Pointer) {
			out = append(out, f.Pointer)
		}
	}
	return out
}
