package secret

import (
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
)

// Exchange is an exchange with all secrets taken out of what was sent and of what
// came back. In the answer a secret that is also the name of a field is that name.
func (s *Set) Exchange(e exchange.Exchange) exchange.Exchange {
	s.mu.RLock()
	none, words := len(s.names) == 0, s.words
	s.mu.RUnlock()
	if none {
		return e
	}
	sent := s.view(nil).flawed(e.Case)
	came := sent
	if names := namesOf(words, e.Case); len(names) > 0 {
		came = s.view(names).flawed(e.Case)
	}
	e.Case = sent.ofCase(e.Case)
	e.Response.Body = came.body(e.Response.Body, e.Response.Header.Get("Content-Type"))
	e.Response.Err = came.text(e.Response.Err)
	header := make(http.Header, len(e.Response.Header))
	for name, values := range e.Response.Header {
		for _, v := range values {
			header[name] = append(header[name], came.header(name, v))
		}
	}
	e.Response.Header = header
	if e.Documented != nil {
		d := *e.Documented
		d.At, d.How = came.text(d.At), came.text(d.How)
		e.Documented = &d
	}
	return e
}

// Value is a JSON value of an answer with all secrets taken out.
func (s *Set) Value(v any) any { return s.view(nil).value(v) }

// Case is a case with all secrets taken out.
func (s *Set) Case(c exchange.Case) exchange.Case {
	return s.Exchange(exchange.Exchange{Case: c}).Case
}

func (v *view) ofCase(c exchange.Case) exchange.Case {
	c.Request.URL = v.url(c.Request.URL)
	c.Request.Headers = slices.Clone(c.Request.Headers)
	media := c.Request.Header("Content-Type")
	for i, h := range c.Request.Headers {
		c.Request.Headers[i][1] = v.header(h[0], h[1])
	}
	c.Request.Body = v.body(c.Request.Body, media)
	c.Flaws = slices.Clone(c.Flaws)
	for i, f := range c.Flaws {
		c.Flaws[i].Reason = v.text(f.Reason)
	}
	if c.Edge != nil {
		edge := *c.Edge
		edge.Reason = v.text(edge.Reason)
		c.Edge = &edge
	}
	c.Body, c.Control = v.value(c.Body), v.value(c.Control)
	if c.Parts != nil {
		parts := make(map[string]any, len(c.Parts))
		for in, part := range c.Parts {
			parts[in] = v.value(part)
		}
		c.Parts = parts
	}
	return c
}

// namesOf are the words that are names of fields of a case.
func namesOf(words []string, c exchange.Case) []string {
	if len(words) == 0 {
		return nil
	}
	found := map[string]bool{}
	look := func(at string, _ any) bool {
		if name := instance.Last(at); slices.Contains(words, name) {
			found[name] = true
		}
		return true
	}
	for _, v := range append(slices.Collect(maps.Values(c.Parts)), c.Body, c.Control) {
		instance.Walk(v, look)
	}
	for _, f := range c.Flaws {
		look(f.Pointer, nil)
	}
	return slices.Sorted(maps.Keys(found))
}

// flawed is a view that knows the flaws too that are made out of a secret of the control.
func (v *view) flawed(c exchange.Case) *view {
	flaws := c.Flaws
	if c.Edge != nil {
		flaws = append(slices.Clone(flaws), *c.Edge)
	}
	var names map[string]string
	for _, f := range flaws {
		was, _ := instance.Get(c.Control, f.Pointer)
		is, _ := instance.Get(c.Body, f.Pointer)
		right, ok := was.(string)
		wrong, changed := is.(string)
		if !ok || !changed || v.text(right) == right || v.whole[wrong] != "" || !madeOf(wrong, right) {
			continue
		}
		if names == nil {
			names = maps.Clone(v.names)
		}
		for secret, name := range v.names {
			if strings.Contains(right, secret) {
				names[wrong] = name
			}
		}
	}
	if names == nil {
		return v
	}
	return newView(names)
}

// madeOf reports whether a text shows more of a secret than another would by chance: a
// piece that is at least half as long.
func madeOf(text, secret string) bool {
	text, secret = strings.ToLower(text), strings.ToLower(secret)
	n := max((len(secret)+1)/2, min(len(secret), 3))
	for i := 0; i+n <= len(secret); i++ {
		if strings.Contains(text, secret[i:i+n]) {
			return true
		}
	}
	return false
}

// url is an address; its scheme and host are told.
func (v *view) url(text string) string {
	start := 0
	if i := strings.Index(text, "://"); i >= 0 {
		start = i + len("://")
		if i = strings.IndexByte(text[start:], '/'); i < 0 {
			return text
		}
		start += i
	}
	path, query, has := strings.Cut(text[start:], "?")
	segments := strings.Split(path, "/")
	for i, s := range segments {
		if !number(s) || !short(s) { // a record's number is in many addresses
			segments[i] = v.part(s, url.PathUnescape, url.PathEscape)
		}
	}
	out := text[:start] + strings.Join(segments, "/")
	if has {
		out += "?" + v.form(query)
	}
	return out[:start] + v.inside.Replace(out[start:])
}

// form is what a form or a query is written as.
func (v *view) form(text string) string {
	pairs := strings.Split(text, "&")
	for i, pair := range pairs {
		name, value, has := strings.Cut(pair, "=")
		if name = v.part(name, url.QueryUnescape, url.QueryEscape); has {
			name += "=" + v.part(value, url.QueryUnescape, url.QueryEscape)
		}
		pairs[i] = name
	}
	return strings.Join(pairs, "&")
}

// part is a part of an address or a form, as it is written.
func (v *view) part(written string, read func(string) (string, error), write func(string) string) string {
	text, err := read(written)
	if err != nil {
		return v.text(written)
	}
	if now := v.text(text); now != text {
		return write(now)
	}
	return written
}

// header is the value of a header.
func (v *view) header(name, value string) string {
	if slices.Contains(publicHeaders, name) {
		return value
	}
	if strings.EqualFold(name, "Set-Cookie") {
		if c, err := http.ParseSetCookie(value); err == nil && v.whole[c.Value] != "" {
			return strings.Replace(value, c.Value, v.whole[c.Value], 1)
		}
	}
	return v.text(value)
}

// body is a body of a media type.
func (v *view) body(body []byte, media string) []byte {
	if len(body) == 0 {
		return body
	}
	text := string(body)
	if len(v.whole) == 0 && v.inside.Replace(text) == text {
		return body
	}
	switch trimmed := strings.TrimSpace(text); {
	case strings.HasPrefix(exchange.MediaTypeOf(media), "application/x-www-form-urlencoded"):
		return []byte(v.form(text))
	case strings.HasSuffix(exchange.MediaTypeOf(media), "json"), strings.HasPrefix(trimmed, "{"), strings.HasPrefix(trimmed, "["), strings.HasPrefix(trimmed, `"`):
		return v.json(body)
	}
	lines := strings.SplitAfter(text, "\n")
	for i, line := range lines { // as the parts of a multipart body are
		if m, is := v.whole[strings.TrimRight(line, "\r\n")]; is {
			lines[i] = m + line[len(strings.TrimRight(line, "\r\n")):]
		}
	}
	return []byte(v.inside.Replace(strings.Join(lines, "")))
}
