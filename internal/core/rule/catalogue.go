package rule

import "obiter/internal/core/exchange"

// What a name above the flawed field is worth for the rules of values, and for
// those of which it is the object that is wrong.
const (
	holdsIt = Vague
	isIt    = Right
)

// value is the entry of a rule about single values.
func value(name, family string, stage Stage, says string) Rule {
	class := exchange.Constraint
	if name == "type" {
		class = exchange.Type
	}
	return Rule{Name: name, Family: family, Says: says, Target: Value, Class: class, Stage: stage, Parent: holdsIt, Above: holdsIt}
}

// of is the entry of a rule about the limits of values of one type.
func of(target Target, name, family, says string) Rule {
	r := value(name, family, Limits, says)
	r.Target = target
	return r
}

// object is the entry of a rule about which members an object has: it is the
// object that must not have the member.
func object(name, family string, stage Stage, class exchange.Class, parent Blame, says string) Rule {
	return Rule{Name: name, Family: family, Says: says, Target: Object, Class: class, Stage: stage, Parent: parent, Above: holdsIt}
}

// choice is the entry of a rule about the whole of a value: readers report it
// where they notice it.
func choice(name, family, says string) Rule {
	return Rule{Name: name, Family: family, Says: says, Target: Value, Class: exchange.Constraint, Stage: Limits, Parent: isIt, Above: isIt}
}

func whole(name, family string, class exchange.Class, layer Layer, success Success, says string) Rule {
	return Rule{Name: name, Family: family, Says: says, Target: Request, Class: class, Stage: Limits, Parent: holdsIt, Above: holdsIt, Layer: layer, Success: success}
}

func business(name, family string, class exchange.Class, says string) Rule {
	return Rule{Name: name, Family: family, Says: says, Target: Payload, Class: class, Stage: Limits, Parent: holdsIt, Above: holdsIt, Business: true}
}

// unbroken is the entry of a keyword that has no flaws of its own.
func unbroken(name, why string) Rule {
	return Rule{Name: name, Target: Value, Class: exchange.Constraint, Stage: Limits, Parent: holdsIt, Above: holdsIt, Unbroken: why}
}

