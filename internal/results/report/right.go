package report

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/evaluate/judge"
)

// Right is what a right answer to one request looks like in the API's own layout.
type Right struct {
	Status int
	Header string // Allow or WWW-Authenticate, where the status requires one
	Media  string
	Body   string // JSON, indented; "" where any will do
	Like   string // the case whose right answer it is made after; "": after RFC 9457
}

// model is a right answer of the service that others are made after, at least in substance.
type model struct {
	form bool // it is wrong in form
	exchange.Case
	status int
	media  string
	body   []byte // compact
	said   string
}

// modelKey is what a model is a model for.
type modelKey struct{ operation, in, rule string }

// maxModels bounds the answers that are kept.
const maxModels = 2_000

// model keeps a right rejection of one flaw.
func (r *Report) model(e *exchange.Exchange, j *judge.Judgement) {
	t := j.Fingerprint
	inForm := j.Verdict == judge.Form && !slices.ContainsFunc(j.Findings, func(f judge.Finding) bool { return f.Code != "not-problem" && f.Severity == judge.Error })
	if !inForm && (j.Verdict != judge.Pass || len(j.Findings) > 0) || t == nil || len(e.Flaws) != 1 || len(e.Response.Body) > maxKept || t.All == nil {
		return
	}
	f := e.Flaws[0]
	if t.Asked && (!t.Named || t.Where == "") {
		return
	}
	k := modelKey{e.Operation, f.In, f.Rule}
	if have := r.models[k]; have != nil && have.Number <= e.Number || have == nil && len(r.models) >= maxModels {
		return
	}
	var compact bytes.Buffer
	if json.Compact(&compact, e.Response.Body) != nil {
		return
	}
	m := &model{form: inForm, Case: e.Case, status: e.Response.Status, media: e.Response.Header.Get("Content-Type"), body: compact.Bytes(), said: j.Said}
	m.Body, m.Control, m.Parts = nil, nil, nil
	r.models[k] = m
}

// Right makes a right answer to a case: of an edge or a control a success, of a flawed one
// a rejection, made after one of the service's own that is right, as near to the case as
// there is one. Where none is right in form, and that is not what is wrong, one in a layout
// of its own will do.
func (r *Report) Right(c exchange.Case, ofForm bool) Right {
	out := r.right(c, ofForm)
	switch out.Status {
	case http.StatusMethodNotAllowed: // RFC 9110, section 15.5.6
		_, path, _ := strings.Cut(c.Operation, " ")
		var methods []string
		for _, l := range r.Lines {
			if method, at, _ := strings.Cut(l.Operation, " "); at == path {
				methods = append(methods, method)
			}
		}
		out.Header = "Allow: " + strings.Join(methods, ", ")
	case http.StatusUnauthorized: // RFC 9110, section 11.6.1
		out.Header = "WWW-Authenticate: Bearer"
		if len(c.Credentials) > 0 && c.Credentials[0].Kind == "basic" {
			out.Header = `WWW-Authenticate: Basic realm="api"`
		}
	}
	return out
}

func (r *Report) right(c exchange.Case, ofForm bool) Right {
	if c.Kind != exchange.Flawed || len(c.Flaws) == 0 {
		return Right{Status: 200}
	}
	f := c.Flaws[0]
	best := r.nearest(c, ofForm)
	if best == nil {
		return plainRight(c, f)
	}
	out := Right{Status: best.status, Media: best.media, Like: best.ID}
	if len(c.Expect.Statuses) > 0 && !slices.Contains(c.Expect.Statuses, out.Status) {
		out.Status = c.Expect.Statuses[0]
	}
	body := string(best.body)
	if f.OfField() {
		body = renamed(body, best.Flaws[0].Pointer, f.Pointer)
	}
	words := r.words(best, f)
	body = reworded(body, best.said, words)
	for i, other := range c.Flaws[1:min(len(c.Flaws), maxEntries)] {
		body = withEntry(body, c.Flaws[i], other, words, r.words(best, other))
		words = r.words(best, other)
	}
	body = restated(body, best.status, out.Status)
	if path, ok := pathOf(best.Request.URL); ok {
		if own, ok := pathOf(c.Request.URL); ok {
			body = strings.ReplaceAll(body, string(instance.Encode(path)), string(instance.Encode(own)))
		}
	}
	if !json.Valid([]byte(body)) { // what was exchanged was something else
		return plainRight(c, f)
	}
	out.Body = indented(body)
	return out
}

