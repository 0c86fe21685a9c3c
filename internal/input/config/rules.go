package config

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/input/document"
)

// Rule is what no schema says. Exactly one of Holds, Flaw, Exists, Unique,
// NotBlank, Trimmed and Is is set.
type Rule struct {
	Holds string         // an expression in CEL
	Kept  map[string]any // what each ${NAME} in it is, by name; those that are not known yet are missing
	Flaw  string         // in words: a flaw that Patch and Parameters make
	Patch any            // merged over the fullest control (RFC 7396)
	// Parameters take the place of those of the fullest request; null leaves one out.
	Parameters Parameters
	Is         any            // what the field that Blames names has to be, and nothing else
	Blames     []string       // JSON Pointers of the fields to be named; empty: none need be
	Exists     string         // the pointer of a field that refers to something that exists
	Unique     string         // the pointer of a field whose value no two records share
	Fresh      bool           // a new value is wanted there, and the one that is taken is no flaw
	Around     string         // a text in which ${fresh} is new each time; "": all of the value is
	NotBlank   string         // the pointer of a text that may not be only spaces
	Trimmed    string         // the pointer of a string that loses its outer spaces before it is checked
	Status     int            // the one status that is right; 0: those of the class
	Says       *regexp.Regexp // what the message has to match; nil: anything
	Inferred   bool           // nobody wrote it: the description or an answer lets one think so

	tree *document.File
	at   string
}

// Fail is an error at the place of a member of a rule.
func (r Rule) Fail(member, hint, problem string, args ...any) error {
	if r.tree == nil { // made by hand
		return fmt.Errorf(problem, args...)
	}
	return r.tree.Fail(instance.Join(r.at, member), hint, problem, args...)
}

// Decided is a rule with the values that its ${NAME} stand for; false where it cannot be
// used without one that is not known yet.
func (c *Config) Decided(r Rule, values map[string]any) (Rule, bool) {
	r.Patch, r.Kept = c.Expand(r.Patch, values), c.Known(r.Holds, values)
	if text, is := r.Is.(string); is && !c.Resolves(text, values) {
		return r, false
	}
	r.Is = c.Expand(r.Is, values)
	var given Parameters
	for in, named := range r.Parameters {
		for name, v := range named {
			if text, is := v.(string); is && !c.Resolves(text, values) {
				return r, false
			}
			if given == nil {
				given = Parameters{}
			}
			if given[in] == nil {
				given[in] = map[string]any{}
			}
			given[in][name] = c.Expand(v, values)
		}
	}
	r.Parameters = given
	return r, true
}

// kinds are the members that say what a rule is about. All but holds and flaw
// name one field.
var kinds = []string{"holds", "flaw", "exists", "unique", "not_blank", "trimmed", "is"}

type ruleKeys struct {
	Holds, Flaw, Exists, Unique *string
	NotBlank                    *string `key:"not_blank"`
	Trimmed                     *string
	Is, Patch, Blames, Status   any
	Says                        *string
	values
}

// ReadRules reads rules at a pointer of another document: those of
// a description. Errors are *document.Error.
func ReadRules(tree *document.File, at string, v any) ([]Rule, error) {
	r := reader{tree}
	var list []ruleKeys
	if err := r.into(at, v, &list); err != nil {
		return nil, err
	}
	return r.rules(at, list)
}

func (r reader) rules(at string, list []ruleKeys) ([]Rule, error) {
	var out []Rule
	var all []error
	for i, e := range list {
		rule, err := r.rule(fmt.Sprintf("%s/%d", at, i), e)
		out, all = append(out, rule), append(all, err)
	}
	return out, document.Join(all...)
}