// All is the catalogue, in the order of the manual: the keywords of JSON Schema
// 2020-12's applicator, unevaluated and validation vocabularies, then requests
// as a whole, then what no schema says.
var All = []Rule{
	object("required", "left out", Presence, exchange.Constraint, holdsIt, "A required member, parameter or form field is left out; all of an object's at once."),
	value("type", "wrong type", Decoding, "Every other JSON type, and what lenient readers accept for the right one: \"12\" for 12, 12.5 for an integer, 1 for true, null where it is not allowed. In parameters and forms only what no reading of the text makes right."),
	value("enum", "not listed", Decoding, "A value that is not listed, one that is markup; a listed one in another letter case, or with spaces around it; the empty string. Of listed objects and arrays, one with a value changed, and one with a member or an element more."),
	value("const", "not listed", Decoding, "As for enum."),
	of(String, "minLength", "length", "A string one character too short; the empty string. Characters are Unicode code points."),
	of(String, "maxLength", "length", "A string one character too long, far too long, and one too long in characters of two bytes."),
	of(String, "pattern", "pattern", "Near misses of a string that matches: cut, extended, one character of another class, a line break at the end, other text around it."),
	value("format", "format", Decoding, "A set of strings that the format forbids; for int32 and int64 the first numbers beyond."),
	of(Number, "minimum", "bounds", "One step below, far below, beyond 64 bits. A step is that of multipleOf, 1 for integers, a hundredth for other numbers."),
	of(Number, "maximum", "bounds", "One step above, far above, beyond 64 bits."),
	of(Number, "exclusiveMinimum", "bounds", "The bound itself, then as for minimum."),
	of(Number, "exclusiveMaximum", "bounds", "The bound itself, then as for maximum."),
	of(Number, "multipleOf", "bounds", "Half a step off, exactly in decimal."),
	of(Array, "minItems", "lists", "An array one element too short; the empty array."),
	of(Array, "maxItems", "lists", "An array one element too long, of valid elements."),
	of(Array, "uniqueItems", "lists", "One element twice."),
	of(Array, "items", "lists", "Where items is false: one element more than prefixItems describes. Where it is a schema, that is broken by its own rules, in the first and the last element."),
	of(Array, "unevaluatedItems", "lists", "Where it is false: one element more than is described. Where it is a schema, nothing is sent."),
	of(Array, "contains", "lists", "An array in which no element matches."),
	of(Array, "minContains", "lists", "One matching element too few, where minContains is above 1."),
	of(Array, "maxContains", "lists", "One matching element too many."),
	object("properties", "unknown members", Decoding, exchange.UnknownField, isIt, "Where a property's schema is false: the property is sent. Where it is a schema, that is broken by its own rules."),
	object("additionalProperties", "unknown members", Decoding, exchange.UnknownField, isIt, "A member that is not described, a described name misspelt, one in another letter case."),
	object("unevaluatedProperties", "unknown members", Decoding, exchange.Constraint, isIt, "Where it is false: as for additionalProperties. Where it is a schema, nothing is sent."),
	object("propertyNames", "unknown members", Decoding, exchange.Constraint, isIt, "A member with a name that is not allowed."),
	object("minProperties", "number of members", Limits, exchange.Constraint, holdsIt, "One member too few, where required does not imply it."),
	object("maxProperties", "number of members", Limits, exchange.Constraint, holdsIt, "One member too many."),
	object("dependentRequired", "left out", Presence, exchange.Constraint, holdsIt, "A member stays and the one that it requires is left out. Consequences of if/then/else and dependentSchemas are broken by their own rules, with the condition met."),
	choice("oneOf", "alternatives", "A value that no branch accepts; one that two accept. Rules inside the branch taken are broken like any others, with a control for each branch."),
	choice("anyOf", "alternatives", "A value that no branch accepts."),
	choice("not", "alternatives", "A value of the sort that is ruled out."),
	unbroken("allOf", "its schemas are broken by their own rules"),
	unbroken("if", "it forbids nothing by itself; then and else are broken by their own rules, with the condition met"),
	unbroken("then", "it is broken by its own rules, with the condition met"),
	unbroken("else", "it is broken by its own rules, with the condition not met"),
	unbroken("dependentSchemas", "its schemas are broken by their own rules, with the member present"),
	unbroken("patternProperties", "its schemas are broken by their own rules, in members that the control has"),
	unbroken("prefixItems", "its schemas are broken by their own rules, each at its index"),

	func() Rule {
		r := whole("malformed-json", "malformed JSON", exchange.Syntax, Decoder, Fault, "What is not JSON (RFC 8259): cut off, a trailing comma, single quotes, text after the end, a comment, NaN, a number with a leading zero, a name without quotes, bytes that are not UTF-8. Where NaN, a leading zero, a name without quotes or such bytes are accepted, it is a warning: a reader may take more than JSON (section 9). A byte order mark of UTF-8 may be ignored (section 8.1).")
		r.Except = map[string]Exception{"not-utf-8": {Class: exchange.Constraint, Success: Doubtful}, // readers that replace such bytes reject the field instead
			"nan": {Success: Doubtful}, "leading-zero": {Success: Doubtful}, "unquoted-name": {Success: Doubtful}, "byte-order-mark": {Class: exchange.Either}}
		return r
	}(),
	func() Rule {
		r := whole("empty-body", "no body", exchange.EmptyBody, Decoder, Fault, "No body where one is required. Where the description says that it is optional, none is an edge; where it says nothing, success and rejection are both right.")
		r.Except = map[string]Exception{"left-open": {Class: exchange.Either}}
		return r
	}(),
	whole("malformed-xml", "malformed XML", exchange.Syntax, Decoder, Fault, "What is not well-formed XML (XML 1.0, section 2.1): cut off, an element that is not closed, text after the end, an entity that is not declared."),
	func() Rule {
		r := whole("patch-operation", "patches", exchange.Constraint, Operation, Fault, "A JSON Patch (RFC 6902) with an operation that does not exist, without one of its members, with a path that is no pointer or leads to nothing, and one that is not a list.")
		r.Except = map[string]Exception{"path-to-nothing": {Class: exchange.Reference}} // RFC 5789, section 2.2: a conflicting state
		return r
	}(),
	whole("duplicate-member", "names twice", exchange.Constraint, Decoder, Doubtful, "An object's first member appears twice, with two values. Where that is accepted, it is a warning (RFC 8259, section 4: names should be unique)."),
	func() Rule {
		r := whole("wrong-content-type", "media type", exchange.MediaType, Server, Fault, "The body under a media type that is not described, under one that only ends in +json, and under none. Where one of the last two is accepted, it is a warning (RFC 9110, section 8.3: the type may be guessed).")
		r.Except = map[string]Exception{"absent": {Class: exchange.UntypedBody, Success: Doubtful}, "other-json": {Success: Doubtful}}
		return r
	}(),
	func() Rule {
		r := whole("captured", "", exchange.Either, Operation, Fault, "")
		r.Unbroken = "it is the rule of captured requests of which nobody can tell whether they are valid; only the form of their answers is judged"
		return r
	}(),
	whole("unusual-charset", "media type", exchange.Either, Decoder, Fault, "A charset that does not exist, on JSON, which has no such parameter: success is right too."),
	whole("unusual-text", "unusual text", exchange.Either, Operation, Fault, "U+0000 inside a string that no pattern, format or list restricts, and half of a surrogate pair: JSON allows them and many databases do not. Success is right, and so is a rejection; a crash is not."),
	whole("unusual-number", "unusual numbers", exchange.Either, Operation, Fault, "A number beyond double precision where no bound forbids it: JSON allows it and few readers hold it. Success is right, and so is a rejection; a crash is not."),
	whole("unusual-date", "unusual dates", exchange.Either, Operation, Fault, "A date that is right and centuries off: of the years 1 and 9999. Success is right, and so is a rejection; a crash is not."),
	whole("number-text", "unusual numbers", exchange.Either, Operation, Fault, "In parameters and forms, what some readers take for a number and others do not: with a plus sign, a space before it, hexadecimal, in other digits. No standard says which; a crash is wrong in any case."),
	whole("blank", "blanks", exchange.Either, Operation, Fault, "A string of spaces where minLength or required shows that something is wanted, and an empty string in a list: the schema allows both. Success is right, and so is a rejection; a note tells which, and whether blanks are stored or trimmed. not_blank: in the configuration makes it a flaw."),
	whole("read-only", "set by the service", exchange.Either, Operation, Fault, "A member that is readOnly is sent, with a value that no service has by itself; in deep runs also members such as id and role that the description does not know. It may be ignored or refused. Where the answer shows it stored, or the resource when it is read afterwards, that is an error, and a warning of what is not described."),
	whole("empty-field", "empty headers", exchange.Either, Operation, Fault, "A header parameter without a value. Success is right, and so is a rejection."),
	whole("wrong-content-encoding", "media type", exchange.ContentCoding, Server, Doubtful, "A Content-Encoding that does not exist; where that is accepted, it is a warning (RFC 9110, section 15.5.16)."),
	func() Rule {
		r := whole("unusual-accept", "media type", exchange.NotAcceptable, Server, Fault, "A malformed request that accepts anything as its answer: the usual rejection; one that accepts only images: 406 or the usual rejection, and never a page; a GET that does: the usual answer is right too (RFC 9110, section 12.5.1).")
		r.Except = map[string]Exception{"image-png-alone": {Class: exchange.Ignorable}, "anything": {Class: exchange.Syntax}}
		return r
	}(),
	whole("deep-nesting", "size", exchange.TooLarge, Server, Fault, "JSON that nests very deeply; once a plan."),
	whole("large-body", "size", exchange.TooLarge, Server, Fault, "A body of 8 MiB; once a plan, in deep runs."),
	whole("unknown-id", "not there", exchange.NotFound, Operation, Doubtful, "Each path parameter in turn with a value of the right form that names no record, as far as one can know; where that is accepted, it is a warning. The last one of a PUT, which may create the record, only where the description has 404 and not 201."),
	whole("repeated", "parameters twice", exchange.Either, Operation, Fault, "A query parameter or a header that is not an array, sent twice: success is right too."),
	whole("unknown-path", "not there", exchange.NotFound, Server, Doubtful, "A path that the description does not have, at the root and next to the resources; once a plan."),
	whole("wrong-method", "method", exchange.Method, Server, Doubtful, "A method that the path does not describe; GET first, because it changes nothing."),
	func() Rule {
		r := whole("credentials", "credentials", exchange.Unauthorized, Operation, Fault, "The credential of a security scheme left out, malformed, and one of the right form that is nobody's; and valid ones that lack the right, where the configuration has such (lesser): 403 or 404 is right then. Only where the operation declares security and a value is known.")
		r.Except = map[string]Exception{"malformed": {Class: exchange.Malformed}, exchange.Lesser: {Class: exchange.Forbidden}}
		return r
	}(),

	business("rule", "rules of your own", exchange.Constraint, "What the configuration makes wrong by hand (rules: flaw and patch)."),
	business("holds", "rules of your own", exchange.Constraint, "An expression of the configuration (rules: holds) is made false by the smallest change that is found, one of the fields it blames first; edges just keep it."),
	business("unique", "taken values", exchange.Duplicate, "The value of the record that the first control made, where the configuration says unique. All other requests have new values there."),
	business("trimmed", "blanks", exchange.Constraint, "A string that is long enough only by its spaces, where the configuration says trimmed; an edge has spaces around the text."),
	business("not-blank", "blanks", exchange.Constraint, "A string of spaces only, where the configuration says not_blank."),
	business("is", "references", exchange.Reference, "A value of the right form that is not the one which the configuration says a field has to be (rules: is)."),
	business("exists", "references", exchange.Reference, "A well-formed value that names nothing, where the configuration says exists."),
}
