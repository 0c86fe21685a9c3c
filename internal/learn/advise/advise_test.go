package advise_test

import (
	"net/http"
	"strings"
	"testing"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/input/oad"
	"obiter/internal/input/sources"
	"obiter/internal/learn/advise"
)

const quays = `
openapi: 3.1.0
info: {title: Quays, version: '1'}
security: [{door: []}]
components: {securitySchemes: {door: {type: http, scheme: bearer}}}
paths:
  /quays:
    post: {requestBody: {content: {application/json: {schema: {type: object, properties: {name: {type: string}, depth_m: {type: number}}}}}}, responses: {'201': {description: made}}}
  /quays/{quay}:
    parameters: [{name: quay, in: path, required: true, schema: {type: string}}]
    get: {responses: {'200': {description: one}}}
    delete: {responses: {'204': {description: gone}}}
  /tides/{gauge}:
    parameters: [{name: gauge, in: path, required: true, schema: {type: string}}]
    get: {security: [], responses: {'200': {description: one}}}
  /season:
    put: {responses: {'204': {description: set}}}
    post: {responses: {'204': {description: begun}}}
`

// TestRefusalsGiveAdvice: what to write for each sort of refusal.
func TestRefusalsGiveAdvice(t *testing.T) {
	doc, err := oad.Read("quays.yaml", []byte(quays))
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range []struct {
		conf, operation, body string
		status                int
		answer                string
		want                  string
	}{
		{"{}", "POST /quays", `{"name":"North"}`, 401, `{}`, "credentials: door: ${API_DOOR}"},
		{"credentials: {door: '${T}'}", "POST /quays", `{"name":"North"}`, 403, `{}`, `operations: POST /quays: { credentials: { door: "${API_DOOR_WITH_THE_RIGHT}" } }   # of somebody who has the right`},
		{"{}", "GET /tides/{gauge}", "", 401, `{}`, "headers: Authorization: Bearer ${API_TOKEN}"},
		{"{}", "POST /quays", `{"name":"North"}`, 409, `{"detail":"A quay of that name is there already"}`, "operations: POST /quays: { rules: [{ unique: /name }] }"},
		{"{}", "POST /quays", `{"name":"North"}`, 500, `{"detail":"duplicate key: name"}`, "operations: POST /quays: { rules: [{ unique: /name }] }"},
		{"operations: {POST /quays: {rules: [{unique: /name}]}}", "POST /quays", `{"name":"North"}`, 409, `{"detail":"A quay of that name is there already"}`, "operations: POST /quays: { body: {} }"},
		{"{}", "GET /quays/{quay}", "", 404, `{}`, `fixtures: - { name: quay, send: POST /quays, body: {}, keep: { quay: $request.body#/name }, undo: "DELETE /quays/{quay}" }`},
		{"{}", "GET /tides/{gauge}", "", 404, `{}`, `operations: "GET /tides/{gauge}": { path: { gauge: … } }   # a record that is there`},
		{"{}", "POST /quays", `{"name":"North","depth_m":3}`, 422, `{"errors":[{"pointer":"/depth_m","detail":"is too deep"}]}`, "operations: POST /quays: { body: { depth_m: 3 } }   # another value: is too deep"},
		{"{}", "POST /quays", `{"name":"North"}`, 422, `{"detail":"no room"}`, "operations: POST /quays: { body: {} }   # what the service takes: no room"},
		{"{}", "POST /season", "", 415, `{}`, "operations: POST /season: { header: { Content-Type: application/json } }"},
		{"{}", "POST /quays", `{"name":"North"}`, 500, `{}`, ""},
	} {
		conf, err := sources.Read("obiter.yaml", []byte(x.conf), func(name string) (string, bool) { return "t", name == "T" })
		if err != nil {
			t.Fatal(err)
		}
		body, _ := instance.Decode([]byte(x.body))
		method, _, _ := strings.Cut(x.operation, " ")
		c := exchange.Case{Operation: x.operation, Request: exchange.Request{Method: method, Body: []byte(x.body)}, Body: body}
		a := exchange.Answer{Status: x.status, Header: http.Header{"Content-Type": {"application/json"}}, Body: []byte(x.answer)}
		var got []string
		for _, n := range (advise.Adviser{Config: conf, Document: doc}).Refused(c, a) {
			got = append(got, n.Section+": "+n.Text())
		}
		if text := strings.Join(got, "\n"); !strings.HasPrefix(text, x.want) || (x.want == "") != (text == "") {
			t.Errorf("%s %d %s:\n%s\nwant\n%s", x.operation, x.status, x.answer, text, x.want)
		}
	}
}

// TestWhatIsLeftOutGetsAdvice, too.
func TestWhatIsLeftOutGetsAdvice(t *testing.T) {
	doc, err := oad.Read("quays.yaml", []byte(quays))
	if err != nil {
		t.Fatal(err)
	}
	conf, err := sources.Read("obiter.yaml", []byte("{}"), func(string) (string, bool) { return "", false })
	if err != nil {
		t.Fatal(err)
	}
	for operation, want := range map[string]string{
		"PUT /season": "operations: PUT /season: { allow: true }   # if it may change what others made", "POST /quays": "credentials: door: ${API_DOOR}",
		"DELETE /quays/{quay}": "fixtures: - { name: quay, send: POST /quays,", "GET /tides/{gauge}": "", "GET /nothing": "",
	} {
		text := ""
		for _, n := range (advise.Adviser{Config: conf, Document: doc}).LeftOut(operation) {
			text += n.Section + ": " + n.Text()
		}
		if !strings.HasPrefix(text, want) || (want == "") != (text == "") {
			t.Errorf("%s: %q, want %q", operation, text, want)
		}
	}
}
