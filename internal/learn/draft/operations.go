package draft

import (
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/input/document"
	"obiter/internal/learn/capture"
)

func (d *Draft) pathParameters(w *writer, operations []*operation) {
	list := names(operations[0].template)
	if len(list) == 0 {
		return
	}
	w.line(2, "parameters:")
	for i, name := range list {
		n := newNode()
		for _, o := range operations {
			if i < len(o.path) {
				n.merge(o.path[i])
			}
		}
		schema := "{ type: string }"
		if n.seen > 0 {
			f := n.facts().without("minLength", "maxLength", "minimum", "maximum", "enum")
			schema = w.flow(f.ofParameter(n), n, "", true)
		}
		w.line(3, "- { name: %s, in: path, required: true, schema: %s }", document.Scalar(name), schema)
	}
}

// ofParameter are the rules of a parameter, which travels as text: of its types that which
// was met most.
func (f facts) ofParameter(n *node) facts {
	f.required = false
	if len(f.types) == 1 {
		return f
	}
	most := "string"
	for _, kind := range []string{"string", "integer", "number", "boolean"} {
		if n.types[kind] > n.types[most] {
			most = kind
		}
	}
	f.types = []string{most}
	if most == "string" {
		return f.without("minimum", "maximum", "multipleOf")
	}
	return f.without("minLength", "maxLength", "enum", "format")
}

// merge takes in what another node saw of the same parameter.
func (n *node) merge(other *node) {
	for _, t := range instance.Names(anyOf(other.texts)) {
		for range other.texts[t] {
			n.accept(t, 0)
		}
	}
	for _, r := range other.numbers {
		n.accept(instance.Number(r), 0)
	}
}

func (d *Draft) write(w *writer, o *operation, records []*recordOf) {
	w.line(2, "%s:%s", strings.ToLower(o.method), remark(o.origin()))
	w.line(3, "operationId: %s", document.Scalar(o.id()))
	if schemes := o.security(); len(schemes) > 0 && !d.alone {
		var list []string
		for _, s := range schemes {
			list = append(list, "{ "+s+": [] }")
		}
		w.line(3, "security: [%s]%s", strings.Join(list, ", "), remark("guess: as requests were sent, or as a 401 asked"))
	}
	var query []string
	for _, name := range slices.Sorted(maps.Keys(o.query)) {
		n := o.query[name]
		f := n.facts()
		query = append(query, fmt.Sprintf("- { name: %s, in: query, schema: %s }", document.Scalar(name), w.flow(f.ofParameter(n), n, name, true)))
	}
	if len(query) > 0 {
		w.line(3, "parameters:")
		for _, q := range query {
			w.line(4, "%s", q)
		}
	}
	d.requestBody(w, o, records)
	w.line(3, "responses:")
	d.responses(w, o, records)
}

// origin tells where an operation was seen.
func (o *operation) origin() string {
	text := "from " + strings.Join(o.from[:min(len(o.from), 3)], ", ")
	if more := len(o.from) - 3; more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	if o.seen > 0 {
		text += fmt.Sprintf(": %d requests, %d accepted", o.seen, o.accepted)
	}
	return text
}

// id is a name for an operation.
func (o *operation) id() string {
	verb := map[string]string{"GET": "read", "POST": "create", "PUT": "replace", "PATCH": "change", "DELETE": "remove"}[o.method]
	if verb == "" {
		verb = strings.ToLower(o.method)
	}
	literals, ends := []string{}, false
	for _, s := range strings.Split(strings.Trim(o.template, "/"), "/") {
		if ends = strings.HasPrefix(s, "{"); !ends {
			literals = append(literals, s)
		}
	}
	if o.method == "GET" && !ends {
		verb = "list"
	}
	for i, s := range literals {
		if i < len(literals)-1 || ends || o.method == "POST" {
			s = capture.Singular(s)
		}
		verb += camel(s)
	}
	return verb
}

