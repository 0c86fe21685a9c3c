// Package terminal writes results as text for people: with colour and in columns where that is
// wanted, and never with a character in it that steers a terminal.
package terminal

import "io"

// Printer prints results.
type Printer struct {
	Out io.Writer
	Style
	Redact func(string) string // takes secrets out of a text
}
