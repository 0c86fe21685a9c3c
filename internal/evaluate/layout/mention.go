package layout

import (
	"strings"
	"unicode"

	"obiter/internal/core/instance"
)

// Mentions finds a text in the answer that has the field's name in it as a
// word, for answers that say it only in a sentence.
func Mentions(doc any, pointer string) (string, bool) {
	name := instance.Last(pointer)
	if isIndex(name) {
		name = instance.Last(instance.Parent(pointer))
	}
	found := ""
	nodes := 0
	instance.Walk(doc, func(_ string, v any) bool {
		nodes++
		if s, ok := v.(string); ok && found == "" && hasWord(s, name) {
			found = s
		}
		return nodes < maxNodes && found == ""
	})
	return found, found != ""
}

// hasWord reports whether a name is in a text as a word or as several, in any
// spelling of it. A name inside another word does not count: id in INVALID.
func hasWord(text, name string) bool {
	name = strings.Join(wordsOf(instance.Level(name)), "")
	words := wordsOf(strings.ToLower(text))
	for i := range words {
		joined := ""
		for _, w := range words[i:] {
			if joined += w; len(joined) >= len(name) {
				break
			}
		}
		if name != "" && joined == name {
			return true
		}
	}
	return false
}

func wordsOf(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) })
}

// Speaks reports whether a message names the field in words.
func (n Named) Speaks(pointer string) bool { return hasWord(n.Message, instance.Last(pointer)) }
