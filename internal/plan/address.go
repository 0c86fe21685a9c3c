package plan

import (
	"fmt"
	"net/url"
	"strings"

	"obiter/internal/exchange"
	"obiter/internal/instance"
	"obiter/internal/oad"
)

// address fills an operation's path template and required parameters with valid
// values: examples first. It gives the URL and the headers that come of it.
func (p *Plan) address(o oad.Operation) (string, [][2]string, error) {
	path := o.Path
	if i := strings.IndexByte(path, '#'); i >= 0 {
		path = path[:i] // some descriptions tell operations apart that way; it is never sent
	}
	var query, cookies []string
	var headers [][2]string
	for _, param := range o.Parameters {
		if !param.Required || ignored(param) {
			continue
		}
		v, err := p.parameterValue(param)
		if err != nil {
			return "", nil, fmt.Errorf("the %s parameter %q: %w", param.In, param.Name, err)
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
	if i, j := strings.IndexByte(path, '{'), strings.IndexByte(path, '}'); i >= 0 && j > i {
		return "", nil, fmt.Errorf("the path parameter %q is not described", path[i+1:j])
	}
	if len(cookies) > 0 {
		headers = append(headers, [2]string{"Cookie", strings.Join(cookies, "; ")})
	}
	base := p.opt.Base
	address := strings.TrimSuffix(base, "/") + path
	if len(query) > 0 {
		address += "?" + strings.Join(query, "&")
	}
	return address, headers, nil
}

// ignored are header parameters that OpenAPI says have no meaning there.
func ignored(p oad.Parameter) bool {
	switch strings.ToLower(p.Name) {
	case "accept", "content-type", "authorization":
		return p.In == "header"
	}
	return p.In == "querystring"
}

func (p *Plan) parameterValue(param oad.Parameter) (any, error) {
	if param.Schema == (oad.Location{}) {
		if len(param.Examples) > 0 {
			return param.Examples[0].Value, nil
		}
		return "1", nil
	}
	s, err := p.set.Compile(param.Schema.URL())
	if err != nil {
		return nil, err
	}
	return p.maker.Value(s, p.published(param.Examples))
}

// request puts together what is sent.
func (op *Operation) request(method, contentType string, body []byte) exchange.Request {
	r := exchange.Request{Method: method, URL: op.url, Body: body}
	r.Headers = append(r.Headers, [2]string{"Accept", "application/problem+json, application/json;q=0.9, */*;q=0.1"})
	if contentType != "" {
		r.Headers = append(r.Headers, [2]string{"Content-Type", contentType})
	}
	r.Headers = append(r.Headers, op.fixed...)
	return r
}

// text is a primitive as a parameter writes it.
func text(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	}
	return string(instance.Encode(v))
}

// escape percent-encodes what is not unreserved (RFC 3986, section 2.3).
func escape(s string) string { return strings.ReplaceAll(url.QueryEscape(s), "+", "%20") }

// pairs lists what an array or object holds, for the styles to join.
func pairs(v any) (names, values []string, object bool) {
	switch v := v.(type) {
	case []any:
		for _, e := range v {
			values = append(values, escape(text(e)))
		}
	case map[string]any:
		for _, n := range instance.Names(v) {
			names, values = append(names, escape(n)), append(values, escape(text(v[n])))
		}
		return names, values, true
	default:
		values = []string{escape(text(v))}
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
			out = append(out, text(e))
		}
		return strings.Join(out, ",")
	case map[string]any:
		between := ","
		if p.Explode {
			between = "="
		}
		var out []string
		for _, n := range instance.Names(v) {
			out = append(out, n+between+text(v[n]))
		}
		return strings.Join(out, ",")
	}
	return text(v)
}
