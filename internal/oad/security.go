package oad

import (
	"slices"
	"strings"

	"obiter/internal/instance"
)

// Scheme is a security scheme of the description.
type Scheme struct {
	Name string // under components/securitySchemes
	Kind string // basic, bearer, apiKey, or empty for what is not carried in a request's fields
	In   string // of an apiKey: header, query or cookie
	Key  string // of an apiKey: the name it is sent under; else Authorization
}

// Schemes are the security schemes of the description, by name in alphabetical
// order. Tokens of oauth2 and openIdConnect are sent as bearer tokens (RFC 6750).
func (d *Document) Schemes() []Scheme {
	at := Location{d.base, "/components/securitySchemes"}
	_, v, err := d.Resolve(at)
	all, _ := v.(map[string]any)
	if err != nil {
		return nil
	}
	var out []Scheme
	for _, name := range instance.Names(all) {
		_, v, err := d.Resolve(at.Under(name))
		m, ok := v.(map[string]any)
		if err != nil || !ok {
			continue
		}
		s := Scheme{Name: name, In: "header", Key: "Authorization"}
		kind, _ := m["type"].(string)
		switch kind {
		case "http":
			scheme, _ := m["scheme"].(string)
			if scheme = strings.ToLower(scheme); scheme == "basic" || scheme == "bearer" {
				s.Kind = scheme
			}
		case "oauth2", "openIdConnect":
			s.Kind = "bearer"
		case "apiKey":
			s.In, _ = m["in"].(string)
			s.Key, _ = m["name"].(string)
			if slices.Contains([]string{"header", "query", "cookie"}, s.In) && s.Key != "" {
				s.Kind = "apiKey"
			}
		}
		out = append(out, s)
	}
	return out
}

// security reads the requirements of an operation, or of the document: the
// names of the schemes that are asked for together, one list for each way. Nil
// where nothing is asked for, or need not be (OpenAPI 3.1.1, section 4.8.30).
func (d *Document) security(operation map[string]any) [][]string {
	v, own := operation["security"]
	if !own {
		top, _ := d.files[d.base].value.(map[string]any)
		v = top["security"]
	}
	list, _ := v.([]any)
	var out [][]string
	for _, e := range list {
		m, ok := e.(map[string]any)
		if !ok {
			continue
		}
		if len(m) == 0 {
			return nil
		}
		out = append(out, instance.Names(m))
	}
	return out
}

// Tree is the file of a location with its places.
func (d *Document) Tree(loc Location) *Tree {
	f := d.files[loc.File]
	if f == nil {
		f = d.files[d.base]
	}
	return &Tree{f}
}
