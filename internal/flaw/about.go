package flaw

// About is what is known of a rule, for whoever reads its name.
type About struct {
	Rule string // a JSON Schema keyword, or the name of a flaw of the request as a whole
	Says string // how it is broken
}

// Rules are all rules that are broken, in the order of the manual.
var Rules = []About{
	{"required", "A required member, parameter or form field is left out; all of an object's at once."},
	{"type", "Every other JSON type, and what lenient readers take for the right one: \"12\" for 12, 12.5 for an integer, 1 for true, null where it is not allowed. In parameters and forms only what no reading of the text makes right."},
	{"enum", "A value that is not listed, one that is markup; a listed one in another letter case, or with blanks around it; the empty text."},
	{"const", "As for enum."},
	{"minLength", "A text one character too short; the empty text. Characters are Unicode code points."},
	{"maxLength", "A text one character too long, far too long, and one too long in characters of two bytes."},
	{"pattern", "Near misses of a text that matches: cut, extended, one character of another class, a line break at the end, other text around it."},
	{"format", "A set of texts that the format forbids; for int32 and int64 the first numbers beyond."},
	{"minimum", "One step below, far below, beyond 64 bits. A step is that of multipleOf, 1 for integers, a hundredth for other numbers."},
	{"maximum", "The same upwards."},
	{"exclusiveMinimum", "The bound itself, then as for minimum."},
	{"exclusiveMaximum", "The bound itself, then as for maximum."},
	{"multipleOf", "Half a step off, exactly in decimal."},
	{"minItems", "A list one element too short; the empty list."},
	{"maxItems", "A list one element too long, of valid elements."},
	{"uniqueItems", "One element stands twice."},
	{"contains", "A list in which no element is of the sort that must be there."},
	{"additionalProperties", "A member that is not described, a described name misspelt, one in another letter case."},
	{"unevaluatedProperties", "As for additionalProperties."},
	{"propertyNames", "A member with a name that is not allowed."},
	{"minProperties", "One member too few, where required does not imply it."},
	{"maxProperties", "One member too many."},
	{"dependentRequired", "A member stays and what it calls for is left out. Consequences of if/then/else and dependentSchemas are broken by their own rules, with the condition met."},
	{"oneOf", "A value that no alternative takes; one that two take. Rules inside the alternative taken are broken like any others, in a control for each."},
	{"anyOf", "A value that no alternative takes."},
	{"not", "A value of the sort that is ruled out."},
	{"malformed-json", "What is no JSON text (RFC 8259): cut off, a trailing comma, single quotes, other text behind it, a comment, bytes that are not UTF-8."},
	{"empty-body", "No body where one is required."},
	{"duplicate-member", "An object's first member stands twice, with two values. Where that is accepted, it is a warning."},
	{"wrong-content-type", "The body under a media type that is not described, under one that only ends in +json, and under none; where the last is accepted, it is a warning."},
	{"unusual-charset", "A charset that there is not beside JSON, which has no such parameter: success is right too."},
	{"wrong-content-encoding", "A Content-Encoding that there is not; where that is accepted, it is a warning."},
	{"unusual-accept", "An answer of another kind is asked for by a malformed request: 406 or the usual rejection, and never a page."},
	{"deep-nesting", "A JSON text that nests very deeply; once a plan."},
	{"large-body", "A body of 8 MiB; once a plan, in deep runs."},
	{"unknown-id", "A path parameter of the right form that names no record, as far as one can know; where that is accepted, it is a warning. Not for PUT, which may create it."},
	{"repeated", "A query parameter that is no list, sent twice: success is right too."},
	{"unknown-path", "A path that the description does not have; once a plan."},
	{"wrong-method", "A method that the path does not describe; GET first, for it changes nothing."},
	{"rule", "What the configuration makes wrong by hand (rules: flaw and patch)."},
	{"holds", "An expression of the configuration (rules: holds) is made false by the smallest change that is found, one of the fields it blames first; edges just keep it."},
	{"unique", "The value of the record that the first control made, where the configuration says unique. All other requests have new values there."},
	{"trimmed", "A text that is long enough only by its blanks, where the configuration says trimmed; an edge has blanks around the text."},
	{"credentials", "The credential of a security scheme left out, malformed, and one of the right form that is nobody's. Only where the operation declares security and a value is known."},
	{"not-blank", "A text of blanks alone, where the configuration says not_blank."},
	{"exists", "A well-formed value that names nothing, where the configuration says exists."},
}
