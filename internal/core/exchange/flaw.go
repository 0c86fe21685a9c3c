package exchange

import (
	"strings"

	"obiter/internal/core/instance"
)

// Flaw is one planted violation, or of an edge the boundary that it is on.
type Flaw struct {
	In      string `json:"in"`      // body, path, query, header, cookie; request: the request as a whole
	Pointer string `json:"pointer"` // of the flawed field; for required, of the missing one
	Rule    string `json:"rule"`    // a JSON Schema keyword, or a name such as malformed-json
	Variant string `json:"variant"` // how it is broken, such as one-above
	Reason  string `json:"reason"`  // in words
	// RequiredBy is the member that makes the missing one necessary, of a
	// dependentRequired: its presence may be blamed as well.
	RequiredBy string `json:"requiredBy,omitempty"`
}

// Where says in words where the flaw is: /crew/0/name in a body, header X-Watch,
// query limit, query filter/colour inside a parameter.
func (f Flaw) Where() string {
	if f.Pointer == "" || f.In == "request" {
		return "the " + f.In
	}
	tokens, err := instance.Split(f.Pointer)
	if f.In == "body" || err != nil {
		return f.Pointer
	}
	return f.In + " " + strings.Join(tokens, "/")
}

// OfField reports whether the flaw is in a field that an answer can name, and
// not in the body or the request as a whole.
func (f Flaw) OfField() bool { return f.In != "request" && f.Pointer != "" }

// Markup is sent to see whether it comes back in a page unescaped.
const Markup = "<tide-mark>"
