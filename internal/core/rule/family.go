package rule

import (
	"maps"
	"slices"

	"obiter/internal/core/exchange"
)

// families take rules together that services enforce, or forget, in one place: the
// words that name them for people.
var families = map[string][]string{
	"left out":           {"required", "dependentRequired"},
	"wrong type":         {"type"},
	"not listed":         {"enum", "const"},
	"length":             {"minLength", "maxLength"},
	"pattern":            {"pattern"},
	"format":             {"format"},
	"bounds":             {"minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum", "multipleOf"},
	"lists":              {"minItems", "maxItems", "uniqueItems", "items", "unevaluatedItems", "contains", "minContains", "maxContains"},
	"unknown members":    {"properties", "additionalProperties", "unevaluatedProperties", "propertyNames"},
	"number of members":  {"minProperties", "maxProperties"},
	"alternatives":       {"oneOf", "anyOf", "not"},
	"malformed JSON":     {"malformed-json"},
	"malformed XML":      {"malformed-xml"},
	"patches":            {"patch-operation"},
	"no body":            {"empty-body"},
	"names twice":        {"duplicate-member"},
	"media type":         {"wrong-content-type", "unusual-charset", "wrong-content-encoding", "unusual-accept"},
	"unusual text":       {"unusual-text"},
	"unusual numbers":    {"unusual-number", "number-text"},
	"unusual dates":      {"unusual-date"},
	"set by the service": {"read-only"},
	"empty headers":      {"empty-field"},
	"size":               {"deep-nesting", "large-body"},
	"not there":          {"unknown-id", "unknown-path"},
	"parameters twice":   {"repeated"},
	"method":             {"wrong-method"},
	"credentials":        {"credentials"},
	"rules of your own":  {"rule", "holds"},
	"taken values":       {"unique"},
	"blanks":             {"trimmed", "not-blank", "blank"},
	"references":         {"exists", "is"},
	severalFields:        nil,
	"null":               nil,
	"empty":              nil, // of parameters, which have no null
	"of a readable type": nil,
}

// severalFields is the family of requests with more than one flaw.
const severalFields = "several fields"

var familyOf = func() map[string]string {
	out := map[string]string{}
	for family, rules := range families {
		for _, r := range rules {
			out[r] = family
		}
	}
	return out
}()

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
	return familyOf[flaws[0].Rule]
}

// Chosen are the rules that a word chooses: one by its name, or those of a family;
// false where there are none.
func Chosen(word string) ([]string, bool) {
	if rules, is := families[word]; is && len(rules) > 0 {
		return rules, true
	}
	if r, known := Find(word); known && r.Unbroken == "" {
		return []string{word}, true
	}
	return nil, false
}

// Choices are all words that choose rules, in their order.
func Choices() []string {
	var out []string
	for _, r := range All {
		if r.Unbroken == "" {
			out = append(out, r.Name)
		}
	}
	for _, family := range slices.Sorted(maps.Keys(families)) {
		if len(families[family]) > 0 && !slices.Contains(out, family) {
			out = append(out, family)
		}
	}
	return out
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
