package sample

import (
	"fmt"
	"regexp"
	"slices"

	"obiter/internal/core/instance"
	"obiter/internal/input/schema"
)

// Plain makes a value that every place of a request can carry: of examples only those
// made of letters and digits, of objects no others inside. The error says why there is none.
func (m *Maker) Plain(root schema.Schema) (any, error) {
	b := m.newBuilder(true)
	b.plain, b.usual = true, schema.String
	v, err := b.value("", []schema.Schema{root}, 0)
	if err == nil && !root.Valid(v) {
		err = fmt.Errorf("no value of letters and digits obeys the schema")
	}
	return v, err
}

// plainText matches what no style of parameters takes for a separator, and no address for
// more than a segment (RFC 3986, section 2.3, without the full stop).
var plainText = regexp.MustCompile(`^[A-Za-z0-9_~-]+$`)

// isPlain reports whether all texts of a value are plain.
func isPlain(v any) bool {
	plain := true
	instance.Walk(v, func(at string, inner any) bool {
		text, is := inner.(string)
		plain = plain && (!is || plainText.MatchString(text)) && (at == "" || plainText.MatchString(instance.Last(at)))
		return plain
	})
	return plain
}

// plainFirst puts plain values before the others.
func plainFirst[T any](list []T) []T {
	plain := slices.DeleteFunc(slices.Clone(list), func(v T) bool { return !isPlain(v) })
	return append(plain, slices.DeleteFunc(slices.Clone(list), func(v T) bool { return isPlain(v) })...)
}
