// Package business knows the rules that no schema says, written in CEL (Common
// Expression Language): departs_at after arrives_at, a number that is needed
// only where a flag is set. It checks an expression against the schemas, tells
// whether a request keeps it, finds a request that breaks it and nothing else,
// by the smallest change there is, and puts requests right that break one.
//
// An expression speaks of body, query, path, header and now. Fields of format
// date and date-time are times. What cannot be evaluated, such as a field that
// is not there, neither holds nor fails.
package business

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/ext"

	"obiter/internal/core/instance"
	"obiter/internal/generate/sample"
	"obiter/internal/input/schema"
)

// Part is one place of a request, such as the body, with a valid value of it.
type Part struct {
	In      string
	Schema  schema.Schema
	Control any
	// Sendable reports whether a value of the part can be sent and how a service
	// reads it; nil: as it is.
	Sendable func(any) (any, bool)
}

// Space is what the rules of one operation can speak of. It is not safe for
// concurrent use.
type Space struct {
	parts map[string]Part
	types map[string]*cel.Type // of the parts
	env   *cel.Env
	maker *sample.Maker
	early time.Time
	late  time.Time
}

// horizon is how far from a time a value has to be to lie before or after now
// for as long as a run takes: it makes one day's plans alike, too.
const horizon = 48 * time.Hour

// New makes a Space for the parts of a request. Whatever is planned on the day
// of now is the same.
func New(parts []Part, maker *sample.Maker, now time.Time) (*Space, error) {
	day := now.UTC().Truncate(24 * time.Hour)
	s := &Space{parts: map[string]Part{}, types: map[string]*cel.Type{}, maker: maker, early: day.Add(-horizon), late: day.Add(horizon)}
	registry, err := types.NewRegistry()
	if err != nil {
		return nil, fmt.Errorf("preparing the types of rules: %w", err)
	}
	d := &declared{Registry: registry, objects: map[string]map[string]*types.FieldType{}, absent: map[string]string{}}
	options := []cel.EnvOption{cel.CrossTypeNumericComparisons(true), ext.Strings(), ext.Lists(), ext.Sets(), ext.Math(), cel.Variable("now", cel.TimestampType)}
	for _, in := range []string{"body", "query", "path", "header"} {
		t := cel.MapType(cel.StringType, cel.DynType)
		for _, p := range parts {
			if p.In == in {
				s.parts[in] = p
				if in != "header" { // names of header fields are rarely identifiers
					t = d.typeOf("obiter."+in, []schema.Schema{p.Schema}, p.Control, 0)
				}
			}
		}
		s.types[in] = t
		options = append(options, cel.Variable(in, t))
	}
	s.env, err = cel.NewEnv(append(options, cel.CustomTypeProvider(d))...)
	if err != nil {
		return nil, fmt.Errorf("preparing the types of rules: %w", err)
	}
	return s, nil
}

// declared gives CEL the types of schemas.
type declared struct {
	*types.Registry
	objects map[string]map[string]*types.FieldType
	// absent are the names of types of objects that the control does not have, by the schemas that
	// hold there: they have no other type elsewhere, and may refer to themselves.
	absent map[string]string
}

func (d *declared) FindStructType(name string) (*types.Type, bool) {
	if _, ok := d.objects[name]; ok {
		return types.NewTypeTypeWithParam(types.NewObjectType(name)), true
	}
	return d.Registry.FindStructType(name)
}

func (d *declared) FindStructFieldNames(name string) ([]string, bool) {
	if fields, ok := d.objects[name]; ok {
		var out []string
		for f := range fields {
			out = append(out, f)
		}
		slices.Sort(out)
		return out, true
	}
	return d.Registry.FindStructFieldNames(name)
}

func (d *declared) FindStructFieldType(name, field string) (*types.FieldType, bool) {
	if fields, ok := d.objects[name]; ok {
		f, ok := fields[field]
		return f, ok
	}
	return d.Registry.FindStructFieldType(name, field)
}

