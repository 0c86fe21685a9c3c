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

// recordOf is what several operations have as their body: that which makes a record, and
// that which replaces it.
type recordOf struct {
	name       string
	operations []*operation // the first is the one that counts
	others     []*operation // that change parts of it
	own        *node        // members that only answers have
}

// recordMedia is the media type of bodies that are taken together.
const recordMedia = "application/json"

// name is how the operation is named: POST /vessels.
func (o *operation) name() string { return o.method + " " + o.template }

// collection is the path that an operation's records lie in.
func (o *operation) collection() string {
	if i := strings.LastIndexByte(o.template, '/'); i >= 0 && strings.HasPrefix(o.template[i+1:], "{") {
		return o.template[:i]
	}
	return o.template
}

// records finds the bodies that operations share.
func (d *Draft) records() []*recordOf {
	var out []*recordOf
	byCollection := map[string]*recordOf{}
	for _, method := range []string{http.MethodPost, http.MethodPut, http.MethodPatch} {
		for _, o := range d.operations {
			if o.probed != nil { // what it enforces is its own
				continue
			}
			b := o.bodies[recordMedia]
			if o.method != method || o.given != nil {
				continue
			}
			at := o.collection()
			r := byCollection[at]
			if method == http.MethodPatch {
				if r != nil {
					r.others = append(r.others, o)
				}
				continue
			}
			if b == nil || b.node == nil || len(b.node.members) == 0 {
				continue
			}
			if r == nil {
				r = &recordOf{name: d.nameOf(at, out)}
				byCollection[at] = r
				out = append(out, r)
			} else if !alike(r.operations[0].bodies[recordMedia].node, b.node) {
				continue
			}
			r.operations = append(r.operations, o)
		}
	}
	for _, r := range out {
		r.own = r.answered()
	}
	return out
}

// nameOf is the name of a collection's records, which no other has.
func (d *Draft) nameOf(collection string, have []*recordOf) string {
	last := collection[strings.LastIndexByte(collection, '/')+1:]
	name := camel(capture.Singular(last))
	if name == "" {
		name = "Record"
	}
	base := name
	for n := 2; slices.ContainsFunc(have, func(r *recordOf) bool { return r.name == name }) || slices.ContainsFunc(d.schemas, func(s Schema) bool { return s.Name == name }); n++ {
		name = fmt.Sprint(base, n)
	}
	return name
}

// alike reports whether two bodies have most members in common.
func alike(a, b *node) bool {
	common := 0
	for name := range b.members {
		if a.members[name] != nil {
			common++
		}
	}
	return common*10 >= len(a.members)*6
}

func recordFor(records []*recordOf, o *operation, media string) *recordOf {
	for _, r := range records {
		if media == recordMedia && slices.Contains(r.operations, o) {
			return r
		}
	}
	return nil
}

// recordAt is the record that an operation's collection has; nil where there is none.
func recordAt(records []*recordOf, o *operation) *recordOf {
	for _, r := range records {
		if r.operations[0].collection() == o.collection() {
			return r
		}
	}
	return nil
}

// statuses are those that an operation answered with, in order.
func (o *operation) statuses() []int {
	return slices.Sorted(maps.Keys(o.answers))
}

// answered are the members of a record that answers have, and requests do not.
func (r *recordOf) answered() *node {
	out := newNode()
	body := r.operations[0].bodies[recordMedia].node
	for _, o := range r.operations {
		for _, status := range o.statuses() {
			n := o.answers[status][recordMedia]
			if !succeeded(status) || n == nil || n.types["object"] == 0 {
				continue
			}
			for _, name := range n.order {
				if body.members[name] == nil && out.members[name] == nil && n.members[name].seen*2 >= n.seen {
					out.members[name] = n.members[name]
					out.order = append(out.order, name)
				}
			}
		}
	}
	return out
}

// factsIn looks up the rules of an operation's fields: where there is a record, also those
// that other operations enforce.
func (d *Draft) factsIn(records []*recordOf, o *operation) func(string, *node) facts {
	var r *recordOf
	var others []*operation
	for _, one := range records {
		if slices.Contains(one.operations, o) || slices.Contains(one.others, o) {
			r = one
		}
	}
	if r != nil {
		for _, other := range slices.Concat(r.operations, r.others) {
			if other != o {
				others = append(others, other)
			}
		}
	}
	return func(pointer string, n *node) facts {
		if o.probed != nil && o.probed.doubted {
			return facts{types: n.facts().types}
		}
		if o.probed != nil {
			return n.exact()
		}
		f := n.facts()
		f.required = f.required && (o.method != http.MethodPatch || f.sure["required"]) // a change may leave anything out
		for _, other := range others {
			for _, media := range slices.Sorted(maps.Keys(other.bodies)) {
				b := other.bodies[media]
				if b.node == nil {
					continue
				}
				if m, _, _ := b.node.at(strings.ReplaceAll(pointer, "/*", "/0")); m != nil && m.seen > 0 {
					theirs := m.facts()
					if o.method == http.MethodPatch || other.method == http.MethodPatch {
						theirs.required, theirs.sure["required"] = false, false
					}
					f = f.with(theirs, other.name())
				}
			}
		}
		return f
	}
}

