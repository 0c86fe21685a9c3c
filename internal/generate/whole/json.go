package whole

import (
	"bytes"
	"encoding/json"
	"slices"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/generate/flaw"
)

// MalformedJSON sends what no JSON reader may take (RFC 8259).
func MalformedJSON(r *Request) {
	control, body := r.Control, r.Bytes
	if control == nil || !r.readsJSON() {
		return
	}
	last := len(body) - 1
	for _, m := range []struct {
		variant string
		depth   flaw.Depth
		body    []byte
		reason  string
	}{
		{"cut-off", flaw.Quick, body[:last], "the last character of the JSON is cut off"},
		{"trailing-comma", flaw.Usual, trailingComma(body), "a comma comes before the closing bracket"},
		{"single-quotes", flaw.Usual, bytes.ReplaceAll(body, []byte(`"`), []byte(`'`)), "strings are in single quotes"},
		{"trailing-text", flaw.Usual, append(bytes.Clone(body), " ballast"...), "text follows the end of the JSON"},
		{"comment", flaw.Deep, append([]byte("/* ballast */ "), body...), "a comment comes before the JSON"},
		{"nan", flaw.Usual, inNumber(body, func(string) string { return "NaN" }), "NaN stands where a number is"},
		{"leading-zero", flaw.Deep, inNumber(body, func(n string) string { return strings.Replace("0"+n, "0-", "-0", 1) }), "a number has a leading zero"},
		{"unquoted-name", flaw.Deep, unquoted(body), "a name has no quotes"},
		{"byte-order-mark", flaw.Deep, append([]byte("\xef\xbb\xbf"), body...), "the JSON begins with the byte order mark of UTF-8 (RFC 8259, section 8.1)"},
		{"byte-order-mark-utf-16", flaw.Deep, append([]byte("\xff\xfe"), body...), "the JSON begins with the byte order mark of UTF-16"},
		{"not-utf-8", flaw.Usual, inText(body, "\xff"), "a string is not UTF-8"},
	} {
		if m.depth > r.Depth || last < 1 || m.body == nil || json.Valid(m.body) && m.variant != "not-utf-8" || bytes.Equal(m.body, body) {
			continue
		}
		r.whole(control, "malformed-json", m.variant, m.reason, r.Again(r.Method, r.Media, m.body))
	}
	if twice := duplicated(body); twice != nil && r.at(flaw.Usual) {
		r.whole(control, "duplicate-member", "first", "the first member appears twice with two values, and readers differ on which one counts (RFC 8259, section 4)", r.Again(r.Method, r.Media, twice))
	}
}

// inText puts bytes into the first string of a JSON text that is a value, as it is written;
// nil where there is none.
func inText(body []byte, added string) []byte {
	from, to := firstToken(body, func(t json.Token, name bool) bool {
		_, is := t.(string)
		return is && !name
	})
	if from == to {
		return nil
	}
	return slices.Concat(body[:from+1], []byte(added), body[from+1:])
}

// inNumber is a JSON text with something else for its first number; nil where it has none.
func inNumber(body []byte, other func(string) string) []byte {
	from, to := firstToken(body, func(t json.Token, _ bool) bool {
		_, is := t.(json.Number)
		return is
	})
	if from == to {
		return nil
	}
	return slices.Concat(body[:from], []byte(other(string(body[from:to]))), body[to:])
}

// unquoted is a JSON text whose first name has no quotes; nil where it has no name.
func unquoted(body []byte) []byte {
	from, to := firstToken(body, func(_ json.Token, name bool) bool { return name })
	if from == to {
		return nil
	}
	return slices.Concat(body[:from], body[from+1:to-1], body[to:])
}

// firstToken is where the first token of a JSON text is that fits, names told from
// strings; nothing where none does.
func firstToken(body []byte, fits func(t json.Token, name bool) bool) (from, to int) {
	d := json.NewDecoder(bytes.NewReader(body))
	d.UseNumber()
	for {
		before := int(d.InputOffset())
		t, err := d.Token()
		if err != nil {
			return 0, 0
		}
		end := int(d.InputOffset())
		rest := bytes.TrimLeft(body[end:], " \t\r\n")
		_, text := t.(string)
		if !fits(t, text && len(rest) > 0 && rest[0] == ':') {
			continue
		}
		begin := bytes.IndexFunc(body[before:end], func(r rune) bool { return !strings.ContainsRune(" \t\r\n,:", r) })
		return before + max(begin, 0), end
	}
}

// duplicated is an object's text with another value for its first member before
// it; nil if there is none.
func duplicated(body []byte) []byte {
	d := json.NewDecoder(bytes.NewReader(body))
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return nil
	}
	name, err := d.Token()
	if text, ok := name.(string); err == nil && ok {
		quoted := instance.Encode(text)
		return append(append(append([]byte("{"), quoted...), ":null,"...), body[1:]...)
	}
	return nil
}

func trailingComma(body []byte) []byte {
	last := len(body) - 1
	if last < 2 || body[last] != '}' && body[last] != ']' || body[last-1] == '{' || body[last-1] == '[' {
		return body
	}
	return append(append(bytes.Clone(body[:last]), ','), body[last])
}