// maxTypes bounds how deep types are declared; below, anything goes.
const maxTypes = 12

// typeOf is the CEL type of what obeys the schemas. Where they leave a choice it
// is dyn, which is checked only when an expression is evaluated.
func (d *declared) typeOf(name string, list []schema.Schema, v any, level int) *cel.Type {
	sh := schema.Merge(schema.Apply(list, v))
	if len(list) == 0 || level > maxTypes || !sh.Typed {
		return cel.DynType
	}
	switch sh.Types {
	case schema.Boolean:
		return cel.BoolType
	case schema.Integer:
		return cel.IntType
	case schema.Integer | schema.Number:
		return cel.DoubleType
	case schema.String:
		if isTime(sh) {
			return cel.TimestampType
		}
		return cel.StringType
	case schema.Array:
		list, _ := v.([]any)
		var first any
		if len(list) > 0 {
			first = list[0]
		}
		return cel.ListType(d.typeOf(name+".item", sh.Item(0), first, level+1))
	case schema.Object:
		if len(sh.Properties) == 0 || len(sh.Choices()) > 0 || len(sh.Conditions()) > 0 {
			return cel.MapType(cel.StringType, cel.DynType)
		}
		object, has := v.(map[string]any)
		if !has {
			key := ""
			for _, s := range list {
				key += s.URL() + " "
			}
			if known, is := d.absent[key]; is {
				return cel.ObjectType(known)
			}
			d.absent[key] = name
		}
		fields := map[string]*types.FieldType{}
		d.objects[name] = fields
		for _, p := range sh.Properties {
			members, _ := sh.Member(p)
			fields[p] = &types.FieldType{Type: d.typeOf(name+"."+p, members, object[p], level+1)}
		}
		return cel.ObjectType(name)
	}
	return cel.DynType
}

func isTime(sh *schema.Shape) bool {
	return slices.Contains(sh.Formats, "date") || slices.Contains(sh.Formats, "date-time")
}

// Rule is a checked expression.
type Rule struct {
	Text   string
	Blames []string // JSON Pointers of the fields that a rejection names; * is any index

	program cel.Program
	refs    []reference
	strings []string // literals
	numbers []json.Number
	kept    map[string]any // by name: the values of ${NAME}
	clock   bool           // speaks of now
	sized   bool           // needs lengths
}

// ExpressionError is what is wrong with an expression, with the column where.
type ExpressionError struct {
	Column  int // from 1
	Problem string
}

func (e *ExpressionError) Error() string { return e.Problem }

// maxCost bounds what evaluating an expression once may cost.
const maxCost = 1 << 20

// Compile checks an expression. Each ${NAME} in it is the value of that name in kept;
// one that is not there leaves the rule undecided. Errors are *ExpressionError.
func (s *Space) Compile(text string, blames []string, kept map[string]any) (*Rule, error) {
	plainText, references, err := referring(text)
	if err != nil {
		return nil, err
	}
	env := s.env
	r := &Rule{Text: text, Blames: blames, kept: map[string]any{}}
	for _, ref := range references {
		v := kept[ref.name]
		if text, is := v.(json.Number); is && ref.quoted {
			v = text.String()
		}
		if _, twice := r.kept[ref.variable]; !twice {
			if env, err = env.Extend(cel.Variable(ref.variable, cel.DynType)); err != nil {
				return nil, fmt.Errorf("preparing ${%s} in a rule: %w", ref.name, err)
			}
		}
		r.kept[ref.variable] = v
		r.mention(v)
	}
	checked, issues := env.Compile(plainText)
	if issues != nil && issues.Err() != nil {
		first := issues.Errors()[0]
		return nil, &ExpressionError{first.Location.Column() + 1, plain(first.Message)}
	}
	if t := checked.OutputType(); !t.IsExactType(cel.BoolType) && !t.IsExactType(cel.DynType) {
		return nil, &ExpressionError{1, fmt.Sprintf("it gives a value of type %s, and a rule is true or false", t)}
	}
	program, err := env.Program(checked, cel.CostLimit(maxCost), cel.EvalOptions(cel.OptOptimize))
	if err != nil {
		return nil, &ExpressionError{1, err.Error()}
	}
	r.program = program
	r.read(checked.NativeRep().Expr(), map[string]*reference{})
	return r, nil
}

