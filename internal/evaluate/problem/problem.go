// Package problem reads answers as RFC 9457 problem documents, JSON or XML, and
// lists where they depart from the RFC. It judges nothing else, and takes any
// bytes.
package problem

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
)

// Departure is one point in which an answer is not what RFC 9457 requires.
type Departure struct {
	Code    string // not-problem, unreadable, bad-member, status-mismatch or weak-problem; not-judged where it cannot be told
	Message string
	At      string // JSON Pointer into the body, or the header's name
	Cites   string // the standard and its section
}

// Document is an answer's body, as far as it could be read.
type Document struct {
	Media   string         // the media type, lower case, without parameters
	Claimed bool           // the media type is that of problem documents
	Object  map[string]any // nil where the body is not an object
	Value   any            // the JSON value; nil where there is none
}

// Text is a member that is text; "" where it is not.
func (d Document) Text(name string) string {
	s, _ := d.Object[name].(string)
	return s
}

// Type is the problem type: a missing one means about:blank (section 3.1.1).
func (d Document) Type() string {
	if s := d.Text("type"); s != "" {
		return s
	}
	return blank
}

// blank is the type of problems that are no more than their status (section 4.2.1).
const blank = "about:blank"

// Specific reports whether the problem has a type of its own.
func (d Document) Specific() bool { return d.Type() != blank }

func section(n string) string { return "RFC 9457, section " + n }

// Read reads an answer. The HTTP status serves to check the member "status".
func Read(contentType string, body []byte, status int) (Document, []Departure) {
	return read(contentType, body, status, instance.Decode)
}

// Of is Read of an answer.
func Of(a exchange.Answer) (Document, []Departure) {
	return read(a.Header.Get("Content-Type"), a.Body, a.Status, func(text []byte) (any, error) {
		if len(text) < len(a.Body) { // without its byte order mark
			return instance.Decode(text)
		}
		return a.JSON()
	})
}

func read(contentType string, body []byte, status int, decode func([]byte) (any, error)) (Document, []Departure) {
	var doc Document
	var found []Departure
	doc.Media = exchange.MediaTypeOf(contentType)
	switch doc.Media {
	case "application/problem+json":
		doc.Claimed = true
	case "application/problem+xml":
		doc.Claimed = true
		return readXML(doc, body, status)
	default:
		found = append(found, Departure{"not-problem", wrongMedia(contentType, doc.Media, body), "Content-Type", section("3")})
	}
	text := bytes.TrimPrefix(body, []byte("\xef\xbb\xbf"))
	value, err := decode(text)
	if errors.Is(err, instance.ErrDepth) || errors.Is(err, instance.ErrNumber) { // it may be right; an echo of what was sent, for one
		return doc, append(found, Departure{"not-judged", "the answer is beyond what is read: " + err.Error(), "", ""})
	}
	if err != nil {
		if doc.Claimed || exchange.IsJSON(doc.Media) {
			found = append(found, Departure{"unreadable", "no JSON could be read from the body: " + err.Error(), "", section("3")})
		}
		return doc, found
	}
	doc.Value = value
	object, ok := value.(map[string]any)
	if !ok {
		if doc.Claimed {
			found = append(found, Departure{"unreadable", fmt.Sprintf("the body is a JSON %s where a problem document is an object", instance.Type(value)), "", section("3")})
		}
		return doc, found
	}
	doc.Object = object
	if !doc.Claimed {
		return doc, found
	}
	if len(text) < len(body) {
		found = append(found, Departure{"weak-problem", "the body begins with a byte order mark, which JSON text must not have", "", "RFC 8259, section 8.1"})
	}
	if name, twice := repeated(text, value); twice {
		found = append(found, Departure{"weak-problem", fmt.Sprintf("the member %q appears twice in one object, and readers differ on which one counts", name), "", "RFC 8259, section 4"})
	}
	found = append(found, members(object, status)...)
	return doc, append(found, doc.weak(status)...)
}

func wrongMedia(contentType, media string, body []byte) string {
	what := "the answer is " + media
	switch {
	case len(body) == 0:
		what = "the answer has no body"
	case contentType == "":
		what = "the answer has no Content-Type"
	case media == "text/html":
		what = "the answer is an HTML page"
	case strings.Contains(media, "problem"):
		what = fmt.Sprintf("the answer is %s, which is not the media type's name", media)
	}
	return what + " where a problem document (application/problem+json) is expected"
}

// members checks the RFC's own members (section 3.1).
func members(object map[string]any, status int) []Departure {
	var found []Departure
	bad := func(name, at, want string) {
		found = append(found, Departure{"bad-member", fmt.Sprintf("%s is %s where %s is expected", name, instance.Shown(object[name]), want), "/" + name, section(at)})
	}
	for _, m := range []struct {
		name, section string
		uri           bool
	}{{"type", "3.1.1", true}, {"title", "3.1.3", false}, {"detail", "3.1.4", false}, {"instance", "3.1.5", true}} {
		v, there := object[m.name]
		if !there {
			continue
		}
		s, ok := v.(string)
		switch {
		case !ok && m.uri:
			bad(m.name, m.section, "a URI reference")
		case !ok:
			bad(m.name, m.section, "a string")
		case m.uri && !isReference(s):
			bad(m.name, m.section, "a URI reference")
		}
	}
	v, there := object["status"]
	if !there {
		return found
	}
	n, ok := v.(json.Number)
	whole, fraction, _ := strings.Cut(string(n), ".")
	is := strconv.Itoa(status)
	switch {
	case !ok || !isStatus(whole) || strings.Trim(fraction, "0") != "":
		bad("status", "3.1.2", "a number such as "+is)
	case whole != is:
		found = append(found, Departure{"status-mismatch", fmt.Sprintf("the member status is %s and the HTTP status %d", n, status), "/status", section("3.1.2")})
	}
	return found
}

