package draft

import (
	"fmt"
	"io"
	"math/big"
	"net/http"
	"slices"
	"sort"
	"strings"

	"obiter/internal/capture"
	"obiter/internal/document"
	"obiter/internal/instance"
)

// writer writes lines of YAML.
type writer struct {
	b       strings.Builder
	secrets interface{ Redact(string) string }
	own     *node // members of the record in hand that only answers have; may be nil
}

func (w *writer) line(depth int, format string, args ...any) {
	w.b.WriteString(strings.Repeat("  ", depth) + fmt.Sprintf(format, args...) + "\n")
}

// remark is a comment at the end of a line; nothing for nothing.
func remark(text string) string {
	if text == "" {
		return ""
	}
	return "   # " + document.Comment(text)
}

// Write writes the description: OpenAPI 3.1 in YAML, with comments that tell where each
// part comes from and what is a guess.
func (d *Draft) Write(out io.Writer) error {
	w := &writer{secrets: d.secrets}
	server := d.server
	if server == "" {
		server = "http://localhost:8080"
	}
	w.line(0, "# Drafted by obiter. What is marked as a guess was never seen to be refused: look at it.")
	w.line(0, "openapi: 3.1.0")
	w.line(0, "info:")
	w.line(1, "title: %s", document.Scalar("API at "+strings.TrimPrefix(strings.TrimPrefix(server, "https://"), "http://")))
	w.line(1, "version: drafted")
	w.line(0, "servers:")
	w.line(1, "- url: %s", document.Scalar(server))
	records := d.records()
	if len(d.operations) == 0 {
		w.line(0, "paths: {}")
	} else {
		w.line(0, "paths:")
		d.paths(w, records, nil)
	}
	d.components(w, records)
	_, err := io.WriteString(out, w.b.String())
	return err
}

// paths writes the operations, but for those that are left out.
func (d *Draft) paths(w *writer, records []*recordOf, without func(method, template string) bool) {
	var templates []string
	byTemplate := map[string][]*operation{}
	for _, o := range d.operations {
		if without != nil && without(o.method, o.template) {
			continue
		}
		if byTemplate[o.template] == nil {
			templates = append(templates, o.template)
		}
		byTemplate[o.template] = append(byTemplate[o.template], o)
	}
	slices.Sort(templates)
	for _, t := range templates {
		w.line(1, "%s:", plainPath(t))
		operations := byTemplate[t]
		sort.SliceStable(operations, func(i, j int) bool { return rank(operations[i].method) < rank(operations[j].method) })
		d.pathParameters(w, operations)
		for _, o := range operations {
			d.write(w, o, records)
		}
	}
}

// plainPath is a template as a key.
func plainPath(template string) string {
	if strings.Trim(template, "/{}._-~ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789") == "" {
		return template
	}
	return document.Scalar(template)
}

func rank(method string) int {
	return slices.Index([]string{"GET", "POST", "PUT", "PATCH", "DELETE"}, method)
}

