package problem

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
)

// namespace is that of problem documents in XML (RFC 9457, appendix B).
const namespace = "urn:ietf:rfc:7807"

// maxLevels is how deeply elements may nest.
const maxLevels = 64

// element is an XML element without what problem documents do not use.
type element struct {
	name     xml.Name
	text     strings.Builder
	children []*element
}

// readXML reads application/problem+xml: child elements are members, an element
// whose children are all named i is a list.
func readXML(doc Document, body []byte, status int) (Document, []Departure) {
	unreadable := func(message string) (Document, []Departure) {
		return doc, []Departure{{"unreadable", message, "", "RFC 9457, appendix B"}}
	}
	root, err := parseXML(body)
	if err != nil {
		return unreadable("no XML could be read from the body: " + err.Error())
	}
	if root.name.Local != "problem" || root.name.Space != namespace {
		return unreadable(fmt.Sprintf("the outermost element is %q of the namespace %q, where a problem document has problem of %q", root.name.Local, root.name.Space, namespace))
	}
	object, _ := root.value().(map[string]any)
	if object == nil {
		object = map[string]any{}
	}
	if s, ok := object["status"].(string); ok && json.Valid([]byte(s)) && strings.Trim(s, "0123456789") == "" {
		object["status"] = json.Number(s)
	}
	doc.Object, doc.Value = object, object
	return doc, append(members(object, status), doc.weak(status)...)
}

func parseXML(body []byte) (*element, error) {
	d := xml.NewDecoder(bytes.NewReader(body))
	d.CharsetReader = func(string, io.Reader) (io.Reader, error) {
		return nil, errors.New("its encoding is not UTF-8")
	}
	var stack []*element
	var root *element
	for {
		t, err := d.Token()
		if errors.Is(err, io.EOF) && root != nil && len(stack) == 0 {
			return root, nil
		}
		if err != nil {
			return nil, err
		}
		switch t := t.(type) {
		case xml.StartElement:
			e := &element{name: t.Name}
			switch {
			case len(stack) > 0:
				top := stack[len(stack)-1]
				top.children = append(top.children, e)
			case root != nil:
				return nil, errors.New("there is more than one outermost element")
			default:
				root = e
			}
			if stack = append(stack, e); len(stack) > maxLevels {
				return nil, fmt.Errorf("it nests deeper than %d", maxLevels)
			}
		case xml.EndElement:
			stack = stack[:len(stack)-1]
		case xml.CharData:
			if len(stack) > 0 {
				stack[len(stack)-1].text.Write(t)
			}
		}
	}
}

func (e *element) value() any {
	if len(e.children) == 0 {
		return strings.ToValidUTF8(strings.TrimSpace(e.text.String()), "\uFFFD")
	}
	if !slices.ContainsFunc(e.children, func(c *element) bool { return c.name.Local != "i" }) {
		var out []any
		for _, c := range e.children {
			out = append(out, c.value())
		}
		return out
	}
	out := map[string]any{}
	for _, c := range e.children {
		if _, twice := out[c.name.Local]; !twice {
			out[c.name.Local] = c.value()
		}
	}
	return out
}
