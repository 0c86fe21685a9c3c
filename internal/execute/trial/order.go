package trial

import (
	"net/http"
	"slices"
	"strings"

	"obiter/internal/input/config"
)

// byItself reports whether an operation may change the service as a whole: a POST that the
// configuration allows, of which nobody knows what it does; what makes a fixture that keeps
// nothing and is undone where there is no record, such as a closure, and what undoes it.
func (t *trial) byItself(operation string) bool {
	if strings.HasPrefix(operation, http.MethodPost+" ") && t.conf.Operations[operation].Allow {
		return true
	}
	return slices.ContainsFunc(t.conf.Fixtures, func(f config.Fixture) bool {
		return (f.Send == operation || f.Undo == operation) && len(f.Keep) == 0 && !f.Reads && f.Undo != "" && !strings.Contains(f.Undo, "{")
	})
}

// makers are the operations that are sent to make what an operation needs, and to take it
// away again.
func (t *trial) makers(operation string) []string {
	var out []string
	for _, f := range t.conf.Needed([]string{operation}) {
		if out = append(out, f.Send); f.Undo != "" {
			out = append(out, f.Undo)
		}
	}
	return out
}
