package schema

import (
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"golang.org/x/text/language"
	"golang.org/x/text/message"
)

var english = message.NewPrinter(language.English)

// wording is the validator's own sentence about a violation, on one line.
func wording(k jsonschema.ErrorKind) string {
	return strings.ReplaceAll(k.LocalizedString(english), "\n", " ")
}
