package plan

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/wire"
	"obiter/internal/input/document"
	"obiter/internal/input/oad"
	"obiter/internal/input/schema"
)

// answers compiles the schemas of documented answers, when they are needed.
// It has a set of its own, so that judging does not wait for planning.
type answers struct {
	doc      *oad.Document
	mu       sync.Mutex
	set      *schema.Set
	compiled map[answerText]answerSchema        // by set
	at       map[document.Location]answerSchema // those that were compiled for a place
}

// answerText is what a schema says. What other places say in the same words is the same
// schema: operations often document the same errors.
type answerText struct{ file, text string }

// answerSchema is what came of compiling one.
type answerSchema struct {
	schema schema.Schema
	err    error
}

// Bounds of what is kept: operations that are tried side by side have many answers.
const (
	mostAnswers   = 4 * generation // schemas, compiled
	mostAnswersAt = 1000           // places of them
	mostOfAnswer  = 4 << 10        // bytes of the text of one
)

// compile keeps no more than so many schemas.
func (a *answers) compile(at document.Location) (schema.Schema, error) {
	known, has := a.at[at]
	if has {
		return known.schema, known.err
	}
	text := a.text(at)
	if known, has = a.compiled[text]; !has {
		if a.set == nil || len(a.compiled) == mostAnswers {
			a.set, a.compiled, a.at = schema.NewSet(a.doc), map[answerText]answerSchema{}, nil
		}
		known.schema, known.err = a.set.Compile(at.URL())
		if known.err == nil {
			known.err = bearable(known.schema)
		}
		a.compiled[text] = known
	}
	if a.at == nil || len(a.at) == mostAnswersAt {
		a.at = map[document.Location]answerSchema{}
	}
	a.at[at] = known
	return known.schema, known.err
}

// text is what the schema at a place says. One that is long is compared with no other, and
// neither is one that may have a name or a base of its own (JSON Schema 2020-12, section 8.2).
func (a *answers) text(at document.Location) answerText {
	own := answerText{at.File, at.Pointer}
	file := a.doc.File(at.File)
	if file == nil {
		return own
	}
	v, ok := instance.Get(file.Value, at.Pointer)
	if !ok {
		return own
	}
	text := string(instance.Encode(v))
	if len(text) > mostOfAnswer || identified.MatchString(text) || at.File != a.doc.Main && strings.Contains(text, `"$ref"`) {
		return own
	}
	return answerText{at.File, text}
}

// identified matches what schemas are known by, and referred to in the place of another.
var identified = regexp.MustCompile(`"\$(id|anchor|dynamic)`)

// Describe tells what the description says of an answer: of its status, then of
// its class such as 4XX, then of default (OpenAPI 3.1.1, section 4.8.16). Nil where
// the operation documents no answers. It is safe for concurrent use.
func (op *Operation) Describe(a exchange.Answer) *exchange.Documented {
	if len(op.Responses) == 0 || a.Err != "" || a.Status < 100 {
		return nil
	}
	code := strconv.Itoa(a.Status)
	for _, name := range []string{code, code[:1] + "XX", "default"} {
		if i := slices.IndexFunc(op.Responses, func(r oad.Response) bool { return strings.EqualFold(r.Status, name) }); i >= 0 {
			d := &exchange.Documented{Status: true}
			op.plan.answers.fill(d, op.Responses[i], a)
			return d
		}
	}
	return &exchange.Documented{Known: op.Documented()}
}

func (a *answers) fill(d *exchange.Documented, r oad.Response, answer exchange.Answer) {
	sent := exchange.MediaTypeOf(answer.Header.Get("Content-Type"))
	for _, m := range r.Media {
		t := exchange.MediaTypeOf(m.Type)
		d.Media = append(d.Media, t)
		if t != sent || m.Schema == (document.Location{}) || !IsJSON(t) || answer.Truncated {
			continue
		}
		body, err := answer.JSON()
		if err != nil {
			continue
		}
		d.At, d.How = a.departure(m.Schema, body)
	}
}

// departure is the first point in which a body departs from the schema at a place.
func (a *answers) departure(of document.Location, body any) (at, how string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	s, err := a.compile(of)
	if err != nil {
		return "", "" // survey tells
	}
	return departure(s, body)
}

// departure is the first point in which a body departs from its schema. What is
// only written is not missed in an answer, and a null that 3.0 leaves murky is
// let pass.
func departure(s schema.Schema, body any) (at, how string) {
	for _, v := range s.Validate(body, body) {
		parent, _ := instance.Get(body, instance.Parent(v.Pointer))
		value, there := instance.Get(body, v.Pointer)
		switch {
		case v.Keyword == "required" && writeOnly(s, body, instance.Parent(v.Pointer), parent, instance.Last(v.Pointer)):
		case there && value == nil && (v.Keyword == "type" || v.Keyword == "enum"):
		default:
			return v.Pointer, v.Message()
		}
	}
	return "", ""
}

func writeOnly(s schema.Schema, body any, at string, parent any, name string) bool {
	list, _, _ := schema.At([]schema.Schema{s}, body, at)
	members, _ := schema.Merge(schema.Apply(list, parent)).Member(name)
	return schema.Merge(schema.Apply(members, nil)).WriteOnly
}

// Reader is a GET of the operation's own path with the control's path
// parameters, which shows what is there; false where the path has none that
// needs no more.
func (op *Operation) Reader() (exchange.Case, bool) {
	if op.Method == "GET" {
		return exchange.Case{}, false
	}
	for _, i := range op.plan.readers[op.Address()] {
		o := op.plan.doc.Operations[i]
		if o.Skip != "" ||
			slices.ContainsFunc(o.Parameters, func(p oad.Parameter) bool { return p.Required && p.In != "path" && !ignored(p) }) {
			continue
		}
		path := op.values(fullest)["path"]
		address, _ := wire.Address(op.plan.opt.Base, o.Path, placesOf(op.Parts), map[string]any{"path": path})
		reader := &Operation{Operation: o, plan: op.plan}
		if op.plan.authorise(reader) != nil {
			continue
		}
		return exchange.Case{Credentials: reader.credentials, ID: caseID(o.Name(), exchange.Control, []exchange.Flaw{{In: "request", Rule: "reader", Variant: op.Name()}}), Operation: o.Name(), Kind: exchange.Control,
			Request: exchange.Request{Method: "GET", URL: address, Headers: [][2]string{{"Accept", "application/json"}}}}, true
	}
	return exchange.Case{}, false
}
