// Package secret keeps the values that may not be written anywhere: credentials,
// headers, and what the environment holds for the configuration. It takes them
// out of texts and of exchanges, whether they are written as they are, as JSON
// writes them, percent-encoded, or in base64.
//
// Each secret leaves a mark with its own name, so that two of them are still told
// apart. Texts shorter than four characters are not looked for: they are everywhere.
package secret

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"obiter/internal/exchange"
	"obiter/internal/instance"
)

// minLength is how long a secret has to be, in bytes.
const minLength = 4

// Set is a set of secrets. Its zero value is empty; it is safe for concurrent use.
type Set struct {
	mu       sync.RWMutex
	marks    map[string]string // by what is looked for
	replacer *strings.Replacer // nil: none yet, or out of date
}

// Learn adds a secret under the name that its mark shows.
func (s *Set) Learn(name, value string) {
	if len(value) < minLength {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.marks == nil {
		s.marks = map[string]string{}
	}
	for _, text := range spellings(value) {
		if _, known := s.marks[text]; !known {
			s.marks[text], s.replacer = mark(name, text), nil
		}
	}
}

// LearnHeader adds the value of a header, and what it is made of: the part after
// the scheme, the name and password of a basic credential, the values of cookies.
func (s *Set) LearnHeader(name, value string) {
	s.Learn(name, value)
	if scheme, rest, ok := strings.Cut(value, " "); ok && strings.EqualFold(name, "Authorization") {
		s.Learn(name, strings.TrimSpace(rest))
		if strings.EqualFold(scheme, "basic") {
			s.learnPassword(name, value)
		}
	}
	if strings.EqualFold(name, "Cookie") {
		cookies, _ := http.ParseCookie(value)
		for _, c := range cookies {
			s.Learn("cookie "+c.Name, c.Value)
		}
	}
}

func (s *Set) learnPassword(name, value string) {
	r := http.Request{Header: http.Header{"Authorization": {value}}}
	if _, password, ok := r.BasicAuth(); ok {
		s.Learn(name, password)
	}
}

// LearnCredential adds what a security scheme is sent with: a token, a key, or
// for basic "name:password".
func (s *Set) LearnCredential(scheme, value string) {
	s.Learn(scheme, value)
	if _, password, ok := strings.Cut(value, ":"); ok {
		s.Learn(scheme, password)
		s.Learn(scheme, base64.StdEncoding.EncodeToString([]byte(value)))
	}
}

// mark is what is written in place of a secret. Digits stay digits, so that a
// number in JSON stays a number.
func mark(name, text string) string {
	if strings.Trim(text, "0123456789") == "" {
		return strings.Repeat("9", len(text))
	}
	plain := strings.Map(func(r rune) rune {
		if strings.ContainsRune(`"\<>&`, r) || r < ' ' || r > '~' {
			return '_'
		}
		return r
	}, name)
	return "[" + plain + " not kept]"
}

// spellings are the ways in which a text may be written. JSON may be quoted in
// JSON, as bodies in run files are, and a service may escape more than it has to.
func spellings(value string) []string {
	var out []string
	for _, text := range percentEncoded(value) {
		out = append(out, text, base64.StdEncoding.EncodeToString([]byte(text)))
		for _, escape := range []func(string) string{quoted, htmlQuoted, asciiQuoted(false), asciiQuoted(true), slashQuoted} {
			once := escape(text)
			out = append(out, once, quoted(once), quoted(quoted(once)), escape(once), escape(escape(once)))
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// percentEncoded is a text as it is and in the ways in which URLs and forms write it.
func percentEncoded(value string) []string {
	out := []string{value, url.QueryEscape(value), url.PathEscape(value), strings.ReplaceAll(url.QueryEscape(value), "+", "%20")}
	for _, text := range out[1:] {
		out = append(out, lowerEscapes(text))
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// lowerEscapes writes percent-encoded bytes with small letters.
func lowerEscapes(text string) string {
	b := []byte(text)
	for i := 0; i+2 < len(b); i++ {
		if b[i] == '%' {
			copy(b[i+1:], strings.ToLower(string(b[i+1:i+3])))
		}
	}
	return string(b)
}

func quoted(text string) string { return string(instance.Escaped(text)) }

func htmlQuoted(text string) string {
	data, err := json.Marshal(text)
	if err != nil {
		return text
	}
	return string(data[1 : len(data)-1])
}

func slashQuoted(text string) string { return strings.ReplaceAll(quoted(text), "/", `\/`) }

// asciiQuoted escapes all that is not ASCII as UTF-16 code units.
func asciiQuoted(upper bool) func(string) string {
	format := `\u%04x`
	if upper {
		format = `\u%04X`
	}
	return func(text string) string {
		var b strings.Builder
		for _, r := range quoted(text) {
			if r < utf8.RuneSelf {
				b.WriteRune(r)
				continue
			}
			if r > 0xffff {
				fmt.Fprintf(&b, format, 0xd800+(r-0x10000)>>10)
				r = 0xdc00 + (r-0x10000)&0x3ff
			}
			fmt.Fprintf(&b, format, r)
		}
		return b.String()
	}
}

// Redact is a text with all secrets taken out.
func (s *Set) Redact(text string) string {
	if r := s.ready(); r != nil {
		return r.Replace(text)
	}
	return text
}

func (s *Set) ready() *strings.Replacer {
	s.mu.RLock()
	r, none := s.replacer, len(s.marks) == 0
	s.mu.RUnlock()
	if r != nil || none {
		return r
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.replacer == nil {
		// The longest first, so that none is left in half.
		texts := slices.SortedFunc(maps.Keys(s.marks), func(a, b string) int {
			if len(a) != len(b) {
				return len(b) - len(a)
			}
			return strings.Compare(a, b)
		})
		var pairs []string
		for _, text := range texts {
			pairs = append(pairs, text, s.marks[text])
		}
		s.replacer = strings.NewReplacer(pairs...)
	}
	return s.replacer
}

// Exchange is an exchange with all secrets taken out of what was sent and of what
// came back.
func (s *Set) Exchange(e exchange.Exchange) exchange.Exchange {
	if s.ready() == nil {
		return e
	}
	e.Request.URL = s.Redact(e.Request.URL)
	e.Request.Headers = slices.Clone(e.Request.Headers)
	for i, h := range e.Request.Headers {
		e.Request.Headers[i][1] = s.Redact(h[1])
	}
	if body := s.bytes(e.Request.Body); string(body) != string(e.Request.Body) {
		e.Request.Body = body
	}
	e.Body, e.Control = s.value(e.Body), s.value(e.Control)
	if e.Parts != nil {
		parts := make(map[string]any, len(e.Parts))
		for in, v := range e.Parts {
			parts[in] = s.value(v)
		}
		e.Parts = parts
	}
	e.Response.Body, e.Response.Err = s.bytes(e.Response.Body), s.Redact(e.Response.Err)
	header := make(http.Header, len(e.Response.Header))
	for name, values := range e.Response.Header {
		for _, v := range values {
			header[name] = append(header[name], s.Redact(v))
		}
	}
	e.Response.Header = header
	if e.Documented != nil {
		d := *e.Documented
		d.At, d.How = s.Redact(d.At), s.Redact(d.How)
		e.Documented = &d
	}
	return e
}

func (s *Set) bytes(b []byte) []byte {
	if len(b) == 0 {
		return b
	}
	return []byte(s.Redact(string(b)))
}

// value is a JSON value with all secrets taken out, as its text would be.
func (s *Set) value(v any) any {
	switch v := v.(type) {
	case string:
		return s.Redact(v)
	case json.Number:
		return json.Number(s.Redact(string(v)))
	case []any:
		out := make([]any, len(v))
		for i, e := range v {
			out[i] = s.value(e)
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(v))
		for _, name := range instance.Names(v) {
			out[s.Redact(name)] = s.value(v[name])
		}
		return out
	}
	return v
}

// Writer takes secrets out of whole writes to w.
func (s *Set) Writer(w io.Writer) io.Writer { return writer{s, w} }

type writer struct {
	set *Set
	w   io.Writer
}

func (w writer) Write(p []byte) (int, error) {
	if _, err := io.WriteString(w.w, w.set.Redact(string(p))); err != nil {
		return 0, err
	}
	return len(p), nil
}
