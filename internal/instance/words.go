package instance

import (
	"bytes"
	"encoding/json"
	"strings"
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
