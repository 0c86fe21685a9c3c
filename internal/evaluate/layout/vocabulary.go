// Package layout reads field errors out of answers: which fields an answer
// names, in which notation, with which message. It knows the layout that RFC
// 9457, section 3, shows (errors with pointer and detail), maps of field to
// messages, and lists of objects that name a field in any member.
//
// A name counts only if it can be held against a field of the request; a
// sentence that mentions a field names nothing.
package layout

import (
	"encoding/json"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"obiter/internal/core/instance"
)

// Fit is how well a name in an answer fits a field of the request.
type Fit int

// The fits, from none to exact.
const (
	None       Fit = iota
	WrongIndex     // the field of another element, or that element
	Root           // the whole body is named
	Above          // an object or list that holds the field
	NameOnly       // the field's last name, without its parents
	NoIndex        // the field without array indexes
	Spelling       // the field in another spelling: lengthM for length_m
	Below          // something inside the field
	Exact
)

// Notation is how a name is written.
type Notation string

// The notations.
const (
	Pointer   Notation = "pointer"
	Fragment  Notation = "pointer-fragment"
	Dotted    Notation = "dotted"
	Bracketed Notation = "bracketed"
	Plain     Notation = "name"
	Segments  Notation = "segments"
	Nested    Notation = "nested" // keys of maps, one inside the other
)

// Vocabulary is the fields that a request could be blamed for.
type Vocabulary struct {
	exact   map[string]bool
	loose   map[string]bool // without indexes, spelling levelled
	last    map[string]bool
	body    any
	control any
	base    *Vocabulary // of the control, which many requests share; may be nil
}

// maxWords bounds the fields of one request that are known.
const maxWords = 20_000

// Fields are those of a control, to which With adds those of a request.
func Fields(control any) *Vocabulary {
	v := &Vocabulary{control: control}
	v.walk(control)
	return v
}

// With are the fields of the request as sent, in addition to those of its control,
// and the flawed fields, which may be in neither.
func (v *Vocabulary) With(sent any, flawed []string) *Vocabulary {
	out := &Vocabulary{body: sent, control: v.control, base: v}
	out.walk(sent)
	for _, f := range flawed {
		out.add(f)
	}
	return out
}

// NewVocabulary collects the fields of the request as sent, of its control, and
// the flawed fields.
func NewVocabulary(sent, control any, flawed []string) *Vocabulary {
	return Fields(control).With(sent, flawed)
}

func (v *Vocabulary) walk(root any) {
	count := 0
	instance.Walk(root, func(pointer string, _ any) bool {
		v.add(pointer)
		count++
		return count < maxWords
	})
}

func (v *Vocabulary) add(pointer string) {
	if pointer == "" || v.exact[pointer] || v.base != nil && v.base.exact[pointer] {
		return
	}
	if v.exact == nil { // of most requests, all fields are those of the control
		v.exact, v.loose, v.last = map[string]bool{}, map[string]bool{}, map[string]bool{}
	}
	v.exact[pointer] = true
	tokens, err := instance.Split(pointer)
	if err != nil {
		return
	}
	v.loose[key(levelled(withoutIndexes(tokens)))] = true
	if last := tokens[len(tokens)-1]; !isIndex(last) {
		v.last[last] = true
	}
}

// isLast reports whether a field ends with the name.
func (v *Vocabulary) isLast(name string) bool {
	return v.last[name] || v.base != nil && v.base.last[name]
}

func key(tokens []string) string { return instance.Join("", tokens...) }

// isIndex reports whether a token is a number that an entry of a list can have.
func isIndex(token string) bool {
	const digits = 9
	if token == "" || len(token) > digits {
		return false
	}
	for _, c := range []byte(token) {
		if c < '0' || c > '9' {
			return false
		}
	}
	return true
}

// withoutIndexes are the tokens that are names; the slice itself where all are.
func withoutIndexes(tokens []string) []string {
	if !slices.ContainsFunc(tokens, isIndex) {
		return tokens
	}
	return slices.DeleteFunc(slices.Clone(tokens), isIndex)
}

// levelled are levelled tokens; the slice itself where all are level.
func levelled(tokens []string) []string {
	out := tokens
	for i, t := range tokens {
		l := instance.Level(t)
		if l == t {
			continue
		}
		if &out[0] == &tokens[0] {
			out = slices.Clone(tokens)
		}
		out[i] = l
	}
	return out
}

