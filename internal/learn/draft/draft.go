// Package draft writes an OpenAPI description for an API that has none: out of requests
// that were seen, samples of bodies, and JSON Schemas. What is accepted shows fields,
// types and formats; what is refused next to it shows rules and limits, where the answer
// names the field or the request differs in that field alone. What is only likely is
// marked as a guess.
package draft

import (
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/core/secret"
	"obiter/internal/evaluate/layout"
	"obiter/internal/evaluate/problem"
	"obiter/internal/learn/capture"
)

// Draft is a description in the making. It is not safe for concurrent use.
type Draft struct {
	templates  *capture.Templates
	servers    map[string]int // addresses that were accepted, by scheme and host
	server     string
	preferred  string
	alone      bool // nothing but operations is written
	operations []*operation
	byName     map[string]*operation
	secrets    *secret.Set
	schemas    []Schema
	Left       map[string]int // exchanges that are left out, by reason
}

// operation is a method and a path template.
type operation struct {
	method, template string
	from             []string // where it was seen
	seen, accepted   int
	path             []*node // of its parameters, in their order
	query            map[string]*node
	queries          int // accepted requests
	bodies           map[string]*body
	bodiless         int  // accepted requests without a body
	needsBody        bool // one without a body was refused
	answers          map[int]map[string]*node
	schemes          map[string]bool // how requests were authorised
	given            *Schema
	probed           *Probed // nil: it was not
}

// body is what was sent in a media type.
type body struct {
	node *node
	base any // the first that was accepted
	last any // the last
}

// Schema is a JSON Schema that is taken over as it is.
type Schema struct {
	Operation string // that it is of; empty: of none
	Name      string
	Value     map[string]any
	From      string
}

// New makes an empty draft. Secrets are taken out of what is kept as an example.
func New(secrets *secret.Set) *Draft {
	return &Draft{templates: capture.NewTemplates(), servers: map[string]int{}, byName: map[string]*operation{}, secrets: secrets, Left: map[string]int{}}
}

// See takes in an exchange for its path alone: all have to be seen before the first is
// added.
func (d *Draft) See(x capture.Exchange) {
	u, err := url.Parse(x.URL)
	if err != nil || !accepted(x) {
		return
	}
	d.servers[u.Scheme+"://"+u.Host]++
	d.templates.See(x.Method, u.EscapedPath())
}

// Server is the address whose requests count.
func (d *Draft) Server() string { return d.server }

// Settle ends seeing: the server is the one that answered most.
func (d *Draft) Settle() {
	d.server = d.preferred
	if d.preferred == "" {
		for _, s := range slices.Sorted(maps.Keys(d.servers)) {
			if d.server == "" || d.servers[s] > d.servers[d.server] {
				d.server = s
			}
		}
	}
	d.templates.Settle()
}

// accepted reports whether a request was accepted; one whose answer is not known was
// written down because it works.
func accepted(x capture.Exchange) bool { return x.Answer.Status == 0 || succeeded(x.Answer.Status) }

func succeeded(status int) bool { return status >= 200 && status < 400 }

// The reasons for leaving exchanges out.
const (
	otherServer = "sent to another server than most"
	neverTaken  = "of a path or with a method that was never accepted"
	lossy       = "with a body that was not UTF-8, of which the capture has lost what it was"
)

// Add takes in an exchange: accepted ones first, then those that were refused.
func (d *Draft) Add(x capture.Exchange, from string) {
	u, err := url.Parse(x.URL)
	if err != nil || x.Method == http.MethodHead || x.Method == http.MethodOptions {
		return
	}
	if u.Scheme+"://"+u.Host != d.server {
		d.Left[otherServer]++
		return
	}
	if x.Lossy() {
		d.Left[lossy]++
		return
	}
	template, values, known := d.templates.Of(u.EscapedPath())
	if !known || !d.templates.Accepts(x.Method, u.EscapedPath()) {
		d.Left[neverTaken]++
		return
	}
	o := d.operation(x.Method, template)
	o.seen++
	if !slices.Contains(o.from, from) {
		o.from = append(o.from, from)
	}
	o.authorised(x)
	if accepted(x) {
		o.accepted++
		o.take(u, values, x)
	} else if x.Answer.Status == http.StatusBadRequest || x.Answer.Status == http.StatusUnprocessableEntity {
		o.refuse(u, x)
	}
	if x.Answer.Status > 0 {
		o.answer(x.Answer)
	}
}

