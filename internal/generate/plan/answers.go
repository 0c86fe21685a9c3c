package plan

import (
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

// answers are the schemas of an operation's documented answers, by their places.
type answers map[document.Location]*answerSchema

// answerSchema is compiled when it is first needed, by whoever needs it.
type answerSchema struct {
	compile func() (schema.Schema, error)
	mu      sync.Mutex // held while an answer is held against the schema: several may come at a time
}

func answersOf(doc *oad.Document, o oad.Operation) answers {
	out := answers{}
	for _, r := range o.Responses {
		for _, m := range r.Media {
			if at := m.Schema; at != (document.Location{}) && out[at] == nil {
				out[at] = &answerSchema{compile: sync.OnceValues(func() (schema.Schema, error) {
					s, err := schema.NewSet(doc).Compile(at.URL())
					if err == nil {
						err = bearable(s)
					}
					return s, err
				})}
			}
		}
	}
	return out
}

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

func (a answers) fill(d *exchange.Documented, r oad.Response, answer exchange.Answer) {
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
func (a answers) departure(of document.Location, body any) (at, how string) {
	one := a[of]
	one.mu.Lock()
	defer one.mu.Unlock()
	s, err := one.compile()
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
