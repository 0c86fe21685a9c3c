package draft

import (
	"errors"
	"slices"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/input/document"
)

// Into is a description in YAML with the operations added that it does not have, and
// their names. Nothing that is there is changed, comments included. Errors are
// *document.Error, but for a document that cannot be added to in that way.
func (d *Draft) Into(name string, src []byte) (text []byte, added []string, err error) {
	file, err := document.Read(name, src)
	if err != nil {
		return nil, nil, err
	}
	top, _ := file.Value.(map[string]any)
	version, _ := top["openapi"].(string)
	paths, _ := top["paths"].(map[string]any)
	switch {
	case !strings.HasPrefix(version, "3."):
		return nil, nil, file.Fail("", "name an OpenAPI document, or write the draft by itself with --out", "this is no OpenAPI 3 document, so nothing can be added to it")
	case strings.HasPrefix(strings.TrimSpace(string(src)), "{"):
		return nil, nil, file.Fail("", "write the draft by itself with --out, and merge the two", "this is JSON, and operations are added to YAML alone")
	case len(paths) == 0:
		return nil, nil, file.Fail("/paths", "write one operation there first, or the draft by itself with --out", "there are no paths to add to")
	}
	e := &editor{file: file, lines: strings.SplitAfter(string(src), "\n"), inserts: map[int][]string{}}
	byShape := map[string]string{}
	for p := range paths {
		byShape[shapeOf(p)] = p
	}
	known := func(method, template string) bool {
		item, _ := paths[byShape[shapeOf(template)]].(map[string]any)
		return item[strings.ToLower(method)] != nil || item["$ref"] != nil
	}
	d.alone = true
	defer func() { d.alone = false }()
	var templates []string
	for _, o := range d.operations {
		if !known(o.method, o.template) {
			added = append(added, o.name())
			if have := byShape[shapeOf(o.template)]; have != "" {
				w := &writer{secrets: d.secrets}
				d.write(w, o, nil)
				e.under(instance.Join("/paths", have), w.b.String(), 2)
			} else if !slices.Contains(templates, o.template) {
				templates = append(templates, o.template)
			}
		}
	}
	if len(added) == 0 {
		return src, nil, nil
	}
	if len(templates) > 0 {
		w := &writer{secrets: d.secrets}
		d.paths(w, nil, func(_, template string) bool { return !slices.Contains(templates, template) })
		e.under("/paths", w.b.String(), 1)
	}
	text = e.text()
	if !grown(name, text, file.Value) {
		return nil, nil, errors.New(name + " is written in a way that nothing can be added to; write the draft by itself with --out")
	}
	slices.Sort(added)
	return text, added, nil
}

// shapeOf is a template whatever its parameters are called.
func shapeOf(template string) string {
	var out []string
	for _, s := range strings.Split(template, "/") {
		if strings.HasPrefix(s, "{") {
			s = "{}"
		}
		out = append(out, s)
	}
	return strings.Join(out, "/")
}

// editor adds lines to a document.
type editor struct {
	file    *document.File
	lines   []string
	inserts map[int][]string // before which line, from 0
}

// under adds a block at the end of a mapping; depth is how far the block is indented.
func (e *editor) under(pointer, block string, depth int) {
	members := e.file.Names(pointer)
	_, column := e.file.At(instance.Join(pointer, members[0]))
	at := e.end(pointer)
	for at > 0 && (strings.TrimSpace(e.lines[at-1]) == "" || strings.HasPrefix(strings.TrimSpace(e.lines[at-1]), "#")) {
		at--
	}
	ending := "\n"
	if strings.HasSuffix(e.lines[0], "\r\n") {
		ending = "\r\n"
	}
	for line := range strings.Lines(block) {
		line = strings.TrimPrefix(strings.TrimSuffix(line, "\n"), strings.Repeat("  ", depth))
		e.inserts[at] = append(e.inserts[at], strings.Repeat(" ", column-1)+line+ending)
	}
}

// end is the line behind a mapping, from 0: that of the next member of what it is in, or
// of what that is in.
func (e *editor) end(pointer string) int {
	for at := pointer; at != ""; at = instance.Parent(at) {
		line, _ := e.file.At(at)
		best := 0
		for _, sibling := range e.file.Names(instance.Parent(at)) {
			if l, _ := e.file.At(instance.Join(instance.Parent(at), sibling)); l > line && (best == 0 || l < best) {
				best = l
			}
		}
		if best > 0 {
			return best - 1
		}
	}
	return len(e.lines)
}

func (e *editor) text() []byte {
	var b strings.Builder
	for i := 0; i <= len(e.lines); i++ {
		if list := e.inserts[i]; len(list) > 0 {
			if text := b.String(); text != "" && !strings.HasSuffix(text, "\n") {
				b.WriteString("\n")
			}
			b.WriteString(strings.Join(list, ""))
		}
		if i < len(e.lines) {
			b.WriteString(e.lines[i])
		}
	}
	return []byte(b.String())
}

// grown reports whether a text still holds all of a value.
func grown(name string, text []byte, was any) bool {
	file, err := document.Read(name, text)
	return err == nil && holds(file.Value, was)
}

func holds(v, was any) bool {
	object, is := was.(map[string]any)
	now, alike := v.(map[string]any)
	if !is || !alike {
		return instance.Equal(v, was)
	}
	for name, m := range object {
		if inner, has := now[name]; !has || !holds(inner, m) {
			return false
		}
	}
	return true
}
