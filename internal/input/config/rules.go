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

// ReadRules reads rules at a pointer of another document: those of
// a description. Errors are *document.Error.
func ReadRules(tree *document.File, at string, v any) ([]Rule, error) {
	return reader{tree}.rules(at, v)
}

func (r reader) rules(at string, v any) ([]Rule, error) {
	if v == nil {
		return nil, nil
	}
	list, err := r.list(at, v)
	if err != nil {
		return nil, err
	}
	var out []Rule
	var all []error
	for i, e := range list {
		rule, err := r.rule(fmt.Sprintf("%s/%d", at, i), e)
		out, all = append(out, rule), append(all, err)
	}
	return out, document.Join(all...)
}

func (r reader) rule(at string, v any) (Rule, error) {
	rule := Rule{tree: r.tree, at: at}
	object, err := r.object(at, v)
	if err != nil {
		return rule, err
	}
	if err := r.known(at, object, slices.Concat(kinds, Places, []string{"patch", "blames", "status", "says"})...); err != nil {
		return rule, err
	}
	said := 0
	into := map[string]*string{"holds": &rule.Holds, "flaw": &rule.Flaw, "exists": &rule.Exists, "unique": &rule.Unique, "not_blank": &rule.NotBlank, "trimmed": &rule.Trimmed}
	for _, key := range kinds {
		v, has := object[key]
		if !has {
			continue
		}
		said++
		if key == "is" {
			if rule.Is = v; v == nil || instance.Type(v) == "object" || instance.Type(v) == "array" {
				return rule, r.tree.Fail(at+"/is", "write a value, or ${NAME}", "%s is %s", key, article(v))
			}
			continue
		}
		text, err := r.text(at+"/"+key, v)
		if err == nil && key != "flaw" && key != "holds" {
			err = r.pointer(at+"/"+key, text)
		}
		if *into[key] = text; err != nil {
			return rule, err
		}
	}
	if said != 1 {
		return rule, r.tree.Fail(at, "write one of "+strings.Join(kinds, ", "), "the rule has %d kinds; expected one", said)
	}
	if rule.Parameters, err = r.parameters(at, object); err != nil {
		return rule, err
	}
	if rule.Patch = object["patch"]; (rule.Patch == nil && rule.Parameters == nil) == (rule.Flaw != "") {
		return rule, r.tree.Fail(at, "flaw: says in words what patch:, path:, query:, header: or cookie: makes wrong", "a patch or a parameter belongs to a flaw, and a flaw to one of them")
	}
	if rule.Blames, err = r.blames(at+"/blames", object["blames"]); err != nil {
		return rule, err
	}
	if rule.Is != nil && len(rule.Blames) != 1 {
		return rule, r.tree.Fail(at+"/is", "write blames: with one field, as in { is: ${phrase}, blames: /phrase }", "it is not said which field has to be %s", instance.Encode(rule.Is))
	}
	if v, has := object["status"]; has {
		if rule.Status, err = r.rejection(at+"/status", v, ""); err != nil {
			return rule, err
		}
	}
	if v, has := object["says"]; has {
		text, err := r.text(at+"/says", v)
		if err != nil {
			return rule, err
		}
		if rule.Says, err = regexp.Compile(text); err != nil {
			return rule, r.expression(at+"/says", text, err)
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
		text, err := r.text(at, e)
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
func (c *Config) messages(r reader, top map[string]any) error {
	v, has := top["messages"]
	if !has {
		return nil
	}
	fields, err := r.object("/messages", v)
	if err != nil {
		return err
	}
	var all []error
	for _, field := range r.tree.Names("/messages") {
		at := instance.Join("/messages", field)
		if field != "*" {
			all = append(all, r.pointer(at, field))
		}
		rules, err := r.object(at, fields[field])
		all = append(all, err)
		for _, rule := range r.tree.Names(at) {
			says, err := r.saying(instance.Join(at, rule), rules[rule])
			c.Messages, all = append(c.Messages, Message{field, rule, says}), append(all, err)
		}
	}
	return document.Join(all...)
}

// saying reads what a message has to be: the text itself, or /a regular expression/.
func (r reader) saying(at string, v any) (*regexp.Regexp, error) {
	text, err := r.text(at, v)
	if err != nil {
		return nil, err
	}
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
