package document

import (
	"fmt"
	"strings"

	"go.yaml.in/yaml/v4"

	"obiter/internal/core/instance"
)

// Scalar is a text as a YAML scalar on one line, quoted where it has to be.
func Scalar(text string) string {
	n := yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: text}
	if strings.ContainsAny(text, "\r\n,[]{}") || strings.ContainsFunc(text, hidden) { // the brackets mean something where a mapping is written on one line
		n.Style = yaml.DoubleQuotedStyle
	}
	out, err := yaml.Dump(&n, yaml.WithLineWidth(-1))
	if err != nil {
		panic("document: writing a scalar: " + err.Error())
	}
	return escaped(strings.TrimSuffix(string(out), "\n"))
}

// Comment is a text as it stands behind a number sign: on one line, with what nobody sees
// escaped.
func Comment(text string) string { return escaped(instance.OneLine(text)) }

// hidden reports whether a character is not seen, or ends a line for a reader of YAML 1.1.
func hidden(r rune) bool { return instance.Unseen(r) || r == '\u2028' || r == '\u2029' }

// escaped writes what nobody sees as YAML 1.2 escapes it in double quotes (section 5.7).
func escaped(text string) string {
	if !strings.ContainsFunc(text, hidden) {
		return text
	}
	var b strings.Builder
	for _, r := range text {
		switch {
		case !hidden(r):
			b.WriteRune(r)
		case r > 0xffff:
			fmt.Fprintf(&b, `\U%08x`, r)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
	}
	return b.String()
}
