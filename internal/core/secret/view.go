package secret

import (
	"bytes"
	"cmp"
	"encoding/json"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"obiter/internal/core/instance"
)

// view is what some secrets are found with.
type view struct {
	names  map[string]string // by secret
	inside *strings.Replacer // of texts that hold a secret
	digits *strings.Replacer // of numbers
	whole  map[string]string // marks of short secrets
	quoted *strings.Replacer // of short secrets in quotation marks, in texts that are nearly JSON
}

func newView(names map[string]string) *view {
	v := &view{names: names, whole: map[string]string{}}
	marks := map[string]string{}
	var digits, quotes []string
	for _, value := range slices.Sorted(maps.Keys(names)) {
		if short(value) {
			m := mark(names[value], value)
			v.whole[value] = m
			quotes = append(quotes, `"`+quoted(value)+`"`, `"`+m+`"`, `'`+quoted(value)+`'`, `'`+m+`'`)
			continue
		}
		for _, text := range spellings(value) {
			marks[text] = mark(names[value], text)
		}
		if number(value) {
			digits = append(digits, value, mark("", value))
		}
	}
	// The longest first, so that none is left in half.
	var pairs []string
	for _, text := range slices.SortedFunc(maps.Keys(marks), func(a, b string) int {
		return cmp.Or(len(b)-len(a), strings.Compare(a, b))
	}) {
		pairs = append(pairs, text, marks[text])
	}
	v.inside, v.digits, v.quoted = strings.NewReplacer(pairs...), strings.NewReplacer(digits...), strings.NewReplacer(quotes...)
	return v
}

func number(text string) bool { return strings.Trim(text, "0123456789") == "" }

// mark is what is written in place of a secret. Digits stay digits, so that a
// number in JSON stays a number.
func mark(name, text string) string {
	if number(text) {
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

// text is a value that is a text.
func (v *view) text(text string) string {
	if m, is := v.whole[text]; is {
		return m
	}
	return v.inside.Replace(text)
}

// name is the name of a member. One that is a word as a whole is a word of the API.
func (v *view) name(name string) string {
	if word.MatchString(name) {
		return name
	}
	return v.text(name)
}

// value is a JSON value.
func (v *view) value(value any) any {
	switch value := value.(type) {
	case string:
		return v.text(value)
	case json.Number:
		return json.Number(v.digits.Replace(string(value)))
	case []any:
		out := make([]any, len(value))
		for i, e := range value {
			out[i] = v.value(e)
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(value))
		for _, name := range instance.Names(value) {
			out[v.name(name)] = v.value(value[name])
		}
		return out
	}
	return value
}

// json is a text in JSON, or nearly so: its strings are taken for what they mean, and
// all else stays as it is written.
func (v *view) json(text []byte) []byte {
	var out bytes.Buffer
	rest := text
	between := v.inside
	if json.Valid(text) {
		between = v.digits
	}
	for {
		at := bytes.IndexByte(rest, '"')
		end := -1
		if at >= 0 {
			end = stringEnd(rest[at:])
		}
		if end < 0 {
			out.WriteString(between.Replace(string(rest)))
			break
		}
		out.WriteString(between.Replace(string(rest[:at])))
		token := rest[at : at+end]
		rest = rest[at+end:]
		isName := bytes.HasPrefix(bytes.TrimLeft(rest, " \t\r\n"), []byte(":"))
		out.Write(v.token(token, isName))
	}
	if between == v.inside {
		return []byte(v.quoted.Replace(v.inside.Replace(out.String())))
	}
	return out.Bytes()
}

// token is a string in JSON with its quotation marks.
func (v *view) token(token []byte, isName bool) []byte {
	var text string
	if !utf8.Valid(token) || json.Unmarshal(token, &text) != nil {
		return []byte(v.inside.Replace(string(token)))
	}
	take := v.text
	if isName {
		take = v.name
	}
	now := take(text)
	if now == text {
		return token
	}
	return instance.Encode(now)
}

// stringEnd is the length of the string in JSON that a text begins with; -1 where it
// has no end.
func stringEnd(text []byte) int {
	for i := 1; i < len(text); i++ {
		switch text[i] {
		case '\\':
			i++
		case '"':
			return i + 1
		}
	}
	return -1
}
