package plan

import (
	"net/url"
	"slices"
	"strings"

	"obiter/internal/instance"
	"obiter/internal/oad"
	"obiter/internal/schema"
)

// write fills an operation's path template with values, by place and name, and
// gives the URL and the headers that come of them.
func (p *Plan) write(o oad.Operation, parts []*Part, values map[string]any) (string, [][2]string) {
	path := o.Path
	if i := strings.IndexByte(path, '#'); i >= 0 {
		path = path[:i] // some descriptions tell operations apart that way; it is never sent
	}
	var query, cookies []string
	var headers [][2]string
	for _, part := range parts {
		object, ok := values[part.In].(map[string]any)
		if part.In == "body" || !ok {
			continue
		}
		object, _ = part.sendable(object)
		for _, param := range part.params {
			v, has := object[param.Name]
			if !has {
				continue
			}
			switch param.In {
			case "path":
				path = strings.ReplaceAll(path, "{"+param.Name+"}", pathText(param, v))
			case "query":
				query = append(query, queryText(param, v)...)
			case "header":
				headers = append(headers, [2]string{param.Name, headerText(param, v)})
			case "cookie":
				cookies = append(cookies, strings.Join(queryText(param, v), "; "))
			}
		}
	}
	if len(cookies) > 0 {
		headers = append(headers, [2]string{"Cookie", strings.Join(cookies, "; ")})
	}
	address := strings.TrimSuffix(p.opt.Base, "/") + path
	if len(query) > 0 {
		address += "?" + strings.Join(query, "&")
	}
	return address, headers
}

// undescribed is the first parameter of a path template that nothing describes; "" if none.
func undescribed(o oad.Operation) string {
	path, _, _ := strings.Cut(o.Path, "#")
	for {
		i := strings.IndexByte(path, '{')
		if i < 0 {
			return ""
		}
		j := strings.IndexByte(path[i:], '}')
		if j < 0 {
			return ""
		}
		name := path[i+1 : i+j]
		if !slices.ContainsFunc(o.Parameters, func(p oad.Parameter) bool { return p.In == "path" && p.Name == name }) {
			return name
		}
		path = path[i+j+1:]
	}
}

// ignored are header parameters that OpenAPI says have no meaning there.
func ignored(p oad.Parameter) bool {
	switch strings.ToLower(p.Name) {
	case "accept", "content-type", "authorization":
		return p.In == "header"
	}
	return p.In == "querystring"
}

// escape percent-encodes what is not unreserved (RFC 3986, section 2.3).
func escape(s string) string { return strings.ReplaceAll(url.QueryEscape(s), "+", "%20") }

// pairs lists what an array or object holds, for the styles to join.
func pairs(v any) (names, values []string, object bool) {
	switch v := v.(type) {
	case []any:
		for _, e := range v {
			values = append(values, escape(schema.Text(e)))
		}
	case map[string]any:
		for _, n := range instance.Names(v) {
			names, values = append(names, escape(n)), append(values, escape(schema.Text(v[n])))
		}
		return names, values, true
	default:
		values = []string{escape(schema.Text(v))}
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

// queryText writes a query or cookie parameter in the styles form,
// spaceDelimited, pipeDelimited and deepObject: one or more name=value.
func queryText(p oad.Parameter, v any) []string {
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
			out = append(out, schema.Text(e))
		}
		return strings.Join(out, ",")
	case map[string]any:
		between := ","
		if p.Explode {
			between = "="
		}
		var out []string
		for _, n := range instance.Names(v) {
			out = append(out, n+between+schema.Text(v[n]))
		}
		return strings.Join(out, ",")
	}
	return schema.Text(v)
}