// components writes what operations share.
func (d *Draft) components(w *writer, records []*recordOf) {
	problems := d.problems()
	schemes := d.schemes()
	if len(records)+len(d.schemas)+len(problems)+len(schemes) == 0 {
		return
	}
	w.line(0, "components:")
	if len(schemes) > 0 {
		w.line(1, "securitySchemes:")
		for _, s := range schemes {
			switch header, isKey := strings.CutPrefix(s, "apiKey "); {
			case isKey:
				w.line(2, "%s: { type: apiKey, in: header, name: %s }", schemeName(s), document.Scalar(header))
			default:
				w.line(2, "%s: { type: http, scheme: %s }", schemeName(s), s)
			}
		}
	}
	if len(records)+len(d.schemas)+len(problems) == 0 {
		return
	}
	w.line(1, "schemas:")
	for _, r := range records {
		d.record(w, r, records)
	}
	for _, s := range d.schemas {
		w.line(2, "%s:%s", document.Scalar(s.Name), remark("from "+s.From))
		w.value(3, s.Value)
	}
	for _, p := range problems {
		w.line(2, "%s:", p.name)
		w.schema(3, p.node, nil, "", true)
	}
}

// record writes the schema of a record.
func (d *Draft) record(w *writer, r *recordOf, records []*recordOf) {
	first := r.operations[0]
	var from []string
	for _, o := range r.operations {
		from = append(from, o.name())
	}
	w.line(2, "%s:%s", r.name, remark("the body of "+strings.Join(from, " and ")))
	body := first.bodies[recordMedia].node
	whole := *body
	whole.members, whole.order = maps.Clone(body.members), slices.Concat(r.own.order, body.order)
	maps.Copy(whole.members, r.own.members)
	of := d.factsIn(records, first)
	w.own = r.own
	w.schema(3, &whole, func(pointer string, n *node) facts {
		if name := strings.TrimPrefix(pointer, "/"); r.own.members[name] == n {
			return n.facts().kindOnly()
		}
		return of(pointer, n)
	}, "", false)
	w.own = nil
}

// shared is the schema of error answers in one media type.
type shared struct {
	name, media string
	node        *node
}

// covers reports whether an answer has nothing but what is known of the record.
func (r *recordOf) covers(n *node) bool {
	if n.types["object"] != n.seen || n.seen == 0 {
		return false
	}
	body := r.operations[0].bodies[recordMedia].node
	for _, name := range n.order {
		if body.members[name] == nil && r.own.members[name] == nil {
			return false
		}
	}
	return true
}

// problems are the error answers, by media type.
func (d *Draft) problems() []shared {
	var out []shared
	if d.alone {
		return nil
	}
	for _, media := range []string{"application/problem+json", "application/json"} {
		n := newNode()
		for _, o := range d.operations {
			for _, status := range o.statuses() {
				if by := o.answers[status]; status >= 400 && by[media] != nil && by[media].types["object"] > 0 {
					n.join(by[media])
				}
			}
		}
		if n.seen > 0 {
			name := map[string]string{"application/problem+json": "Problem", "application/json": "Failure"}[media]
			out = append(out, shared{name, media, n})
		}
	}
	return out
}

// join adds up what two nodes saw, as far as types and presence go.
func (n *node) join(other *node) {
	n.seen += other.seen
	for kind, k := range other.types {
		n.types[kind] += k
	}
	for name, is := range other.formats {
		n.startFormats()
		n.formats[name] = n.formats[name] && is
	}
	if other.item != nil {
		if n.item == nil {
			n.item = newNode()
		}
		n.item.join(other.item)
	}
	for _, name := range other.order {
		if m := n.member(name); m != nil {
			m.join(other.members[name])
		}
	}
	for _, m := range n.members {
		m.holders = n.seen
	}
}

// schemes are the security schemes that were met.
func (d *Draft) schemes() []string {
	var out []string
	for _, o := range d.operations {
		for s := range o.schemes {
			if schemeName(s) != "" && !slices.Contains(out, s) {
				out = append(out, s)
			}
		}
	}
	slices.Sort(out)
	return out
}

// value writes a JSON value as a block.
func (w *writer) value(depth int, v any) {
	switch v := v.(type) {
	case map[string]any:
		if len(v) == 0 {
			w.line(depth, "{}")
		}
		for _, name := range instance.Names(v) {
			w.entry(depth, document.Scalar(name)+":", v[name])
		}
	case []any:
		if len(v) == 0 {
			w.line(depth, "[]")
		}
		for _, e := range v {
			w.entry(depth, "-", e)
		}
	default:
		w.line(depth, "%s", scalar(v))
	}
}

func (w *writer) entry(depth int, head string, v any) {
	switch c := v.(type) {
	case map[string]any:
		if len(c) > 0 {
			w.line(depth, "%s", head)
			w.value(depth+1, v)
			return
		}
		w.line(depth, "%s {}", head)
	case []any:
		if len(c) > 0 {
			w.line(depth, "%s", head)
			w.value(depth+1, v)
			return
		}
		w.line(depth, "%s []", head)
	default:
		w.line(depth, "%s %s", head, scalar(v))
	}
}

func scalar(v any) string {
	if text, is := v.(string); is {
		return plainText(text)
	}
	return string(instance.Encode(v))
}
