// Package answers knows what the description says of answers: their statuses, media types and
// schemas.
package answers

import (
	"slices"
	"strconv"
	"strings"
	"sync"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/input/document"
	"obiter/internal/input/oad"
	"obiter/internal/input/schema"
)

// Answers are those that an operation documents. They are safe for concurrent use.
type Answers struct {
	responses []oad.Response
	schemas   map[document.Location]*answerSchema
}

// answerSchema is compiled when it is first needed, by whoever needs it.
type answerSchema struct {
	compile func() (schema.Schema, error)
	mu      sync.Mutex // held while an answer is held against the schema: several may come at a time
}

// Of are the answers of an operation.
func Of(doc *oad.Document, o oad.Operation) Answers {
	out := Answers{o.Responses, map[document.Location]*answerSchema{}}
	for _, r := range o.Responses {
		for _, m := range r.Media {
			if at := m.Schema; at != (document.Location{}) && out.schemas[at] == nil {
				out.schemas[at] = &answerSchema{compile: sync.OnceValues(func() (schema.Schema, error) {
					s, err := schema.NewSet(doc).Compile(at.URL())
					if err == nil {
						err = s.Bearable()
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
// the operation documents no answers.
func (all Answers) Describe(a exchange.Answer) *exchange.Documented {
	if len(all.responses) == 0 || a.Err != "" || a.Status < 100 {
		return nil
	}
	code := strconv.Itoa(a.Status)
	for _, name := range []string{code, code[:1] + "XX", "default"} {
		if i := slices.IndexFunc(all.responses, func(r oad.Response) bool { return strings.EqualFold(r.Status, name) }); i >= 0 {
			d := &exchange.Documented{Status: true}
			all.fill(d, all.responses[i], a)
			return d
		}
	}
	return &exchange.Documented{Known: Statuses(all.responses)}
}

// Statuses are those that are documented, in their order.
func Statuses(responses []oad.Response) []string {
	var out []string
	for _, r := range responses {
		out = append(out, r.Status)
	}
	slices.Sort(out)
	return out
}

func (all Answers) fill(d *exchange.Documented, r oad.Response, answer exchange.Answer) {
	sent := exchange.MediaTypeOf(answer.Header.Get("Content-Type"))
	for _, m := range r.Media {
		t := exchange.MediaTypeOf(m.Type)
		d.Media = append(d.Media, t)
		if t != sent || m.Schema == (document.Location{}) || !exchange.IsJSON(t) || answer.Truncated {
			continue
		}
		body, err := answer.JSON()
		if err != nil {
			continue
		}
		d.At, d.How = all.departure(m.Schema, body)
	}
}

// departure is the first point in which a body departs from the schema at a place.
func (all Answers) departure(of document.Location, body any) (at, how string) {
	one := all.schemas[of]
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
