package draft

import (
	"fmt"
	"io"
	"math/big"
	"slices"
	"sort"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/input/document"
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

// schema writes a schema as a block. The rules of its fields are looked up by their
// pointers; nil: those of the node. Of answers nothing is required that may be missing,
// and nothing is limited.
func (w *writer) schema(depth int, n *node, of func(pointer string, n *node) facts, at string, answer bool) {
	f := n.facts()
	if of != nil {
		f = of(at, n)
	}
	if answer {
		f = f.kindOnly()
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
	if f.has("additionalProperties") {
		w.line(depth, "additionalProperties: false")
	}
	inner := map[string]facts{}
	for name, m := range n.members {
		if m.seen > 0 {
			if inner[name] = m.facts(); of != nil {
				inner[name] = of(instance.Join(at, name), m)
			}
		}
	}
	if !answer {
		w.required(depth, n, inner)
	}
	w.line(depth, "properties:")
	for _, name := range n.order {
		if mf, has := inner[name]; has {
			w.member(depth+1, name, n.members[name], mf, of, at, answer)
		}
	}
}

// required writes which members have to be there. Where leaving one out was refused, the
// others may be left out; where none ever was, all that were always there are a guess.
func (w *writer) required(depth int, n *node, inner map[string]facts) {
	sure := slices.ContainsFunc(n.order, func(name string) bool { return inner[name].sure["required"] })
	var names []string
	for _, name := range n.order {
		if f := inner[name]; f.required && (f.sure["required"] || !sure) {
			names = append(names, document.Scalar(name))
		}
	}
	guess := ""
	if !sure {
		guess = "guess: they were always there"
	}
	if len(names) > 0 {
		w.line(depth, "required: [%s]%s", strings.Join(names, ", "), remark(guess))
	}
}

// member writes one property.
func (w *writer) member(depth int, name string, m *node, f facts, of func(string, *node) facts, at string, answer bool) {
	key := document.Scalar(name)
	isOwn := w.own != nil && at == "" && w.own.members[name] == m
	switch {
	case isOwn:
		list := append(w.keywords(f, m, "", false), "readOnly: true")
		w.line(depth, "%s: { %s }%s", key, strings.Join(list, ", "), remark("guess: only answers have it"))
	case slices.Contains(f.types, "object") && len(m.members) > 0, slices.Contains(f.types, "array") && m.item != nil:
		w.line(depth, "%s:%s", key, remark(w.remarks(f, answer)))
		w.schema(depth+1, m, of, instance.Join(at, name), answer)
	case answer:
		w.line(depth, "%s: %s", key, w.flow(f.kindOnly(), m, name, false))
	default:
		w.line(depth, "%s: %s%s", key, w.flow(f, m, name, true), remark(w.remarks(f, false)))
	}
}

func (w *writer) array(depth int, n *node, f facts, of func(string, *node) facts, at string, answer bool) {
	w.line(depth, "type: %s", kindsOf(f.types))
	for _, k := range []string{"minItems", "maxItems", "uniqueItems"} {
		if f.has(k) {
			w.line(depth, "%s", keyword(k, f.rules[k]))
		}
	}
	if n.item.seen == 0 {
		w.line(depth, "items: {}")
		return
	}
	w.line(depth, "items:")
	w.schema(depth+1, n.item, of, at+"/*", answer)
}

func kindsOf(types []string) string {
	var out []string
	for _, t := range types {
		if t == "null" { // the word, and not nothing
			t = "'null'"
		}
		out = append(out, t)
	}
	if len(out) == 1 {
		return out[0]
	}
	return "[" + strings.Join(out, ", ") + "]"
}

// keywords are the rules of a field that is neither an object nor a list, as YAML.
func (w *writer) keywords(f facts, n *node, name string, example bool) []string {
	var out []string
	if len(f.types) > 0 {
		out = append(out, "type: "+kindsOf(f.types))
	}
	if isSecret(name) {
		return append(out, "format: password", "writeOnly: true")
	}
	for _, k := range keywords {
		if f.has(k) && k != "additionalProperties" && k != "uniqueItems" {
			out = append(out, keyword(k, f.rules[k]))
		}
	}
	if text, has := w.example(n, f); example && has && !f.has("enum") {
		out = append(out, "examples: ["+text+"]")
	}
	return out
}

// keyword is a rule as a member of a schema.
func keyword(name string, v any) string {
	text := fmt.Sprint(v)
	switch v := v.(type) {
	case bound:
		if text = number(v.value); v.exclusive {
			name = "exclusive" + strings.ToUpper(name[:1]) + name[1:]
		}
	case *big.Rat:
		text = number(v)
	case []string:
		list := make([]string, len(v))
		for i := range v {
			list[i] = plainText(v[i])
		}
		text = "[" + strings.Join(list, ", ") + "]"
	case string:
		if name == "pattern" {
			text = quoted(v)
		}
	}
	return name + ": " + text
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

// block is the same where it stands alone on its line.
func (w *writer) block(f facts, n *node, at string, answer bool) string {
	if list := w.keywords(f, n, instance.Last(at), !answer); len(list) == 1 {
		return list[0]
	}
	return w.flow(f, n, instance.Last(at), !answer)
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

// quoted is a pattern as a scalar, in which its backslashes are themselves.
func quoted(pattern string) string {
	if strings.ContainsFunc(pattern, instance.Unseen) {
		return document.Scalar(pattern)
	}
	return "'" + strings.ReplaceAll(pattern, "'", "''") + "'"
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
	if f.has("enum") && !f.sure["enum"] {
		out = append(out, "guess: no other value was seen")
	}
	return strings.Join(out, "; ")
}
