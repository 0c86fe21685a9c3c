package oad

import (
	"slices"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/input/document"
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
	at := document.Location{File: d.Main, Pointer: "/components/securitySchemes"}
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
// names of the schemes that are required together, one list for each way. Nil
// where nothing is required, or need not be (OpenAPI 3.1.1, section 4.8.30).
func (d *Document) security(operation map[string]any) [][]string {
	v, own := operation["security"]
	if !own {
		top, _ := d.File(d.Main).Value.(map[string]any)
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

// Link tells which parameters of another operation an answer gives (OpenAPI
// 3.1.1, section 4.8.20).
type Link struct {
	OperationID string
	Parameters  map[string]string // by name: runtime expressions; others are left out
}

// Links are those of an operation's successes, in the order of their names.
func (d *Document) Links(o Operation) []Link {
	var out []Link
	for _, r := range o.Responses {
		if !strings.HasPrefix(r.Status, "2") {
			continue
		}
		at := o.at.Under("responses", r.Status)
		v, _ := d.At(at)
		response, _ := v.(map[string]any)
		links, _ := response["links"].(map[string]any)
		for _, name := range instance.Names(links) {
			link, ok := links[name].(map[string]any)
			if ref, is := link["$ref"].(string); is {
				if to, err := d.Target(at, ref); err == nil {
					v, _ := d.At(to)
					link, ok = v.(map[string]any)
				}
			}
			if !ok {
				continue
			}
			l := Link{Parameters: map[string]string{}}
			l.OperationID, _ = link["operationId"].(string)
			given, _ := link["parameters"].(map[string]any)
			for k, v := range given {
				if text, is := v.(string); is {
					l.Parameters[strings.TrimPrefix(k, "path.")] = text
				}
			}
			out = append(out, l)
		}
	}
	return out
}
