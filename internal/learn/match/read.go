package match

import (
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/plan"
	"obiter/internal/generate/wire"
	"obiter/internal/input/oad"
	"obiter/internal/input/schema"
	"obiter/internal/learn/capture"
)

// read takes a request apart as a service does.
func read(op *plan.Operation, f found, x capture.Exchange) request {
	r := request{parts: map[string]any{}}
	u, err := url.Parse(x.URL)
	if err != nil {
		r.unsure = "its address cannot be read"
		return r
	}
	query := u.Query()
	for _, part := range op.Parts {
		switch part.In {
		case "path":
			r.place(part, func(p oad.Parameter) ([]string, bool) {
				text, has := f.path[p.Name].(string)
				return []string{text}, has
			})
		case "query":
			r.place(part, func(p oad.Parameter) ([]string, bool) { return query[p.Name], query.Has(p.Name) })
		case "header":
			r.place(part, func(p oad.Parameter) ([]string, bool) {
				text := x.Header(p.Name)
				return []string{text}, text != ""
			})
		case "body":
			r.body(part, op, x)
		}
	}
	if len(op.Untried) > 0 && r.unsure == "" {
		r.unsure = "the schema of a parameter cannot be read"
	}
	return r
}

// parameterValue is what was sent as a parameter that may have some types; why says what is in the
// way of reading it.
func parameterValue(p oad.Parameter, types schema.Types, texts []string, sent bool) (v any, is bool, why string) {
	isObject := types.Has(schema.Object) && types != schema.AnyType
	switch {
	case !sent && p.In == "query" && isObject:
		return nil, false, "is an object, which travels under names of its own"
	case !sent:
		return nil, false, ""
	case p.JSON && len(texts) == 1:
		v, err := instance.Decode([]byte(texts[0]))
		if err != nil {
			return nil, false, "cannot be read"
		}
		return v, true, ""
	case isObject, p.Style != "form" && p.Style != "simple":
		return nil, false, "is written in a style that is not read"
	case types.Has(schema.Array) && !types.Has(schema.String):
		if len(texts) == 1 && (!p.Explode || p.In != "query") && texts[0] != "" {
			texts = strings.Split(texts[0], ",")
		}
		list := []any{}
		for _, t := range texts {
			list = append(list, t)
		}
		return list, true, ""
	case len(texts) > 1:
		return nil, false, "is there more than once"
	}
	return texts[0], true, ""
}

// place reads the parameters of a place. Styles in which several readings are possible
// make the request one of which nothing is known.
func (r *request) place(part *plan.Part, sent func(oad.Parameter) ([]string, bool)) {
	object := map[string]any{}
	shape := schema.Merge(schema.Apply([]schema.Schema{part.Schema}, part.Fullest))
	for _, p := range part.Params {
		texts, has := sent(p)
		members, _ := shape.Member(p.Name)
		v, is, why := parameterValue(p, schema.Merge(schema.Expand(members, schema.NoBranch)).Types, texts, has)
		if why != "" {
			r.unsure = "the parameter " + p.Name + " " + why
		}
		if is {
			object[p.Name] = v
		}
	}
	seen := map[string]any{}
	for name, v := range object {
		members, _ := shape.Member(name)
		if seen[name] = v; !part.KeepsTypes(name, v) {
			seen[name] = wire.Read(members, v)
			r.readable(name, members, v)
		}
	}
	r.parts[part.In] = seen
}

// body reads what was sent as the body.
func (r *request) body(part *plan.Part, op *plan.Operation, x capture.Exchange) {
	media := exchange.MediaTypeOf(x.Header("Content-Type"))
	whole := func(rule, variant, reason string) {
		r.parts["body"] = whole{In: "request", Rule: rule, Variant: variant, Reason: reason}
	}
	described := slices.ContainsFunc(op.Body.Media, func(m oad.Media) bool { return exchange.Covers(exchange.MediaTypeOf(m.Type), media) })
	planned := exchange.MediaTypeOf(op.Media)
	switch {
	case x.Lacking:
		r.unsure = "its body is not in the capture"
	case x.Lossy():
		r.unsure, r.doubtful = "its body was not UTF-8, and the capture has lost what it was", true
	case len(x.Body) > 0 && !slices.Contains([]string{"", "identity"}, strings.ToLower(x.Header("Content-Encoding"))):
		r.unsure = "its body is in a content coding"
	case len(x.Body) == 0 && op.Body.Required:
		whole("empty-body", "empty", "there is no body, and one is required")
	case len(x.Body) == 0:
	case media == "":
		r.unsure = "it does not say what its body is"
	case !described:
		whole("wrong-content-type", "not-described", "the body is "+media+", which the description does not have")
	case media != planned && !(exchange.IsJSON(media) && exchange.IsJSON(planned)):
		r.unsure = "its body is " + media + ", and only " + planned + " is read"
	case exchange.IsJSON(media) && part.Form == "":
		v, err := instance.Decode(x.Body)
		if errors.Is(err, instance.ErrDepth) || errors.Is(err, instance.ErrNumber) {
			r.unsure = "its body is more than is read: " + err.Error()
			return
		}
		if err != nil {
			whole("malformed-json", "captured", "the body is not JSON: "+err.Error())
			return
		}
		if !instance.Interoperable(x.Body) {
			r.unsure, r.doubtful = "readers differ in how they read its body: it has a name twice, or is not UTF-8", true
			return
		}
		if strings.HasPrefix(planned, "application/merge-patch+json") {
			v = withoutNulls(v) // which remove members (RFC 7396)
		}
		r.parts["body"] = v
	case part.Form == wire.URLEncoded:
		values, err := url.ParseQuery(string(x.Body))
		if err != nil {
			r.unsure = "its form cannot be read"
			return
		}
		r.form(part, values)
	default:
		r.unsure = "its body is " + media + ", which is not read"
	}
}