// names are the parameters of a template in their order.
func names(template string) []string {
	var out []string
	for _, s := range strings.Split(template, "/") {
		if name, is := strings.CutPrefix(s, "{"); is {
			out = append(out, strings.TrimSuffix(name, "}"))
		}
	}
	return out
}

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
			f := n.facts()
			f.required, f.minLength, f.maxLength, f.minimum, f.maximum, f.enum = false, nil, nil, nil, nil, nil
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
		f.minimum, f.maximum, f.multipleOf = nil, nil, nil
	} else {
		f.minLength, f.maxLength, f.enum, f.format = nil, nil, nil, ""
	}
	return f
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
	for _, name := range slices.Sorted(mapKeys(o.query)) {
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
	for _, s := range slices.Sorted(mapKeys(o.schemes)) {
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
	for _, media := range slices.Sorted(mapKeys(o.bodies)) {
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
		w.schema(7, b.node, d.factsIn(records, o, media, ""), "", false)
	}
}

func (d *Draft) responses(w *writer, o *operation, records []*recordOf) {
	var statuses []int
	for s := range o.answers {
		if s != http.StatusMethodNotAllowed && s != http.StatusTooManyRequests && s < 500 {
			statuses = append(statuses, s)
		}
	}
	slices.Sort(statuses)
	if len(statuses) == 0 {
		usual := "200"
		if o.method == http.MethodPost {
			usual = "201"
		}
		w.line(4, "'%s': { description: Accepted. }%s", usual, remark("guess"))
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
		for _, media := range slices.Sorted(mapKeys(by)) {
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

// schema writes a schema as a block. The rules of its fields are looked up by their
// pointers; nil: those of the node. Of answers nothing is required that may be missing,
// and nothing is limited.
func (w *writer) schema(depth int, n *node, of func(pointer string, n *node) facts, at string, answer bool) {
	f := n.facts()
	if of != nil {
		f = of(at, n)
	}
	if answer {
		f = facts{types: f.types, sure: map[string]bool{}, required: f.required, format: f.format}
	}
	if !slices.Contains(f.types, "object") || len(n.members) == 0 {
		if slices.Contains(f.types, "array") && n.item != nil {
			w.array(depth, n, f, of, at, answer)
			return
		}
		w.line(depth, "%s%s", w.block(f, n, at, answer), remark(w.remarks(f, answer)))
		return
	}
	w.line(depth, "type: %s", kindsOf(f.types))
	if f.closed {
		w.line(depth, "additionalProperties: false")
	}
	var required []string
	inner := map[string]facts{}
	for _, name := range n.order {
		m := n.members[name]
		if m.seen == 0 {
			continue
		}
		mf := m.facts()
		if of != nil {
			mf = of(instance.Join(at, name), m)
		}
		if inner[name] = mf; mf.required {
			required = append(required, document.Scalar(name))
		}
	}
	if !answer && slices.ContainsFunc(n.order, func(name string) bool { return inner[name].sure["required"] }) {
		required = slices.DeleteFunc(required, func(scalar string) bool { // where some were refused to be left out, the others may be
			return !slices.ContainsFunc(n.order, func(name string) bool {
				return document.Scalar(name) == scalar && inner[name].sure["required"]
			})
		})
	}
	if len(required) > 0 && !answer {
		guess := ""
		if !slices.ContainsFunc(n.order, func(name string) bool { return inner[name].sure["required"] }) {
			guess = "guess: they were always there"
		}
		w.line(depth, "required: [%s]%s", strings.Join(required, ", "), remark(guess))
	}
	w.line(depth, "properties:")
	for _, name := range n.order {
		m := n.members[name]
		mf, has := inner[name]
		if !has {
			continue
		}
		pointer := instance.Join(at, name)
		isNested := slices.Contains(mf.types, "object") && len(m.members) > 0 || slices.Contains(mf.types, "array") && m.item != nil
		if isNested && !(w.own != nil && w.own.members[name] == m && at == "") {
			w.line(depth+1, "%s:%s", document.Scalar(name), remark(w.remarks(mf, answer)))
			w.schema(depth+2, m, of, pointer, answer)
			continue
		}
		if answer {
			mf = facts{types: mf.types, format: mf.format, sure: map[string]bool{}}
		}
		if w.own != nil && w.own.members[name] == m && at == "" {
			list := append(w.keywords(mf, m, "", false), "readOnly: true")
			w.line(depth+1, "%s: { %s }%s", document.Scalar(name), strings.Join(list, ", "), remark("guess: only answers have it"))
			continue
		}
		w.line(depth+1, "%s: %s%s", document.Scalar(name), w.flow(mf, m, name, !answer), remark(w.remarks(mf, answer)))
	}
}

func (w *writer) array(depth int, n *node, f facts, of func(string, *node) facts, at string, answer bool) {
	w.line(depth, "type: %s", kindsOf(f.types))
	if f.minItems != nil {
		w.line(depth, "minItems: %d", *f.minItems)
	}
	if f.maxItems != nil {
		w.line(depth, "maxItems: %d", *f.maxItems)
	}
	if f.unique {
		w.line(depth, "uniqueItems: true")
	}
	if n.item.seen == 0 {
		w.line(depth, "items: {}")
		return
	}
	w.line(depth, "items:")
	w.schema(depth+1, n.item, of, at+"/*", answer)
}

func kindsOf(types []string) string {
	if len(types) == 1 {
		return types[0]
	}
	var out []string
	for _, t := range types {
		if t == "null" {
			t = "'null'"
		}
		out = append(out, t)
	}
	return "[" + strings.Join(out, ", ") + "]"
}

// keywords are the rules of a field that is neither an object nor a list, as YAML.
func (w *writer) keywords(f facts, n *node, name string, example bool) []string {
	var out []string
	if len(f.types) > 0 {
		out = append(out, "type: "+kindsOf(f.types))
	}
	if f.format != "" {
		out = append(out, "format: "+f.format)
	}
	if isSecret(name) {
		return append(out, "format: password", "writeOnly: true")
	}
	for _, k := range []struct {
		name string
		n    *int
	}{{"minLength", f.minLength}, {"maxLength", f.maxLength}, {"minItems", f.minItems}, {"maxItems", f.maxItems}} {
		if k.n != nil {
			out = append(out, fmt.Sprintf("%s: %d", k.name, *k.n))
		}
	}
	for _, k := range []struct {
		name string
		b    *bound
	}{{"inimum", f.minimum}, {"aximum", f.maximum}} {
		if k.b == nil {
			continue
		}
		key := "m" + k.name
		if k.b.exclusive {
			key = "exclusiveM" + k.name
		}
		out = append(out, key+": "+number(k.b.value))
	}
	if f.constant != nil {
		out = append(out, fmt.Sprintf("const: %v", *f.constant))
	}
	if f.pattern != "" {
		out = append(out, "pattern: '"+f.pattern+"'")
	}
	if f.multipleOf != nil {
		out = append(out, "multipleOf: "+number(f.multipleOf))
	}
	if len(f.enum) > 0 {
		var list []string
		for _, v := range f.enum {
			list = append(list, plainText(v))
		}
		out = append(out, "enum: ["+strings.Join(list, ", ")+"]")
	}
	if text, has := w.example(n, f); example && has && len(f.enum) == 0 {
		out = append(out, "examples: ["+text+"]")
	}
	return out
}

func number(r *big.Rat) string { return string(instance.Number(r)) }

// flow is a schema on one line.
func (w *writer) flow(f facts, n *node, name string, example bool) string {
	list := w.keywords(f, n, name, example)
	if len(list) == 0 {
		return "{}"
	}
	return "{ " + strings.Join(list, ", ") + " }"
}

// block is the same as the lines of a block; there is one.
func (w *writer) block(f facts, n *node, at string, answer bool) string {
	list := w.keywords(f, n, instance.Last(at), !answer)
	if len(list) == 0 {
		return "{}"
	}
	if len(list) == 1 {
		return list[0]
	}
	return "{ " + strings.Join(list, ", ") + " }"
}

// maxExample is the longest text that is kept as an example, in characters.
const maxExample = 80

// example is a value that was seen.
func (w *writer) example(n *node, f facts) (string, bool) {
	var v any
	for _, kind := range []string{"string", "number", "integer", "boolean"} {
		if s, has := n.samples[kind]; has && v == nil && (slices.Contains(f.types, kind) || kind == "integer" && slices.Contains(f.types, "number")) {
			v = s
		}
	}
	switch v := v.(type) {
	case string:
		if len(v) > maxExample || strings.TrimSpace(v) == "" || w.secrets != nil && w.secrets.Redact(v) != v {
			return "", false
		}
		return plainText(v), true
	case map[string]any, []any, nil:
		return "", false
	}
	return string(instance.Encode(v)), true
}

// plainText is a text as a scalar that older readers of YAML take for a text as well, who
// read NO and off as booleans (YAML 1.1).
func plainText(text string) string {
	if slices.Contains([]string{"y", "n", "yes", "no", "on", "off", "true", "false", "null", "~"}, strings.ToLower(text)) {
		return "'" + text + "'"
	}
	return document.Scalar(text)
}

// isSecret reports whether a field's name says that its value is nobody's business.
func isSecret(name string) bool {
	plain := strings.ToLower(strings.NewReplacer("_", "", "-", "").Replace(name))
	for _, s := range []string{"password", "passwd", "passphrase", "secret", "token", "apikey", "privatekey", "pin", "cvc", "cvv"} {
		if plain == s || len(s) > 4 && strings.HasSuffix(plain, s) {
			return true
		}
	}
	return false
}

// remarks are what a reader has to know of a field's rules.
func (w *writer) remarks(f facts, answer bool) string {
	if answer {
		return ""
	}
	out := slices.Clone(f.notes)
	if len(f.enum) > 0 && !f.sure["enum"] {
		out = append(out, "guess: no other value was seen")
	}
	return strings.Join(out, "; ")
}