func camel(text string) string {
	var b strings.Builder
	for _, part := range strings.FieldsFunc(text, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9')
	}) {
		b.WriteString(strings.ToUpper(part[:1]) + part[1:])
	}
	return b.String()
}

// security are the schemes of an operation by the names that they have in the draft.
func (o *operation) security() []string {
	var out []string
	for _, s := range slices.Sorted(maps.Keys(o.schemes)) {
		if name := schemeName(s); name != "" {
			out = append(out, name)
		}
	}
	return out
}

func schemeName(s string) string {
	if header, is := strings.CutPrefix(s, "apiKey "); is {
		return camelLower(header)
	}
	if s == "bearer" || s == "basic" {
		return s
	}
	return ""
}

func camelLower(text string) string {
	text = camel(text)
	return strings.ToLower(text[:1]) + text[1:]
}

func (d *Draft) requestBody(w *writer, o *operation, records []*recordOf) {
	if o.given != nil {
		w.line(3, "requestBody:")
		w.line(4, "required: true")
		w.line(4, "content:")
		w.line(5, "application/json:")
		w.line(6, "schema:")
		w.value(7, o.given.Value)
		return
	}
	if len(o.bodies) == 0 {
		return
	}
	w.line(3, "requestBody:")
	guess := ""
	if o.bodiless == 0 && !o.needsBody {
		guess = "guess: there always was one"
	}
	w.line(4, "required: %v%s", o.bodiless == 0, remark(guess))
	w.line(4, "content:")
	for _, media := range slices.Sorted(maps.Keys(o.bodies)) {
		b := o.bodies[media]
		w.line(5, "%s:", document.Scalar(media))
		if b.node == nil {
			w.line(6, "schema: {}")
			continue
		}
		if r := recordFor(records, o, media); r != nil {
			w.line(6, "schema: { $ref: '#/components/schemas/%s' }", r.name)
			continue
		}
		w.line(6, "schema:")
		w.schema(7, b.node, d.factsIn(records, o), "", false)
	}
}

func (d *Draft) responses(w *writer, o *operation, records []*recordOf) {
	statuses := slices.DeleteFunc(o.statuses(), func(s int) bool {
		return s == http.StatusMethodNotAllowed || s == http.StatusTooManyRequests || s >= 500
	})
	if len(statuses) == 0 {
		w.line(4, "2XX: { description: Accepted. }%s", remark("guess: no answer was seen"))
		return
	}
	problems := d.problems()
	for _, s := range statuses {
		text := words(s)
		by := o.answers[s]
		if len(by) == 0 {
			w.line(4, "'%d': { description: %s }", s, document.Scalar(text+"."))
			continue
		}
		w.line(4, "'%d':", s)
		w.line(5, "description: %s", document.Scalar(text+"."))
		w.line(5, "content:")
		for _, media := range slices.Sorted(maps.Keys(by)) {
			n := by[media]
			name := ""
			if r := recordAt(records, o); succeeded(s) && r != nil && media == recordMedia && r.covers(n) {
				name = r.name
			} else if i := slices.IndexFunc(problems, func(p shared) bool { return s >= 400 && p.media == media && n.types["object"] > 0 }); i >= 0 {
				name = problems[i].name
			}
			switch {
			case name != "":
				w.line(6, "%s: { schema: { $ref: '#/components/schemas/%s' } }", document.Scalar(media), name)
			case n.seen == 0:
				w.line(6, "%s: {}", document.Scalar(media))
			default:
				w.line(6, "%s:", document.Scalar(media))
				w.line(7, "schema:")
				w.schema(8, n, nil, "", true)
			}
		}
	}
}

// words are what a status says.
func words(status int) string {
	if status == http.StatusUnprocessableEntity {
		return "Unprocessable Content" // its name since RFC 9110
	}
	if text := http.StatusText(status); text != "" {
		return text
	}
	return fmt.Sprintf("Status %d", status)
}
