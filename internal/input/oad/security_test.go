package oad_test

import (
	"fmt"
	"testing"

	"obiter/internal/input/oad"
)

const guarded = `
openapi: 3.1.0
info: {title: t, version: '1'}
security: [{token: [], key: []}, {user: []}]
paths:
  /a:
    get: {responses: {'200': {description: x}}}
    post:
      security: [{user: []}, {}]
      x-obiter-rules: [{holds: "true"}]
      requestBody: {content: {application/json: {schema: {$ref: '#/components/schemas/A'}}}}
      responses:
        '201': {description: x, links: {read: {operationId: readA, parameters: {a_id: '$response.body#/id', 'path.b': 5}}, again: {$ref: '#/components/links/L'}}}
  /a/{a_id}: {get: {operationId: readA, security: []}}
components:
  links: {L: {operationId: readA, parameters: {path.a_id: '$response.header.Location'}}}
  schemas: {A: {type: object, x-obiter-rules: [{holds: "false"}]}}
  securitySchemes:
    token: {type: http, scheme: Bearer}
    user: {type: http, scheme: basic}
    key: {type: apiKey, in: query, name: k}
    far: {type: oauth2, flows: {}}
    pair: {type: mutualTLS}
    digest: {type: http, scheme: digest}
`

func TestSecurityIsRead(t *testing.T) {
	doc, err := oad.Read("a.yaml", []byte(guarded))
	if err != nil {
		t.Fatal(err)
	}
	if got, want := fmt.Sprint(doc.Schemes()), "[{digest  header Authorization} {far bearer header Authorization} {key apiKey query k} {pair  header Authorization} {token bearer header Authorization} {user basic header Authorization}]"; got != want {
		t.Errorf("schemes are %s, want %s", got, want)
	}
	var got string
	for _, o := range doc.Operations {
		got += fmt.Sprint(o.Name(), o.Security, len(o.Rules), len(doc.Links(o)), " ")
	}
	if want := "GET /a[[key token] [user]] 0 0 POST /a[] 2 2 GET /a/{a_id}[] 0 0 "; got != want {
		t.Errorf("operations ask for %s, want %s", got, want)
	}
	links := doc.Links(doc.Operations[1])
	if links[0].Parameters["a_id"] != "$response.header.Location" || links[1].Parameters["a_id"] != "$response.body#/id" || len(links[1].Parameters) != 1 {
		t.Errorf("links give %v", links)
	}
	for _, at := range doc.Operations[1].Rules {
		if v, ok := doc.At(at); !ok || len(v.([]any)) != 1 {
			t.Errorf("no rules at %v", at)
		}
		if err := doc.FileOf(at).Fail(at.Pointer, "", "x"); err.Error() == "a.yaml: x" {
			t.Errorf("%v has no place", at)
		}
	}
}