// plain words the checker's messages for people who wrote the schema.
func plain(message string) string {
	message, _, _ = strings.Cut(message, "\n")
	message = strings.ReplaceAll(message, "obiter.", "")
	message = strings.ReplaceAll(message, "google.protobuf.Timestamp", "timestamp")
	message = strings.Replace(message, " (in container '')", "", 1)
	message, _, _ = strings.Cut(message, " expecting ")
	message = strings.Replace(strings.Replace(message, "Syntax error: ", "", 1), "mismatched input '<EOF>'", "it ends too early", 1)
	if strings.Contains(message, "double, int") || strings.Contains(message, "int, double") {
		message += "; write 2.0 for 2 next to a number that may have a fraction"
	}
	return message
}

// Decided reports whether all that a rule refers to is known.
func (r *Rule) Decided() bool {
	for _, v := range r.kept {
		if v == nil {
			return false
		}
	}
	return true
}

// Outcome is what an expression gives.
type Outcome int

// The outcomes.
const (
	Unknown Outcome = iota // it cannot be evaluated, or it depends on the minute
	Holds
	Fails
)

// Judge reports whether values, by place, keep a rule.
func (s *Space) Judge(r *Rule, values map[string]any) Outcome {
	first := s.at(r, values, s.early)
	if !r.clock || first == Unknown {
		return first
	}
	if s.at(r, values, s.late) != first {
		return Unknown
	}
	return first
}

func (s *Space) at(r *Rule, values map[string]any, now time.Time) Outcome {
	activation := map[string]any{"now": now}
	for name, v := range r.kept {
		if v == nil {
			return Unknown // it is not known yet
		}
		activation[name] = convert(nil, v)
	}
	for in := range s.types {
		activation[in] = map[string]any{}
		if v, ok := values[in]; ok {
			activation[in] = s.native(in, v)
		}
	}
	out, _, err := r.program.Eval(activation)
	if err != nil {
		return Unknown
	}
	switch out.Value() {
	case true:
		return Holds
	case false:
		return Fails
	}
	return Unknown
}

// native is a value as CEL computes with it.
func (s *Space) native(in string, v any) any {
	part := s.parts[in]
	if part.Schema.IsZero() {
		return convert(nil, v)
	}
	return convert([]schema.Schema{part.Schema}, v)
}

func convert(list []schema.Schema, v any) any {
	var sh *schema.Shape
	if len(list) > 0 {
		sh = schema.Merge(schema.Apply(list, v))
	}
	switch v := v.(type) {
	case map[string]any:
		out := make(map[string]any, len(v))
		for name, m := range v {
			var members []schema.Schema
			if sh != nil {
				members, _ = sh.Member(name)
			}
			out[name] = convert(members, m)
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i, e := range v {
			var items []schema.Schema
			if sh != nil {
				items = sh.Item(i)
			}
			out[i] = convert(items, e)
		}
		return out
	case json.Number:
		r, ok := instance.Rat(v)
		if !ok {
			return v.String()
		}
		fraction := sh != nil && sh.Typed && sh.Types.Has(schema.Number)
		if r.IsInt() && r.Num().IsInt64() && !fraction {
			return r.Num().Int64()
		}
		f, _ := r.Float64()
		return f
	case string:
		if sh != nil && isTime(sh) {
			if t, ok := timeOf(v); ok {
				return t
			}
		}
	}
	return v
}

// timeOf reads a date-time (RFC 3339) or a date, which is its first moment in UTC.
func timeOf(s string) (time.Time, bool) {
	if t, err := time.Parse(time.RFC3339Nano, strings.ToUpper(s)); err == nil {
		return t, true
	}
	t, err := time.Parse(time.DateOnly, s)
	return t, err == nil
}