// nearest is the model that is most like a case; nil where none is.
func (r *Report) nearest(c exchange.Case, ofForm bool) (best *model) {
	f := c.Flaws[0]
	closeness := 0
	for k, m := range r.models {
		if ofForm && m.form {
			continue
		}
		if (k.in == Request) != (f.In == Request) || m.Flaws[0].OfField() != f.OfField() || f.In == Request && m.Expect.Class != c.Expect.Class {
			continue
		}
		near := 1
		for i, same := range []bool{k.rule == f.Rule, m.Expect.Class == c.Expect.Class, k.operation == c.Operation, slices.Contains(c.Expect.Statuses, m.status), k.in == f.In, !m.form} {
			if same {
				near += 1 << i
			}
		}
		if near > closeness || near == closeness && m.Number < best.Number {
			best, closeness = m, near
		}
	}
	return best
}

// words are what a right answer says: what the service says of the same rule elsewhere, if
// that does not name a limit, else what is wrong.
func (r *Report) words(like *model, f exchange.Flaw) string {
	was := like.Flaws[0]
	if was.Rule == f.Rule && slices.Contains(uniform, f.Rule) && !anyNumber.MatchString(like.said) {
		last, now := instance.Last(was.Pointer), instance.Last(f.Pointer)
		if last == "" {
			return like.said
		}
		return regexp.MustCompile(`\b`+regexp.QuoteMeta(last)+`\b`).ReplaceAllLiteralString(like.said, now)
	}
	if was.Rule == f.Rule && !f.OfField() {
		return like.said
	}
	return f.Reason
}

// maxEntries bounds the fields that a right answer names.
const maxEntries = 20

// reworded says something else in an answer.
func reworded(body, was, is string) string {
	if was == "" {
		return body
	}
	out, _ := retold(body, func(text string, key bool) (string, bool) {
		plain := ""
		if key || json.Unmarshal([]byte(`"`+text+`"`), &plain) != nil || !strings.Contains(plain, was) {
			return "", false
		}
		return string(instance.Escaped(strings.ReplaceAll(plain, was, is))), true
	})
	return out
}

// braces are the places of the braces around a place in a JSON text without strings: -1 and the
// text's length where there are none.
func braces(text []byte, at int) (from, to int) {
	from, to = at, at
	for depth := 0; from >= 0 && (depth > 0 || text[from] != '{'); from-- {
		switch text[from] {
		case '}':
			depth++
		case '{':
			depth--
		}
	}
	for depth := 0; to < len(text) && (depth > 0 || text[to] != '}'); to++ {
		switch text[to] {
		case '{':
			depth++
		case '}':
			depth--
		}
	}
	return from, to
}

// withEntry is an answer whose list of fields has one more entry, made after the one
// before it; without a list it stays as it is.
func withEntry(body string, before, f exchange.Flaw, said, words string) string {
	at, bare := -1, structure(body)
	for _, name := range spellings(before.Pointer) {
		if name == "" || at >= 0 {
			continue
		}
		for at = strings.LastIndex(body, name+`"`); at >= 0 && bare[at] != ' '; { // not in a string
			at = strings.LastIndex(body[:at], name+`"`)
		}
	}
	if at < 0 {
		return body
	}
	from, to := braces(bare, at)
	if from < 1 || to == len(body) || body[from-1] != '[' && body[from-1] != ',' {
		return body
	}
	entry := body[from : to+1]
	return body[:to+1] + "," + reworded(renamed(entry, before.Pointer, f.Pointer), said, words) + body[to+1:]
}

// structure is a JSON text with blanks in place of its strings.
func structure(body string) []byte {
	out := []byte(body)
	for i, inside := 0, false; i < len(out); i++ {
		switch c := out[i]; {
		case c == '"':
			inside = !inside
		case inside:
			if out[i] = ' '; c == '\\' && i+1 < len(out) {
				i++
				out[i] = ' '
			}
		}
	}
	return out
}

// renamed names another field in an answer: wherever a text is the name of the one that
// was wrong, in the way in which it is written.
func renamed(body, was, is string) string {
	from, to := spellings(was), spellings(is)
	for i := range from {
		if from[i] == "" || to[i] == "" || from[i] == "/" {
			continue
		}
		ends := func(text string, key bool) (string, bool) { // a value that ends with the name, which begins there
			before, is := strings.CutSuffix(text, from[i])
			return before + to[i], is && !key && (before == "" || strings.ContainsAny(before[len(before)-1:], "./[#$"))
		}
		if i == segmented {
			if from := `"` + from[i] + `"`; strings.Contains(body, from) && !strings.Contains(body, from+":") {
				return strings.ReplaceAll(body, from, `"`+to[i]+`"`)
			}
			continue
		}
		if out, done := retold(body, ends); done {
			return out
		}
		once := false
		if out, done := retold(body, func(text string, key bool) (string, bool) {
			is := key && text == from[i] && !once
			once = once || is
			return to[i], is
		}); done {
			return out
		}
	}
	return body
}