// Prefer names the server whose requests count, where they were sent to several.
func (d *Draft) Prefer(server string) { d.preferred = strings.TrimSuffix(server, "/") }

// IsEmpty reports whether there is nothing to write.
func (d *Draft) IsEmpty() bool { return len(d.operations)+len(d.schemas) == 0 }

// Names are the operations of the draft.
func (d *Draft) Names() []string {
	var out []string
	for _, o := range d.operations {
		out = append(out, o.name())
	}
	return out
}

// AddIf is Add for the exchanges that were refused, or for the others.
func (d *Draft) AddIf(x capture.Exchange, from string, refused bool) {
	if accepted(x) != refused {
		d.Add(x, from)
	}
}

// Sample takes in a body that an operation accepts.
func (d *Draft) Sample(method, template string, v any, from string) {
	o := d.operation(method, template)
	o.accepted++
	o.from = append(o.from, from)
	o.body("application/json").accept(v)
}

// Named takes in an operation of which nothing more is known.
func (d *Draft) Named(method, template, from string) {
	o := d.operation(method, template)
	o.from = append(o.from, from)
}

// SampleOf is the first body that an operation was seen to accept, and its media type;
// false where there is none.
func (d *Draft) SampleOf(operation string) (v any, media string, has bool) {
	o := d.byName[operation]
	if o == nil {
		return nil, "", false
	}
	for _, media := range slices.Sorted(maps.Keys(o.bodies)) {
		if b := o.bodies[media]; b.base != nil && exchange.IsJSON(media) {
			return b.base, media, true
		}
	}
	return nil, "", false
}

// SchemaOf takes over a JSON Schema.
func (d *Draft) SchemaOf(s Schema) {
	if s.Operation == "" {
		d.schemas = append(d.schemas, s)
		return
	}
	method, template, _ := strings.Cut(s.Operation, " ")
	o := d.operation(method, template)
	o.given, o.from = &s, append(o.from, s.From)
}

func (d *Draft) operation(method, template string) *operation {
	name := method + " " + template
	o := d.byName[name]
	if o == nil {
		o = &operation{method: method, template: template, query: map[string]*node{}, bodies: map[string]*body{}, answers: map[int]map[string]*node{}, schemes: map[string]bool{}}
		for range strings.Count(template, "{") {
			o.path = append(o.path, newNode())
		}
		d.byName[name] = o
		d.operations = append(d.operations, o)
	}
	return o
}

func (o *operation) body(media string) *body {
	if o.bodies[media] == nil {
		o.bodies[media] = &body{node: newNode()}
	}
	return o.bodies[media]
}

func (b *body) accept(v any) {
	if b.base == nil {
		b.base = v
	}
	b.last = v
	b.node.accept(v, 0)
}

// authorised looks how a request was let in, or why it was not.
func (o *operation) authorised(x capture.Exchange) {
	if text := x.Header("Authorization"); text != "" {
		scheme, _, _ := strings.Cut(text, " ")
		o.schemes[strings.ToLower(scheme)] = true
	}
	for _, name := range []string{"X-Api-Key", "Api-Key"} {
		if x.Header(name) != "" {
			o.schemes["apiKey "+name] = true
		}
	}
	if challenge := x.Answer.Header.Get("WWW-Authenticate"); x.Answer.Status == http.StatusUnauthorized && challenge != "" {
		scheme, _, _ := strings.Cut(challenge, " ")
		o.schemes[strings.ToLower(strings.TrimSuffix(scheme, ","))] = true
	}
}

