// Package suggest finds the name that somebody meant who wrote another: a command,
// an option, a key of the configuration, an operation.
package suggest

import (
	"strings"

	"github.com/agnivade/levenshtein"
)

// Name is the choice most like what was written, letter case and the dashes and
// underscores of compound names aside; false where none is near.
func Name(written string, choices []string) (string, bool) {
	best, distance := "", 0
	for _, c := range choices {
		if d := levenshtein.ComputeDistance(plain(written), plain(c)); best == "" || d < distance {
			best, distance = c, d
		}
	}
	return best, best != "" && distance <= max(2, len(written)/3)
}

func plain(name string) string { return strings.ToLower(strings.ReplaceAll(name, "-", "_")) }
