package schema

import (
	"errors"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"
	"golang.org/x/text/language"
	"golang.org/x/text/message"
)

var english = message.NewPrinter(language.English)

// wording is the validator's own sentence about a violation, on one line.
func wording(k jsonschema.ErrorKind) string {
	if isTooLong(k) {
		return k.(*kind.Format).Err.Error()
	}
	return strings.ReplaceAll(k.LocalizedString(english), "\n", " ")
}

// isTooLong reports whether what is wrong with a schema is only that a pattern is too long.
func isTooLong(k jsonschema.ErrorKind) bool {
	f, is := k.(*kind.Format)
	var long *tooLong
	return is && errors.As(f.Err, &long)
}