// take takes in a request that was accepted.
func (o *operation) take(u *url.URL, values []string, x capture.Exchange) {
	for i, v := range values {
		if i < len(o.path) {
			o.path[i].accept(textValue(v), 0)
		}
	}
	o.queries++
	for name, texts := range u.Query() {
		if len(name) > 100 || len(o.query) >= maxMembers && o.query[name] == nil {
			continue
		}
		if o.query[name] == nil {
			o.query[name] = newNode()
		}
		if len(texts) == 1 {
			o.query[name].accept(textValue(texts[0]), 0)
		} else {
			list := []any{}
			for _, t := range texts {
				list = append(list, textValue(t))
			}
			o.query[name].accept(list, 0)
		}
	}
	for _, n := range o.query {
		n.holders = o.queries
	}
	media := exchange.MediaTypeOf(x.Header("Content-Type"))
	if len(x.Body) == 0 {
		o.bodiless++
		return
	}
	if v, ok := bodyOf(media, x.Body); ok {
		o.body(media).accept(v)
	} else if media != "" && o.bodies[media] == nil && !exchange.IsJSON(media) {
		o.bodies[media] = &body{}
	}
}

// textValue is a text of an address as the value that it looks like.
func textValue(text string) any {
	if v, err := instance.Decode([]byte(text)); err == nil {
		switch instance.Type(v) {
		case "integer", "number", "boolean":
			return v
		}
	}
	return text
}

// bodyOf reads a body as far as its fields can be told.
func bodyOf(media string, src []byte) (any, bool) {
	switch {
	case exchange.IsJSON(media):
		v, err := instance.Decode(src)
		return v, err == nil && instance.Interoperable(src)
	case media == "application/x-www-form-urlencoded":
		values, err := url.ParseQuery(string(src))
		if err != nil {
			return nil, false
		}
		out := map[string]any{}
		for name, texts := range values {
			out[name] = textValue(texts[0])
		}
		return out, true
	}
	return nil, false
}

// refuse takes in a request that was refused for its form: what is otherwise in it than
// in one that was accepted, if that is one field, or the fields that the answer names.
func (o *operation) refuse(u *url.URL, x capture.Exchange) {
	o.needsBody = o.needsBody || len(x.Body) == 0 && !x.Lacking
	media := exchange.MediaTypeOf(x.Header("Content-Type"))
	v, ok := bodyOf(media, x.Body)
	b := o.bodies[media]
	doc, _ := problem.Read(x.Answer.Header.Get("Content-Type"), x.Answer.Body, x.Answer.Status)
	if !ok || b == nil || b.node == nil || b.base == nil {
		o.refuseQuery(u, doc)
		return
	}
	found := changes("", b.base, v, nil)
	if len(found) != 1 {
		if other := changes("", b.last, v, nil); len(other) > 0 && len(other) < len(found) {
			found = other
		}
	}
	if len(found) == 1 {
		b.node.refuseChange(found[0])
		return
	}
	reading := layout.Read(doc.Value, layout.NewVocabulary(v, b.base, nil))
	for _, c := range found {
		if slices.ContainsFunc(reading.Fields, func(n layout.Named) bool { return n.Name.Fits(c.pointer) == layout.Exact }) {
			b.node.refuseChange(c)
		}
	}
}

// refuseQuery takes in the one parameter that an answer names.
func (o *operation) refuseQuery(u *url.URL, doc problem.Document) {
	object := map[string]any{}
	for name, texts := range u.Query() {
		object[name] = textValue(texts[0])
	}
	reading := layout.Read(doc.Value, layout.NewVocabulary(object, nil, nil))
	for name, v := range object {
		n := o.query[name]
		if n != nil && slices.ContainsFunc(reading.Fields, func(f layout.Named) bool { return f.Name.Fits("/"+name) == layout.Exact }) {
			n.refuse(v)
		}
	}
}

// maxAnswers bounds the media types of one status.
const maxAnswers = 8

// answer takes in what came back.
func (o *operation) answer(a exchange.Answer) {
	media := exchange.MediaTypeOf(a.Header.Get("Content-Type"))
	if o.answers[a.Status] == nil {
		o.answers[a.Status] = map[string]*node{}
	}
	if len(a.Body) == 0 || media == "" {
		return
	}
	by := o.answers[a.Status]
	if by[media] == nil {
		if len(by) == maxAnswers {
			return
		}
		by[media] = newNode()
	}
	if !exchange.IsJSON(media) {
		return
	}
	if v, err := instance.Decode(a.Body); err == nil {
		by[media].holders++
		by[media].accept(v, 0)
	}
}