func (r reader) rule(at string, keys ruleKeys) (Rule, error) {
	rule := Rule{tree: r.tree, at: at, Patch: keys.Patch, Is: keys.Is}
	fail := func(key, hint, problem string, args ...any) (Rule, error) {
		return rule, r.tree.Fail(at+key, hint, problem, args...)
	}
	said := 0
	if keys.Is != nil {
		if said++; instance.Type(keys.Is) == "object" || instance.Type(keys.Is) == "array" {
			return fail("/is", "write a value, or ${NAME}", "is is %s", article(keys.Is))
		}
	}
	for i, into := range []*string{&rule.Holds, &rule.Flaw, &rule.Exists, &rule.Unique, &rule.NotBlank, &rule.Trimmed} {
		text := []*string{keys.Holds, keys.Flaw, keys.Exists, keys.Unique, keys.NotBlank, keys.Trimmed}[i]
		if text == nil {
			continue
		}
		said++
		*into = *text
		if key := kinds[i]; key != "flaw" && key != "holds" {
			if err := r.pointer(at+"/"+key, *text); err != nil {
				return rule, err
			}
		}
	}
	if said != 1 {
		return fail("", "write one of "+strings.Join(kinds, ", "), "the rule has %d kinds; expected one", said)
	}
	var err error
	if rule.Parameters, err = r.parameters(at, keys.values); err != nil {
		return rule, err
	}
	if (rule.Patch == nil && rule.Parameters == nil) == (rule.Flaw != "") {
		return fail("", "flaw: says in words what patch:, path:, query:, header: or cookie: makes wrong", "a patch or a parameter belongs to a flaw, and a flaw to one of them")
	}
	if rule.Blames, err = r.blames(at+"/blames", keys.Blames); err != nil {
		return rule, err
	}
	if rule.Is != nil && len(rule.Blames) != 1 {
		return fail("/is", "write blames: with one field, as in { is: ${phrase}, blames: /phrase }", "it is not said which field has to be %s", instance.Encode(rule.Is))
	}
	if keys.Status != nil {
		if rule.Status, err = r.rejection(at+"/status", keys.Status, ""); err != nil {
			return rule, err
		}
	}
	if keys.Says != nil {
		if rule.Says, err = regexp.Compile(*keys.Says); err != nil {
			return rule, r.expression(at+"/says", *keys.Says, err)
		}
	}
	return rule, nil
}

func (r reader) expression(at, text string, err error) error {
	return r.tree.Fail(at, "write it as RE2 reads it, for example (?i)required", "%q is not a regular expression: %s", text, strings.TrimPrefix(err.Error(), "error parsing regexp: "))
}

func (r reader) blames(at string, v any) ([]string, error) {
	if v == nil {
		return nil, nil
	}
	list, isList := v.([]any)
	if !isList {
		list = []any{v}
	}
	var out []string
	for _, e := range list {
		text := ""
		err := r.into(at, e, &text)
		if err == nil {
			err = r.pointer(at, text)
		}
		if err != nil {
			return nil, err
		}
		out = append(out, text)
	}
	return out, nil
}

// Message is what the message about a field has to say for a rule.
type Message struct {
	Field string // JSON Pointer; * for any
	Rule  string // a keyword; * for any
	Says  *regexp.Regexp
}

// messages reads the table of messages: by field, then by rule, the text itself
// or /a regular expression/.
func (c *Config) messages(r reader, f file) error {
	var all []error
	for _, field := range r.tree.Names("/messages") {
		at := instance.Join("/messages", field)
		if field != "*" {
			all = append(all, r.pointer(at, field))
		}
		for _, rule := range r.tree.Names(at) {
			says, err := r.saying(instance.Join(at, rule), f.Messages[field][rule])
			c.Messages, all = append(c.Messages, Message{field, rule, says}), append(all, err)
		}
	}
	return document.Join(all...)
}

// saying reads what a message has to be: the text itself, or /a regular expression/.
func (r reader) saying(at, text string) (*regexp.Regexp, error) {
	source := "^" + regexp.QuoteMeta(text) + "$"
	if inner, ok := strings.CutPrefix(text, "/"); ok && strings.HasSuffix(inner, "/") {
		source = strings.TrimSuffix(inner, "/")
	}
	says, err := regexp.Compile(source)
	if err != nil {
		return nil, r.expression(at, text, err)
	}
	return says, nil
}

// Says is what the message about a field has to match for a rule; nil where
// there is nothing. What is for the field goes before what is for any.
func Says(messages []Message, pointer, rule string) *regexp.Regexp {
	for _, want := range [][2]string{{pointer, rule}, {pointer, "*"}, {"*", rule}, {"*", "*"}} {
		for _, m := range messages {
			if m.Rule == want[1] && (m.Field == want[0] || want[0] == pointer && m.Field != "*" && sameField(m.Field, pointer)) {
				return m.Says
			}
		}
	}
	return nil
}

// sameField reports whether a pointer is the one named, in which * is any index.
func sameField(named, pointer string) bool {
	n, _ := instance.Split(named)
	p, _ := instance.Split(pointer)
	return slices.EqualFunc(n, p, func(x, y string) bool { return x == y || x == "*" })
}
