// Package problem reads answers as RFC 9457 problem documents and lists where
// they depart from the RFC. It judges nothing else, and takes any bytes.
package problem

import (
	"bytes"
	"encoding/json"
	"fmt"
	"mime"
	"net/url"
	"strings"

	"obiter/internal/instance"
)

// Departure is one point in which an answer is not what RFC 9457 asks for.
type Departure struct {
	Code    string // not-problem, unreadable, bad-member or status-mismatch
	Message string
	At      string // JSON Pointer into the body, or the header's name
	Section string // of RFC 9457
}

// Document is an answer's body, as far as it could be read.
type Document struct {
	Media  string         // the media type, lower case, without parameters
	Object map[string]any // nil where the body is no JSON object
	Value  any            // the JSON value; nil where there is none
	XML    bool           // application/problem+xml: right, but not looked into
}

// Text is a member that is text; "" where it is not.
func (d Document) Text(name string) string {
	s, _ := d.Object[name].(string)
	return s
}

// Read reads an answer. The HTTP status serves to check the member "status".
func Read(contentType string, body []byte, status int) (Document, []Departure) {
	var doc Document
	var found []Departure
	doc.Media = mediaType(contentType)
	claimed := doc.Media == "application/problem+json"
	doc.XML = doc.Media == "application/problem+xml"
	if doc.XML {
		return doc, nil
	}
	if !claimed {
		found = append(found, Departure{"not-problem", wrongMedia(contentType, doc.Media, body), "Content-Type", "3"})
	}
	body = bytes.TrimPrefix(body, []byte("\xef\xbb\xbf"))
	value, err := instance.Decode(body)
	if err != nil {
		if claimed || doc.Media == "application/json" || strings.HasSuffix(doc.Media, "+json") {
			found = append(found, Departure{"unreadable", "no JSON could be read from the body: " + err.Error(), "", "3"})
		}
		return doc, found
	}
	doc.Value = value
	object, ok := value.(map[string]any)
	if !ok {
		if claimed {
			found = append(found, Departure{"unreadable", fmt.Sprintf("the body is a JSON %s where a problem document is an object", instance.Type(value)), "", "3"})
		}
		return doc, found
	}
	doc.Object = object
	if claimed {
		found = append(found, members(object, status)...)
	}
	return doc, found
}

func mediaType(contentType string) string {
	t, _, err := mime.ParseMediaType(contentType)
	if err != nil {
		t, _, _ = strings.Cut(strings.ToLower(contentType), ";")
	}
	return strings.TrimSpace(t)
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
	}
	return what + " where a problem document (application/problem+json) is asked for"
}

// members checks the RFC's own members (section 3.1).
func members(object map[string]any, status int) []Departure {
	var found []Departure
	bad := func(name, section, want string) {
		found = append(found, Departure{"bad-member", fmt.Sprintf("%s is %s where %s is asked for", name, shown(object[name]), want), "/" + name, section})
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
	r, exact := instance.Rat(n)
	switch {
	case !ok || !exact || !r.IsInt():
		bad("status", "3.1.2", "a number such as "+fmt.Sprint(status))
	case r.Num().String() != fmt.Sprint(status):
		found = append(found, Departure{"status-mismatch", fmt.Sprintf("the member status is %s and the HTTP status %d", n, status), "/status", "3.1.2"})
	}
	return found
}

// isReference tells whether s is a URI reference (RFC 3986, section 4.1).
func isReference(s string) bool {
	if strings.ContainsAny(s, " \t\n\r<>\"{}|\\^`") {
		return false
	}
	_, err := url.Parse(s)
	return err == nil
}

func shown(v any) string {
	s := string(instance.Encode(v))
	if r := []rune(s); len(r) > 60 {
		s = string(r[:57]) + "..."
	}
	return s
}
