package layout

import (
	"strconv"

	"obiter/internal/core/instance"
)

// Layout is a layout that is configured, so that it need not be learned. Fields
// are named in the entries of a list, in one object, or by the keys of a map,
// which may hold maps as the request does.
type Layout struct {
	Kind    Kind   `json:"kind,omitempty"` // empty: List
	List    string `json:"list"`           // JSON Pointer to the list, the object or the map in an answer
	Field   string `json:"field"`          // and to the name in an entry; not of a map
	Message string `json:"message,omitempty"`

	Notation Notation `json:"notation,omitempty"` // how names are written; empty: in any way
	Prefix   string   `json:"prefix,omitempty"`   // JSON Pointer that all names begin with, and that is not in the request
	OneBased bool     `json:"oneBased,omitempty"` // the first entry of a list is number 1
	// MediaType is that of an API which has a layout of its own on purpose, in
	// place of problem documents; empty: problem documents are expected.
	MediaType string `json:"mediaType,omitempty"`
	Learned   bool   `json:"learned,omitempty"` // where names stand is not configured
}

// Kind is what a configured layout names fields in.
type Kind string

// The kinds.
const (
	List   Kind = "list"
	Object Kind = "object"
	Map    Kind = "map"
)

// OwnMediaType is the MediaType; "" where nothing is configured.
func (k *Layout) OwnMediaType() string {
	if k == nil {
		return ""
	}
	return k.MediaType
}

// ReadAs finds the field errors of an answer in a known layout.
func ReadAs(doc any, k Layout, v *Vocabulary) Reading {
	found, _ := instance.Get(doc, k.List)
	r := Reading{Where: k.List + k.Field}
	switch k.Kind {
	case Map:
		r.Where = k.List + "/*"
		if m, ok := found.(map[string]any); ok {
			s := search{vocabulary: v}
			s.collect(&r, k.List, nil, m, instance.Names(m), false, 0)
		}
	case Object:
		r.entry(k, k.List, found, v)
	default:
		r.Where = k.List + "/*" + k.Field
		list, _ := found.([]any)
		for i, e := range list[:min(len(list), maxNodes)] {
			r.entry(k, instance.Join(k.List, strconv.Itoa(i)), e, v)
		}
	}
	prefix, _ := instance.Split(k.Prefix)
	for i := range r.Fields {
		n := &r.Fields[i]
		n.Name = n.Name.translated(prefix, k.OneBased)
		n.InRequest = v.Has(n.Name)
	}
	return r
}

// entry reads one object of a known layout.
func (r *Reading) entry(k Layout, at string, e any, v *Vocabulary) {
	value, _ := instance.Get(e, k.Field)
	var name Name
	switch value := value.(type) {
	case string:
		name = ParseName(value)
	case []any:
		segments, ok := SegmentsName(value)
		if !ok {
			return
		}
		name = segments
	default:
		return
	}
	words := ""
	if entry, ok := e.(map[string]any); ok && k.Message == "" {
		words = message(entry, instance.Last(k.Field))
	} else {
		said, _ := instance.Get(e, k.Message)
		words, _ = said.(string)
	}
	r.Fields = append(r.Fields, Named{Name: name, Message: words, At: at, InRequest: v.Has(name)})
}