// Name is a field as an answer writes it.
type Name struct {
	Raw      string
	Notation Notation
	readings [][]string // ways to read it as segments, likeliest first
}

var prefixes = map[string]bool{"body": true, "request": true, "requestbody": true, "$": true, "payload": true, "data": true, "input": true, "root": true, "json": true, "this": true,
	"query": true, "path": true, "header": true, "headers": true, "cookie": true, "cookies": true, "params": true, "parameters": true, "querystring": true, "form": true}

// parsePointer reads a JSON Pointer, or its form as a fragment (RFC 6901, section 6); false for
// any other text.
func (n *Name) parsePointer(text string) bool {
	pointer := text
	switch {
	case text == "" || text == "#" || text == "/" || text == "$" || text == "#/":
		n.Notation, n.readings = Pointer, [][]string{{}}
		return true
	case strings.HasPrefix(text, "#/"):
		n.Notation, pointer = Fragment, text[1:]
		if decoded, err := url.PathUnescape(pointer); err == nil {
			pointer = decoded
		}
	case strings.HasPrefix(text, "/"):
		n.Notation = Pointer
	default:
		return false
	}
	if tokens, err := instance.Split(pointer); err == nil {
		n.read(tokens)
	}
	return true
}

// ParseName reads a field's name in any notation. What is longer than a name can be is
// one that the request does not have.
func ParseName(raw string) Name {
	if len(raw) > maxParsed {
		raw = strings.ToValidUTF8(raw[:maxParsed], "")
		return Name{Raw: raw, Notation: Plain, readings: [][]string{{raw}}}
	}
	n := Name{Raw: raw, Notation: Plain}
	text := strings.TrimSpace(raw)
	if n.parsePointer(text) {
		return n
	}
	n.readings = append(n.readings, []string{text})
	if prefixes[strings.ToLower(text)] {
		n.readings = append(n.readings, []string{})
	}
	if strings.Contains(text, "/") && !strings.ContainsAny(text, " .[") { // a path without its first slash
		n.Notation = Dotted
		n.read(strings.Split(text, "/"))
		return n
	}
	if strings.IndexByte(text, '.') < 0 && strings.IndexByte(text, '[') < 0 && text[0] != '$' {
		return n
	}
	if tokens := dotted(text); len(tokens) > 1 || strings.HasPrefix(text, "$") || strings.HasPrefix(text, "[") {
		n.Notation = Dotted
		if strings.Contains(text, "[") {
			n.Notation = Bracketed
		}
		n.read(tokens)
	}
	return n
}

// SegmentsName reads a name given as a list: ["body", "crew", 0, "name"].
func SegmentsName(list []any) (Name, bool) {
	var tokens []string
	for _, e := range list {
		switch e := e.(type) {
		case string:
			tokens = append(tokens, e)
		case json.Number:
			tokens = append(tokens, string(e))
		default:
			return Name{}, false
		}
	}
	n := Name{Raw: string(instance.Encode(list)), Notation: Segments}
	n.read(tokens)
	return n, len(tokens) > 0
}

// read adds the segments as they are, and without a leading word for the body.
func (n *Name) read(tokens []string) {
	n.readings = append(n.readings, tokens)
	if len(tokens) > 0 && prefixes[strings.ToLower(tokens[0])] {
		n.readings = append(n.readings, tokens[1:])
	}
}

var bracket = regexp.MustCompile(`\[\s*['"]?([^\]'"]*)['"]?\s*\]`)

// dotted takes a.b[0].c and a[0][b] apart.
func dotted(text string) []string {
	if strings.Contains(text, "[") {
		text = bracket.ReplaceAllString(text, ".$1")
	}
	var out []string
	for _, t := range strings.Split(text, ".") {
		if t != "" {
			out = append(out, t)
		}
	}
	return out
}

// without is the rest of the name after a prefix; false where it does not begin so.
func (n Name) without(prefix []string) (Name, bool) {
	out := Name{Raw: n.Raw, Notation: n.Notation}
	for _, r := range n.readings {
		if len(r) > len(prefix) && slices.Equal(r[:len(prefix)], prefix) {
			out.readings = append(out.readings, r[len(prefix):])
		}
	}
	return out, len(out.readings) > 0
}

// fromOne is the name read as one that counts entries from 1.
func (n Name) fromOne() Name {
	out := Name{Raw: n.Raw, Notation: n.Notation}
	for _, r := range n.readings {
		r = slices.Clone(r)
		for i, t := range r {
			if !isIndex(t) {
				continue
			}
			if k, err := strconv.ParseUint(t, 10, 32); err == nil && k > 0 {
				r[i] = strconv.FormatUint(k-1, 10)
			}
		}
		out.readings = append(out.readings, r)
	}
	return out
}

