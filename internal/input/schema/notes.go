package schema

import (
	"net/url"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"obiter/internal/core/instance"
)

// notes are what the document says in addition to a schema's assertions.
type notes struct {
	order     []string // names of properties in their order
	examples  []any    // example, examples, then default
	murkyNull bool
	murky     []any
	format    string // as written, known or not
	xml       XML
}

// murkyNull marks schemas whose standing on null readers dispute, murky lists other
// values of which they do.
const (
	murkyNull = "x-obiter-murky-null"
	murky     = "x-obiter-murky"
)

func (s *Set) notesOf(js *jsonschema.Schema) *notes {
	if n, ok := s.notes[js]; ok {
		return n
	}
	n := &notes{}
	s.notes[js] = n
	u, err := url.Parse(js.Location)
	if err != nil {
		return n
	}
	pointer := u.Fragment
	u.Fragment, u.RawFragment = "", ""
	doc, err := s.source.Load(u.String())
	if err != nil {
		return n
	}
	v, _ := instance.Get(doc, pointer)
	m, ok := v.(map[string]any)
	if !ok {
		return n
	}
	if properties, ok := m["properties"].(map[string]any); ok {
		n.order = s.source.Order(properties)
		if n.order == nil {
			n.order = instance.Names(properties)
		}
	}
	if v, ok := m["example"]; ok {
		n.examples = append(n.examples, v)
	}
	if list, ok := m["examples"].([]any); ok {
		n.examples = append(n.examples, list...)
	}
	if v, ok := m["default"]; ok {
		n.examples = append(n.examples, v)
	}
	n.murky, _ = m[murky].([]any)
	n.murkyNull, _ = m[murkyNull].(bool)
	if as, ok := m["xml"].(map[string]any); ok {
		n.xml.Name, _ = as["name"].(string)
		n.xml.Attribute, _ = as["attribute"].(bool)
		n.xml.Wrapped, _ = as["wrapped"].(bool)
	}
	n.format, _ = m["format"].(string)
	return n
}
