package document

import (
	"strings"

	"go.yaml.in/yaml/v4"
)

// Scalar is a text as a YAML scalar on one line, quoted where it has to be.
func Scalar(text string) string {
	n := yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: text}
	if strings.ContainsAny(text, "\r\n,[]{}") { // the latter mean something where a mapping is written on one line
		n.Style = yaml.DoubleQuotedStyle
	}
	out, err := yaml.Dump(&n, yaml.WithLineWidth(-1))
	if err != nil {
		panic("document: writing a scalar: " + err.Error())
	}
	return strings.TrimSuffix(string(out), "\n")
}
