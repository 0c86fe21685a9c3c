package secret

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"unicode/utf8"

	"obiter/internal/core/instance"
)

// spellings are the ways in which a text may be written. JSON may be quoted in
// JSON, as bodies in run files are, and a service may escape more than it has to.
func spellings(value string) []string {
	var out []string
	for _, text := range percentEncoded(value) {
		out = append(out, text)
		out = append(out, base64s(text)...)
		for _, escape := range []func(string) string{quoted, htmlQuoted, asciiQuoted(false), asciiQuoted(true), slashQuoted} {
			once := escape(text)
			out = append(out, once, quoted(once), quoted(quoted(once)), escape(once), escape(escape(once)))
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// leastBase64 is how long a text in base64 has to be, in characters, to be looked for inside of
// others.
const leastBase64 = 8

// base64s is a text in base64, with padding and without, and the part of it that is the same
// wherever it stands in something longer, in both alphabets.
func base64s(text string) []string {
	var out []string
	for _, e := range []*base64.Encoding{base64.StdEncoding, base64.URLEncoding} {
		out = append(out, e.EncodeToString([]byte(text)), e.WithPadding(base64.NoPadding).EncodeToString([]byte(text)))
		for before := range 3 {
			all := e.WithPadding(base64.NoPadding).EncodeToString(append(make([]byte, before), text...))
			inner := all[(before*8+5)/6 : (before+len(text))*8/6]
			if len(inner) >= leastBase64 {
				out = append(out, inner)
			}
		}
	}
	return out
}

// percentEncoded is a text as it is and in the ways in which URLs and forms write it.
func percentEncoded(value string) []string {
	out := []string{value, url.QueryEscape(value), url.PathEscape(value), strings.ReplaceAll(url.QueryEscape(value), "+", "%20")}
	for _, text := range out[1:] {
		out = append(out, strings.ReplaceAll(text, "%2F", "/")) // as in a path, or a query
	}
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