// form reads the fields of a form that are plain.
func (r *request) form(part *plan.Part, values url.Values) {
	object := map[string]any{}
	shape := schema.Merge(schema.Apply([]schema.Schema{part.Schema}, part.Fullest))
	for name, texts := range values {
		members, _ := shape.Member(name)
		types := schema.Merge(schema.Expand(members, schema.NoBranch)).Types
		if len(texts) > 1 || types.Has(schema.Object) && types != schema.AnyType || types.Has(schema.Array) && !types.Has(schema.String) || part.KeepsTypes(name, texts[0]) {
			r.unsure = "the field " + name + " of its form is written in a way that is not read"
			return
		}
		object[name] = wire.Read(members, texts[0])
		r.readable(name, members, texts[0])
	}
	r.parts["body"] = object
}

// readable looks at a text where another type is expected: some readers take +5, 0x10,
// digits of other scripts, or nothing at all, and no standard says which.
func (r *request) readable(name string, members []schema.Schema, v any) {
	list, is := v.([]any)
	if !is {
		list = []any{v}
	}
	types := schema.Merge(schema.Expand(members, schema.NoBranch)).Types
	if types.Has(schema.String) || types == 0 {
		return
	}
	for _, e := range list {
		text, _ := e.(string)
		plain := strings.TrimSpace(strings.Map(func(c rune) rune {
			if unicode.IsDigit(c) {
				return '1'
			}
			return c
		}, text))
		_, err := strconv.ParseFloat(plain, 64)
		_, e := strconv.ParseInt(plain, 0, 64)
		odd := !json.Valid([]byte(text)) && (err == nil || e == nil)
		switch {
		case strings.TrimSpace(text) == "", odd, types.Has(schema.Boolean) && slices.Contains(booleans, strings.ToLower(plain)):
			r.unsure, r.doubtful = "readers differ in how they read the value of "+name, true
		}
	}
}

// booleans are what some readers take for true and false.
var booleans = []string{"1", "on", "off", "yes", "no", "y", "n", "t", "f", "true", "false"}

func withoutNulls(v any) any {
	object, is := v.(map[string]any)
	if !is {
		return v
	}
	out := map[string]any{}
	for name, m := range object {
		if m != nil {
			out[name] = withoutNulls(m)
		}
	}
	return out
}

// alternatives are the fields of a part that have a oneOf or anyOf.
func alternatives(op *plan.Operation, in string) []string {
	var out []string
	for _, part := range op.Parts {
		if part.In != in {
			continue
		}
		for _, f := range part.Fields() {
			if len(f.Shape.Choices()) > 0 && !slices.Contains(out, f.Pointer) {
				out = append(out, f.Pointer)
			}
		}
	}
	return out
}

// secretFields are the fields of the body that are passwords or only written.
func secretFields(op *plan.Operation, r request) []string {
	var out []string
	for _, part := range op.Parts {
		if part.In != "body" {
			continue
		}
		for _, f := range part.Fields() {
			if _, sent := instance.Get(r.parts["body"], f.Pointer); sent && (f.Shape.Secret || f.Shape.WriteOnly) && !slices.Contains(out, f.Pointer) {
				out = append(out, f.Pointer)
			}
		}
	}
	return out
}

// Credentials are the headers of a request and of an answer that open a door.
var Credentials = []string{"Authorization", "Cookie", "Proxy-Authorization", "Set-Cookie", "X-Api-Key", "Api-Key", "X-Auth-Token", "X-Csrf-Token", "X-Xsrf-Token"}

// IsCredential reports whether a header is one of them.
func IsCredential(name string) bool {
	return slices.Contains(Credentials, http.CanonicalHeaderKey(name))
}