// isStatus reports whether a text is an HTTP status code (RFC 9110, section 15).
func isStatus(s string) bool {
	return len(s) == 3 && s[0] >= '1' && s[0] <= '5' && strings.Trim(s, "0123456789") == ""
}

// isExtension reports whether a name is what that of an extension member should be
// (section 3.2): a letter, then letters, digits and _, three characters or more.
func isExtension(name string) bool {
	for i, c := range []byte(name) {
		letter := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
		if !letter && (i == 0 || c != '_' && (c < '0' || c > '9')) {
			return false
		}
	}
	return len(name) >= 3
}

var own = []string{"type", "status", "title", "detail", "instance"}

// newPhrases are those that RFC 9110 renamed; the older ones are fine too.
var newPhrases = map[int]string{http.StatusRequestEntityTooLarge: "Content Too Large", http.StatusUnprocessableEntity: "Unprocessable Content",
	http.StatusRequestURITooLong: "URI Too Long", http.StatusRequestedRangeNotSatisfiable: "Range Not Satisfiable"}

// weak lists departures from what the RFC recommends.
func (d Document) weak(status int) []Departure {
	var found []Departure
	add := func(at, cites, message string, args ...any) {
		found = append(found, Departure{"weak-problem", fmt.Sprintf(message, args...), at, section(cites)})
	}
	kind, typed := d.Object["type"].(string)
	title, titled := d.Object["title"].(string)
	_, hasType := d.Object["type"]
	_, hasTitle := d.Object["title"]
	switch {
	case !typed || kind == blank || !isReference(kind) || isAbsolute(kind):
	case strings.HasPrefix(kind, "/"):
		add("/type", "3.1.1", "type is %q, relative to the address of the request; an absolute URI is recommended", kind)
	default:
		add("/type", "3.1.1", "type is %q, which means another thing at each address; an absolute URI is recommended, or at least a full path", kind)
	}
	phrases := []string{newPhrases[status], http.StatusText(status)}
	if phrases[0] == "" {
		phrases = phrases[1:]
	}
	switch {
	case hasType && !typed || hasTitle && !titled: // of the wrong type, which is reported
	case !d.Specific() && strings.TrimSpace(title) == "":
		add("", "4", "there is no title, and no type but about:blank, so the document says no more than the status")
	case !d.Specific() && !slices.ContainsFunc(phrases, func(p string) bool { return p != "" && strings.EqualFold(p, title) }):
		add("/title", "4.2.1", "title is %s with the type about:blank, whose title is the status code's own phrase (%s); a title of its own needs a type of its own", instance.Shown(title), phrases[0])
	}
	for _, name := range instance.Names(d.Object) {
		if !slices.Contains(own, name) && !isExtension(name) {
			add("/*", "3.2", "the extension member %q should begin with a letter, go on in letters, digits and _, and have three characters or more", name)
			break
		}
	}
	return found
}

// countMembers is how many members all objects of a value have.
func countMembers(v any) (n int) {
	switch v := v.(type) {
	case map[string]any:
		n = len(v)
		for _, inner := range v {
			n += countMembers(inner)
		}
	case []any:
		for _, inner := range v {
			n += countMembers(inner)
		}
	}
	return n
}

// repeated finds a member that one object of the text has twice; value is what
// was read of it.
func repeated(text []byte, value any) (name string, twice bool) {
	if bytes.Count(text, []byte(`":`))+bytes.Count(text, []byte(`" :`)) <= countMembers(value) {
		return "", false // too few colons for more names than were read
	}
	type level struct {
		names map[string]bool // nil: a list
		key   bool            // the next token is a name
	}
	var stack []level
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	for {
		t, err := d.Token()
		if err != nil {
			return "", false
		}
		top := len(stack) - 1
		if s, ok := t.(string); ok && top >= 0 && stack[top].key {
			if stack[top].names[s] {
				return s, true
			}
			stack[top].names[s], stack[top].key = true, false
			continue
		}
		switch t {
		case json.Delim('{'):
			stack = append(stack, level{map[string]bool{}, true})
			continue
		case json.Delim('['):
			stack = append(stack, level{})
			continue
		case json.Delim('}'), json.Delim(']'):
			stack = stack[:top]
		}
		if top = len(stack) - 1; top < 0 {
			return "", false
		}
		stack[top].key = stack[top].names != nil
	}
}

// isReference reports whether s is a URI reference (RFC 3986, section 4.1).
func isReference(s string) bool {
	if s == blank {
		return true
	}
	if strings.ContainsAny(s, " \t\n\r<>\"{}|\\^`") {
		return false
	}
	_, err := url.Parse(s)
	return err == nil
}

// isAbsolute reports whether a URI reference has a scheme (RFC 3986, section 4.3).
func isAbsolute(s string) bool {
	u, err := url.Parse(s)
	return err != nil || u.IsAbs()
}
