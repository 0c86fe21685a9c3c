package plan_test

import (
	"bytes"
	"encoding/xml"
	"image"
	_ "image/gif"
	_ "image/png"
	"testing"

	"obiter/internal/core/exchange"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/plan"
)

// TestOtherMedia lists what is planned for bodies that are neither JSON nor a form, as it
// is sent. Controls are held against readers of their media types.
func TestOtherMedia(t *testing.T) {
	for _, c := range []struct {
		name, content string
		want, not     []string // "name -> body"
	}{
		{"text", "{text/plain: {schema: {type: string, minLength: 2, maxLength: 4, example: tide}}}",
			[]string{"control, fullest -> tide", "(body) minLength one-below -> t", "(body) maxLength one-above -> tidea", "(body) minLength empty -> ", "edge, (body) maxLength exactly -> aaaa", "wrong-content-type application-octet-stream -> tide"},
			[]string{"(body) type number", "(body) type null", "(body) type object", "malformed-json cut-off"}},
		{"a number as text", "{text/plain: {schema: {type: integer, maximum: 9, example: 7}}}", []string{"(body) maximum just-above -> 10", "(body) type string -> twelve", "(body) number-text plus-sign -> +7"}, []string{"(body) type numeric-string"}},
		{"a file", "{application/octet-stream: {schema: {type: string, format: binary, maxLength: 9}}}",
			[]string{"control, fullest -> ballast\n", "empty-body no-bytes -> ", "(body) maxLength one-above -> ballast\naa", "wrong-content-type text-plain -> ballast\n"}, []string{"(body) type number", "edge, (body) maxLength exactly-multibyte"}},
		{"a file without a schema", "{application/octet-stream: {}}", []string{"control, fullest -> ballast\n", "wrong-content-type text-plain -> ballast\n"}, nil},
		{"a picture", "{image/png: {schema: {type: string, format: binary}}}", []string{"empty-body no-bytes -> "}, nil},
		{"JSON without a schema", "{application/json: {}}", []string{"control, fullest -> {}", "malformed-json cut-off -> {"}, nil},
		{"XML", "{application/xml: {schema: {type: object, xml: {name: berth}, required: [name], properties: {id: {type: integer, xml: {attribute: true}, example: 7}, name: {type: string, example: North <quay>}, labels: {type: array, xml: {wrapped: true}, items: {type: string, xml: {name: label}, example: deep}, maxItems: 1}}}}}",
			[]string{`control, fullest -> <?xml version="1.0" encoding="UTF-8"?>~<berth id="7"><labels><label>deep</label></labels><name>North &lt;quay&gt;</name></berth>`, "malformed-xml cut-off -> ~", "malformed-xml undefined-entity -> ~", "empty-body no-bytes -> "}, []string{"/name type number", "malformed-json cut-off"}},
		{"a JSON patch", "{application/json-patch+json: {schema: {type: array, items: {type: object}}}}", []string{"control, fullest -> []", `patch-operation no-value -> [{"op":"add","path":"/name"}]`, "malformed-json cut-off -> ["}, []string{"(body) type string"}},
		{"a type with a suffix", "{application/vnd.harbour+json: {schema: {type: object, properties: {k: {const: 1}}}}}", []string{`control, fullest -> {"k":1}`, "malformed-json cut-off -> ~"}, nil},
		{"anything", "{'*/*': {schema: {type: object, properties: {k: {const: 1}}}}}", []string{`control, fullest -> {"k":1}`}, []string{"wrong-content-type text-plain"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			got := map[string]string{}
			for _, x := range cases(t, description(t, "  /b:\n    post: {requestBody: {required: true, content: "+c.content+"}}\n"), plan.Options{Depth: flaw.Usual}) {
				if x.Operation == "POST /b" {
					got[x.Name] = string(x.Request.Body)
				}
				media := exchange.MediaTypeOf(x.Request.Header("Content-Type"))
				var err error
				switch {
				case x.Kind == exchange.Control && media == "image/png":
					_, _, err = image.Decode(bytes.NewReader(x.Request.Body))
				case x.Kind == exchange.Control && media == "application/xml":
					err = xml.Unmarshal(x.Request.Body, new(struct{}))
				case len(x.Flaws) == 1 && x.Flaws[0].Rule == "malformed-xml":
					if d := xml.NewDecoder(bytes.NewReader(x.Request.Body)); wellFormed(d) {
						t.Errorf("%s is well-formed: %s", x.Name, x.Request.Body)
					}
				}
				if err != nil {
					t.Errorf("%s: %v", x.Name, err)
				}
			}
			areSent(t, got, c.want, c.not)
		})
	}
}

// wellFormed reports whether a document is one element and nothing after it.
func wellFormed(d *xml.Decoder) bool {
	depth, roots := 0, 0
	for {
		token, err := d.Token()
		if err != nil {
			return err.Error() == "EOF" && depth == 0 && roots == 1
		}
		switch token := token.(type) {
		case xml.StartElement:
			if depth == 0 {
				roots++
			}
			depth++
		case xml.EndElement:
			depth--
		case xml.CharData:
			if depth == 0 && roots > 0 && len(bytes.TrimSpace(token)) > 0 {
				return false
			}
		}
	}
}