// translated is the name as a path into the request, where names begin with a
// prefix or count from 1. One that does not begin so is left as it is.
func (n Name) translated(prefix []string, fromOne bool) Name {
	if rest, ok := n.without(prefix); ok && len(prefix) > 0 {
		n = rest
	}
	if fromOne {
		n = n.fromOne()
	}
	return n
}

// child is the name of a member of what the name names.
func (n Name) child(member string) Name {
	between := "."
	if n.IsPointer() {
		between = "/"
	}
	out := Name{Raw: strings.TrimSuffix(n.Raw, between) + between + member, Notation: n.Notation}
	for _, r := range n.readings {
		out.readings = append(out.readings, append(slices.Clone(r), member))
	}
	return out
}

// prefixOf is what the name has before the path of a field; nil where it does not
// end with that path.
func (n Name) prefixOf(target []string) []string {
	var best []string
	for _, r := range n.readings {
		if at := len(r) - len(target); at > 0 && len(target) > 0 && slices.Equal(r[at:], target) && (best == nil || at < len(best)) {
			best = r[:at]
		}
	}
	return best
}

// IsPointer reports whether the name is written as a JSON Pointer.
func (n Name) IsPointer() bool { return n.Notation == Pointer || n.Notation == Fragment }

// Indexed reports whether the name has the number of an entry in it.
func (n Name) Indexed() bool {
	return len(n.readings) > 0 && slices.ContainsFunc(n.readings[len(n.readings)-1], isIndex)
}

// Path is the name as a JSON Pointer; "" for one of the body as a whole, and for
// one that cannot be read.
func (n Name) Path() string {
	switch {
	case len(n.readings) == 0:
		return ""
	case n.Notation == Dotted || n.Notation == Bracketed: // after the text as it is
		return key(n.readings[len(n.readings)-1])
	}
	return key(n.readings[0])
}

// Fits tells how the name fits a field of the request.
func (n Name) Fits(pointer string) Fit {
	var room [8]string
	target, err := instance.AppendSplit(room[:0], pointer)
	if err != nil {
		return None
	}
	return n.fits(target)
}

func (n Name) fits(target []string) Fit {
	best := None
	for _, r := range n.readings {
		best = max(best, fit(r, target))
	}
	return best
}

func fit(name, target []string) Fit {
	switch {
	case slices.Equal(name, target):
		return Exact
	case len(name) == 0:
		return Root
	case len(name) > len(target) && slices.Equal(name[:len(target)], target):
		return Below
	}
	bareName, bareTarget := levelled(withoutIndexes(name)), levelled(withoutIndexes(target))
	byNameAlone := len(name) == 1 && len(target) > 1 && instance.Level(name[0]) == instance.Level(target[len(target)-1])
	if len(bareName) > 0 && (len(bareTarget) == 0 || bareName[0] != bareTarget[0]) { // as most texts that could be a name
		if byNameAlone {
			return NameOnly
		}
		return None
	}
	prefix := target[:min(len(name), len(target))]
	sameLevel := slices.Equal(levelled(name), levelled(prefix))
	switch {
	case len(name) <= len(target) && len(bareName) < len(name) && !sameLevel && slices.Equal(bareName, levelled(withoutIndexes(prefix))):
		return WrongIndex
	case len(name) == len(target) && sameLevel:
		return Spelling
	case len(bareName) > 0 && slices.Equal(bareName, bareTarget):
		return NoIndex
	case len(name) < len(target) && sameLevel:
		return Above
	case len(bareName) > 0 && len(bareName) < len(bareTarget) && slices.Equal(withoutIndexes(name), withoutIndexes(target)[:len(bareName)]):
		return Above
	case byNameAlone:
		return NameOnly
	}
	return None
}

// Has reports whether the name is that of any field. One that is as it is written is so
// without indexes and in any spelling, too.
func (v *Vocabulary) Has(n Name) bool {
	for _, r := range n.readings {
		if len(r) == 0 || len(r) == 1 && v.isLast(r[0]) {
			return true
		}
		var space [128]byte
		loose := instance.AppendPointer(space[:0], levelled(withoutIndexes(r))...)
		for k := v; k != nil; k = k.base {
			if k.loose[string(loose)] {
				return true
			}
		}
	}
	return false
}
