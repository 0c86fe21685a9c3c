package instance

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"
)

// Marshal is json.Marshal without HTML escapes, so that what is written can be
// read as it was sent.
func Marshal(v any) ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return nil, err
	}
	return bytes.TrimSuffix(b.Bytes(), []byte("\n")), nil
}

// Written is Marshal for what people may look at: characters that steer a terminal, or
// that nobody sees, are escaped (RFC 8259, section 7), which means the same.
func Written(v any) ([]byte, error) {
	text, err := Marshal(v)
	if err != nil {
		return nil, err
	}
	return Seen(text), nil
}

// Seen is a JSON text in which characters are escaped that steer a terminal, or that nobody
// sees.
func Seen(text []byte) []byte {
	if !slices.ContainsFunc(text, func(b byte) bool { return b >= 0x7f }) || !bytes.ContainsFunc(text, Unseen) { // JSON escapes the others
		return text
	}
	out := make([]byte, 0, len(text)+32)
	for _, r := range string(text) { // outside of strings JSON has none of them
		switch {
		case !Unseen(r):
			out = utf8.AppendRune(out, r)
		case r > 0xffff:
			high, low := utf16.EncodeRune(r)
			out = fmt.Appendf(out, `\u%04x\u%04x`, high, low)
		default:
			out = fmt.Appendf(out, `\u%04x`, r)
		}
	}
	return out
}

// Unseen reports whether a character steers a terminal, turns the direction of writing,
// or is not seen: those of Unicode's categories Cc and Cf.
func Unseen(r rune) bool { return unicode.IsControl(r) || unicode.Is(unicode.Cf, r) }

// Shorten cuts a text to so many characters, the last three being dots where
// something is cut off.
func Shorten(text string, most int) string {
	if r := []rune(text); len(r) > most {
		return string(r[:most-3]) + "..."
	}
	return text
}

// maxShown is how much of a value is shown in a message, in characters.
const maxShown = 60

// Shown is a value for a message: as JSON, shortened.
func Shown(v any) string { return Shorten(string(Encode(v)), maxShown) }

// OneLine is a text with its white space folded, for a message.
func OneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

var leveller = strings.NewReplacer("_", "", "-", "", " ", "")

// Level is a name in lower case, without what parts its words.
func Level(name string) string {
	for _, c := range []byte(name) {
		if c < 'a' && (c < '0' || c > '9') || c > 'z' {
			return strings.ToLower(leveller.Replace(name))
		}
	}
	return name
}

// Scalar is a text, a number or a boolean that is there; false for anything else.
func Scalar(v any, ok bool) (any, bool) {
	switch v.(type) {
	case string, json.Number, bool:
		return v, ok
	}
	return nil, false
}
