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

// Schemas are those of the documented answers of a description, by their places: many operations
// have the same. They are safe for concurrent use.
type Schemas struct {
	doc *oad.Document
	mu  sync.Mutex // guards all
	all map[document.Location]*answerSchema
}

// answerSchema is compiled when it is first needed, by whoever needs it.
type answerSchema struct {
	compile func() (schema.Schema, error)
	mu      sync.Mutex // held while its parts are looked at; anybody may validate meanwhile
}

// NewSchemas are those of a description.
func NewSchemas(doc *oad.Document) *Schemas {
	return &Schemas{doc: doc, all: map[document.Location]*answerSchema{}}
}

func (c *Schemas) at(place document.Location) *answerSchema {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.all[place] == nil {
		c.all[place] = &answerSchema{compile: sync.OnceValues(func() (schema.Schema, error) {
			s, err := schema.NewSet(c.doc).Compile(place.URL())
			if err == nil {
				err = s.Bearable()
			}
			return s, err
		})}
	}
	return c.all[place]
}

// Describe tells what the description says of an answer: of its status, then of
// its class such as 4XX, then of default (OpenAPI 3.1.1, section 4.8.16). Nil where
// the operation documents no answers.
func (c *Schemas) Describe(responses []oad.Response, a exchange.Answer) *exchange.Documented {
	if len(responses) == 0 || a.Err != "" || a.Status < 100 {
		return nil
	}
	code := strconv.Itoa(a.Status)
	for _, name := range []string{code, code[:1] + "XX", "default"} {
		if i := slices.IndexFunc(responses, func(r oad.Response) bool { return strings.EqualFold(r.Status, name) }); i >= 0 {
			d := &exchange.Documented{Status: true}
			c.fill(d, responses[i], a)
			return d
		}
	}
	return &exchange.Documented{Known: Statuses(responses)}
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

func (c *Schemas) fill(d *exchange.Documented, r oad.Response, answer exchange.Answer) {
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
		d.At, d.How = c.at(m.Schema).departure(body)
	}
}

// departure is the first point in which a body departs from its schema. What is
// only written is not missed in an answer, and a null that 3.0 leaves murky is
// let pass.
func (one *answerSchema) departure(body any) (at, how string) {
	s, err := one.compile()
	if err != nil {
		return "", "" // survey tells
	}
	for _, v := range s.Validate(body, body) {
		parent, _ := instance.Get(body, instance.Parent(v.Pointer))
		value, there := instance.Get(body, v.Pointer)
		switch {
		case v.Keyword == "required" && one.writeOnly(s, body, instance.Parent(v.Pointer), parent, instance.Last(v.Pointer)):
		case there && value == nil && (v.Keyword == "type" || v.Keyword == "enum"):
		default:
			return v.Pointer, v.Message()
		}
	}
	return "", ""
}

func (one *answerSchema) writeOnly(s schema.Schema, body any, at string, parent any, name string) bool {
	one.mu.Lock()
	defer one.mu.Unlock()
	list, _, _ := schema.At([]schema.Schema{s}, body, at)
	members, _ := schema.Merge(schema.Apply(list, parent)).Member(name)
	return schema.Merge(schema.Apply(members, nil)).WriteOnly
}
