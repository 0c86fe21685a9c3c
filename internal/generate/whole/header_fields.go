package whole

import (
	"slices"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/wire"
)

// HeaderFields sends each header parameter without a value, and twice (RFC 9110, section 5.3).
func HeaderFields(r *Request) {
	object, _ := r.Values["header"].(map[string]any)
	for _, place := range r.Places {
		if place.In != "header" || !r.at(flaw.Usual) {
			continue
		}
		for _, p := range place.Params {
			v, has := object[p.Name]
			if !has || p.JSON {
				continue
			}
			pointer := instance.Join("", p.Name)
			q := r.again()
			i := slices.IndexFunc(q.Headers, func(h [2]string) bool { return h[0] == p.Name })
			if i < 0 {
				continue
			}
			q.Headers[i][1] = ""
			if !strings.EqualFold(p.Name, "User-Agent") { // empty, it is not sent
				f := exchange.Flaw{In: "header", Pointer: pointer, Rule: "empty-field", Variant: "no-value", Reason: "the header has no value"}
				r.Give(Case{f, q, object, object})
			}
			if _, isList := v.([]any); isList || !r.at(flaw.Deep) {
				continue
			}
			q = r.again()
			q.Headers = slices.Insert(q.Headers, i, q.Headers[i])
			f := exchange.Flaw{In: "header", Pointer: pointer, Rule: "repeated", Variant: "header-twice", Reason: "the header is sent twice, and it is not a list"}
			r.Give(Case{f, q, object, object})
		}
	}
}

// Repeated sends query parameters twice that are not arrays.
func Repeated(r *Request) {
	object, _ := r.Values["query"].(map[string]any)
	for _, place := range r.Places {
		if place.In != "query" || !r.at(flaw.Deep) {
			continue
		}
		for _, p := range place.Params {
			v, has := object[p.Name]
			if !has || p.JSON || instance.Type(v) == "array" || instance.Type(v) == "object" {
				continue
			}
			q := r.again()
			q.URL += "&" + strings.Join(wire.Query(p, v), "&")
			f := exchange.Flaw{In: "query", Pointer: instance.Join("", p.Name), Rule: "repeated", Variant: "twice", Reason: "the parameter is sent twice, and it is not an array"}
			r.Give(Case{f, q, object, object})
		}
	}
}
