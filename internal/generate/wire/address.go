package wire

import (
	"net/url"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/input/oad"
)

// Address fills a path template with the values of places and gives the URL under
// a base and the headers that come of them. What follows a # in a template
// tells operations apart in some descriptions, and is never sent.
func Address(base, path string, places []*Place, values map[string]any) (string, [][2]string) {
	return (&Written{}).Address(base, path, places, values)
}

// Written remembers how parameters of the query were written: of many requests most have the
// same values. It is not safe for concurrent use.
type Written struct {
	query map[string]writtenQuery // by name
}

type writtenQuery struct {
	of   any
	text []string
}

func (w *Written) of(param oad.Parameter, v any) []string {
	have, known := w.query[param.Name]
	if known && same(have.of, v) {
		return have.text
	}
	text := Query(param, v)
	if !known { // the first one is a control's, which most requests share
		if w.query == nil {
			w.query = map[string]writtenQuery{}
		}
		w.query[param.Name] = writtenQuery{v, text}
	}
	return text
}

// Address is the function of that name.
func (w *Written) Address(base, path string, places []*Place, values map[string]any) (string, [][2]string) {
	path, _, _ = strings.Cut(path, "#")
	var query, cookies []string
	var headers [][2]string
	for _, place := range places {
		object, ok := values[place.In].(map[string]any)
		if place.In == "body" || !ok {
			continue
		}
		object, _ = place.Sendable(object)
		for _, param := range place.Params {
			v, has := object[param.Name]
			if !has {
				continue
			}
			switch param.In {
			case "path":
				path = strings.ReplaceAll(path, "{"+param.Name+"}", pathText(param, v))
			case "query":
				query = append(query, w.of(param, v)...)
			case "header":
				headers = append(headers, [2]string{param.Name, headerText(param, v)})
			case "cookie":
				cookies = append(cookies, strings.Join(Query(param, v), "; "))
			}
		}
	}
	if len(cookies) > 0 {
		headers = append(headers, [2]string{"Cookie", strings.Join(cookies, "; ")})
	}
	address := strings.TrimSuffix(base, "/") + path
	if len(query) > 0 {
		address += "?" + strings.Join(query, "&")
	}
	return address, headers
}

// escape percent-encodes what is not unreserved (RFC 3986, section 2.3).
func escape(s string) string { return strings.ReplaceAll(url.QueryEscape(s), "+", "%20") }

// pairs lists what an array or object holds, for the styles to join.
func pairs(v any) (names, values []string, object bool) {
	switch v := v.(type) {
	case []any:
		for _, e := range v {
			values = append(values, escape(Text(e)))
		}
	case map[string]any:
		for _, n := range instance.Names(v) {
			names, values = append(names, escape(n)), append(values, escape(Text(v[n])))
		}
		return names, values, true
	default:
		values = []string{escape(Text(v))}
	}
	return names, values, false
}

func zip(names, values []string, between, after string) string {
	var out []string
	for i := range names {
		out = append(out, names[i]+between+values[i])
	}
	return strings.Join(out, after)
}

// pathText writes a path parameter in the styles simple, label and matrix
// (OpenAPI 3.1.0, "Style Values").
func pathText(p oad.Parameter, v any) string {
	if p.JSON {
		return escape(string(instance.Encode(v)))
	}
	names, values, object := pairs(v)
	switch p.Style {
	case "label":
		sep := ","
		if p.Explode {
			sep = "."
		}
		if object && p.Explode {
			return "." + zip(names, values, "=", ".")
		}
		if object {
			return "." + zip(names, values, ",", ",")
		}
		return "." + strings.Join(values, sep)
	case "matrix":
		name := ";" + escape(p.Name) + "="
		switch {
		case object && p.Explode:
			return ";" + zip(names, values, "=", ";")
		case object:
			return name + zip(names, values, ",", ",")
		case p.Explode:
			return name + strings.Join(values, name)
		}
		return name + strings.Join(values, ",")
	}
	if object && p.Explode {
		return zip(names, values, "=", ",")
	}
	if object {
		return zip(names, values, ",", ",")
	}
	return strings.Join(values, ",")
}

// Query writes a query or cookie parameter in the styles form,
// spaceDelimited, pipeDelimited and deepObject: one or more name=value.
func Query(p oad.Parameter, v any) []string {
	name := escape(p.Name)
	if p.JSON {
		return []string{name + "=" + escape(string(instance.Encode(v)))}
	}
	names, values, object := pairs(v)
	var out []string
	switch {
	case p.Style == "deepObject" && object:
		for i := range names {
			out = append(out, name+"%5B"+names[i]+"%5D="+values[i])
		}
		return out
	case object && p.Explode:
		for i := range names {
			out = append(out, names[i]+"="+values[i])
		}
		return out
	case object:
		return []string{name + "=" + zip(names, values, ",", ",")}
	case p.Style == "spaceDelimited" && !p.Explode:
		return []string{name + "=" + strings.Join(values, "%20")}
	case p.Style == "pipeDelimited" && !p.Explode:
		return []string{name + "=" + strings.Join(values, "%7C")}
	case p.Explode:
		for _, value := range values {
			out = append(out, name+"="+value)
		}
		return out
	}
	return []string{name + "=" + strings.Join(values, ",")}
}

// headerText writes a header parameter in style simple; header values are not percent-encoded.
func headerText(p oad.Parameter, v any) string {
	switch v := v.(type) {
	case []any:
		var out []string
		for _, e := range v {
			out = append(out, Text(e))
		}
		return strings.Join(out, ",")
	case map[string]any:
		between := ","
		if p.Explode {
			between = "="
		}
		var out []string
		for _, n := range instance.Names(v) {
			out = append(out, n+between+Text(v[n]))
		}
		return strings.Join(out, ",")
	}
	return Text(v)
}