// retold exchanges strings of a compact JSON text, without their quotes and escaped as they
// are. Done says that any was.
func retold(body string, exchange func(text string, key bool) (string, bool)) (out string, done bool) {
	var b strings.Builder
	for {
		i := strings.IndexByte(body, '"')
		if i < 0 {
			b.WriteString(body)
			return b.String(), done
		}
		j := i + 1
		for j < len(body) && body[j] != '"' {
			if body[j] == '\\' {
				j++
			}
			j++
		}
		if j >= len(body) {
			b.WriteString(body)
			return b.String(), done
		}
		text := body[i+1 : j]
		if is, other := exchange(text, strings.HasPrefix(body[j+1:], ":")); other {
			text, done = is, true
		}
		b.WriteString(body[:i+1] + text + `"`)
		body = body[j+1:]
	}
}

// segmented is the spelling that is a list.
const segmented = 1

// spellings are ways to write the name of a field, as JSON text without quotes: a pointer,
// a list of segments, dotted, with brackets, its last part.
func spellings(pointer string) []string {
	tokens, err := instance.Split(pointer)
	if err != nil || len(tokens) == 0 {
		return []string{"", "", "", "", ""}
	}
	bracketed, list := "", ""
	for i, t := range tokens {
		isIndex := isIndex(t)
		switch {
		case isIndex:
			bracketed += "[" + t + "]"
		case i > 0:
			bracketed += "." + t
		default:
			bracketed = t
		}
		if i > 0 {
			list += `,`
			if isIndex {
				list += t
				continue
			}
			list += `"`
		}
		list += string(instance.Escaped(t))
		if i < len(tokens)-1 {
			list += `"`
		}
	}
	if len(tokens) < 2 || isIndex(tokens[len(tokens)-1]) { // it ends without a quote
		list = ""
	}
	out := []string{pointer, list, strings.Join(tokens, "."), bracketed, tokens[len(tokens)-1]}
	for i := range out {
		if i != 1 {
			out[i] = string(instance.Escaped(out[i]))
		}
	}
	return out
}

// isIndex reports whether a token is the number of an entry (RFC 6901, section 4).
func isIndex(token string) bool {
	return token != "" && strings.Trim(token, "0123456789") == "" && (token[0] != '0' || token == "0")
}

// restated gives an answer another status: its member, and the phrase that is its title.
func restated(body string, was, is int) string {
	if was == is {
		return body
	}
	body = regexp.MustCompile(`("status(?:Code)?":)`+strconv.Itoa(was)+`\b`).ReplaceAllString(body, "${1}"+strconv.Itoa(is))
	_, old, _ := strings.Cut(judge.StatusText(was), " ")
	_, phrase, _ := strings.Cut(judge.StatusText(is), " ")
	return strings.ReplaceAll(body, `"title":`+string(instance.Encode(old)), `"title":`+string(instance.Encode(phrase)))
}

func pathOf(address string) (string, bool) {
	_, rest, ok := strings.Cut(address, "://")
	i := strings.IndexByte(rest, '/')
	if !ok || i < 0 || i == len(rest)-1 {
		return "", false
	}
	path, _, _ := strings.Cut(rest[i:], "?")
	return path, true
}

func indented(body string) string {
	var b bytes.Buffer
	if json.Indent(&b, []byte(body), "", "  ") != nil {
		return body
	}
	return b.String()
}

// plainRight is an answer as RFC 9457, section 3, recommends it, for a service that has none
// which is right.
func plainRight(c exchange.Case, f exchange.Flaw) Right {
	out := Right{Status: 400, Media: "application/problem+json"}
	if len(c.Expect.Statuses) > 0 {
		out.Status = c.Expect.Statuses[len(c.Expect.Statuses)-1]
	}
	_, phrase, _ := strings.Cut(judge.StatusText(out.Status), " ")
	body := fmt.Sprintf(`{"title":%s,"status":%d,"detail":%s`, instance.Encode(phrase), out.Status, instance.Encode(cmp.Or(f.Reason, "the request is invalid")))
	switch {
	case f.OfField() && f.In != "body":
		body += fmt.Sprintf(`,"errors":[{"in":%s,"name":%s,"detail":%s}]`, instance.Encode(f.In), instance.Encode(instance.Last(f.Pointer)), instance.Encode(f.Reason))
	case f.OfField():
		body += fmt.Sprintf(`,"errors":[{"pointer":%s,"detail":%s}]`, instance.Encode(instance.Fragment(f.Pointer)), instance.Encode(f.Reason))
	}
	out.Body = indented(body + "}")
	return out
}
