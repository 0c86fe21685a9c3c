package rule

import (
	"slices"

	"obiter/internal/core/exchange"
)

// severalFields is the family of requests with more than one flaw.
const severalFields = "several fields"

// readable are variants of a wrong type that lenient readers take for the right one.
var readable = map[string]bool{"numeric-string": true, "boolean-string": true, "one-for-true": true, "zero-for-false": true, "fraction": true, "bare-element": true, "wrapped": true, "empty-string": true}

// Family is what a request's flaws have in common with those that a service would
// enforce, or forget, in the same place. It is empty for no flaw.
func Family(flaws []exchange.Flaw) string {
	switch {
	case len(flaws) == 0:
		return ""
	case len(flaws) > 1:
		return severalFields
	case flaws[0].Rule == "type" && flaws[0].Variant == "null" && flaws[0].In != "body":
		return "empty"
	case flaws[0].Rule == "type" && flaws[0].Variant == "null":
		return "null"
	case flaws[0].Rule == "type" && readable[flaws[0].Variant]:
		return "of a readable type"
	}
	r, _ := Find(flaws[0].Rule)
	return r.Family
}

// Chosen are the rules that a word chooses: one by its name, or those of a family;
// false where there are none.
func Chosen(word string) (out []string, ok bool) {
	for _, r := range All {
		if r.Unbroken == "" && (r.Family == word || r.Name == word) {
			out = append(out, r.Name)
		}
	}
	return out, len(out) > 0
}

// Choices are all words that choose rules, in their order.
func Choices() (out []string) {
	var families []string
	for _, r := range All {
		if r.Unbroken != "" {
			continue
		}
		out = append(out, r.Name)
		if r.Family != r.Name && !slices.Contains(families, r.Family) {
			families = append(families, r.Family)
		}
	}
	slices.Sort(families)
	return append(out, families...)
}

// Broad takes the families of types together: what a service does not expect makes
// it fail in one place, however it is wrong.
func Broad(family string) string {
	if family == "null" || family == "empty" || family == "of a readable type" {
		return "wrong type"
	}
	return family
}

// IsSeveral reports whether a family is that of requests with several flaws.
func IsSeveral(family string) bool { return family == severalFields }
