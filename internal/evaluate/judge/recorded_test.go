package judge

import (
	"strings"
	"testing"

	"obiter/internal/core/exchange"
)

// TestRecordedAnswers holds answers in the styles of many platforms against the
// findings that they deserve, code by code. Those that begin with "sound" are
// as they should be.
func TestRecordedAnswers(t *testing.T) {
	const (
		constraint = exchange.Constraint
		kind       = exchange.Type
		syntax     = exchange.Syntax
		json       = "application/json"
		uri        = `"type":"https://harbour.example/problems/invalid"`
	)
	for _, c := range []struct {
		name   string
		class  exchange.Class
		flaws  string // parted by commas
		status int
		media  string
		body   string
		want   string
	}{
		// Problem documents, as they should be.
		{"sound: as the RFC shows", constraint, "/name minLength", 422, problemMedia, `{` + uri + `,"title":"Invalid","errors":[{"detail":"too short","pointer":"#/name"}]}`, ""},
		{"sound: a fresh instance", constraint, "/name minLength", 422, problemMedia, `{` + uri + `,"title":"Invalid","instance":"urn:uuid:5e0c3f6a-2b71-4c8d-9a4e-6f1d2c3b4a59","errors":[{"detail":"too short","pointer":"#/name"}]}`, ""},
		{"sound: about:blank with the status's phrase", syntax, "request malformed-json", 400, problemMedia, `{"type":"about:blank","title":"Bad Request","status":400}`, ""},
		{"sound: an object as field errors", constraint, "/name minLength", 400, problemMedia, `{` + uri + `,"title":"Invalid","status":400,"errors":{"name":["The field name must have at least 2 characters."]}}`, ""},
		{"sound: bracketed names in a list", constraint, "/crew/1/rank enum", 400, problemMedia, `{` + uri + `,"title":"Constraint Violation","status":400,"violations":[{"field":"crew[1].rank","message":"must be one of mate, cook"}]}`, ""},
		{"sound: propertyPath", constraint, "/crew/1/rank enum", 422, problemMedia, `{` + uri + `,"title":"An error occurred","status":422,"detail":"crew[1].rank: not a valid choice","violations":[{"propertyPath":"crew[1].rank","message":"not a valid choice","code":"8e17"}]}`, ""},
		{"sound: segments from the body down", constraint, "/crew/1/rank enum", 422, problemMedia, `{` + uri + `,"errors":[{"type":"enum","loc":["body","crew",1,"rank"],"msg":"Input should be mate or cook"}]}`, ""},
		{"sound: with the rejected value of no secret field", constraint, "/flag pattern", 422, problemMedia, `{` + uri + `,"errors":[{"pointer":"/flag","detail":"no match","value":"no"}]}`, ""},
		{"sound: a missing object with its children", constraint, "/cargo required", 422, problemMedia, `{` + uri + `,"errors":[{"pointer":"#/cargo","detail":"missing"},{"pointer":"#/cargo/weight_t","detail":"missing"}]}`, ""},
		{"sound: the body for an unknown member, with a list of names", exchange.UnknownField, "/unexpected additionalProperties", 422, problemMedia, `{` + uri + `,"errors":[{"pointer":"#/unexpected","detail":"unknown"}]}`, ""},
		{"sound: XML", constraint, "/name minLength", 422, "application/problem+xml", `<problem xmlns="urn:ietf:rfc:7807"><type>urn:x:invalid</type><title>Invalid</title><errors><i><field>name</field><message>too short</message></i></errors></problem>`, ""},
		{"sound: JSON:API's source, as a problem", constraint, "/crew/1/rank enum", 422, problemMedia, `{` + uri + `,"errors":[{"status":"422","source":{"pointer":"/crew/1/rank"},"detail":"not included in the list"}]}`, ""},
		{"sound: prefixed names", constraint, "/cargo/weight_t maximum", 422, problemMedia, `{` + uri + `,"invalidParams":[{"name":"body.cargo.weight_t","reason":"too heavy"}]}`, ""},
		{"sound: a dollar in front", constraint, "/cargo/weight_t maximum", 422, problemMedia, `{` + uri + `,"errors":[{"path":"$.cargo.weight_t","message":"too heavy"}]}`, ""},
		{"sound: dots for indexes", constraint, "/crew/1/rank enum", 422, problemMedia, `{` + uri + `,"errors":{"crew.1.rank":["The selected rank is invalid."]}}`, ""},
		{"sound: nested as the request is", constraint, "/cargo/weight_t maximum", 422, problemMedia, `{` + uri + `,"errors":{"cargo":{"weight_t":["too heavy"]}}}`, ""},
		{"sound: two messages for one field", constraint, "/name minLength", 422, problemMedia, `{` + uri + `,"errors":[{"pointer":"#/name","detail":"too short"},{"pointer":"#/name","detail":"no capital letter"}]}`, ""},
		{"sound: all of two", constraint, "/name minLength,/flag pattern", 422, problemMedia, `{` + uri + `,"errors":[{"pointer":"#/name","detail":"a"},{"pointer":"#/flag","detail":"b"}]}`, ""},
		{"sound: missing members before limits", constraint, "/name minLength,/flag required", 422, problemMedia, `{` + uri + `,"errors":[{"pointer":"#/flag","detail":"missing"}]}`, ""},
		{"sound: 404 for an id of nothing", exchange.NotFound, "/id unknown-id", 404, problemMedia, `{"type":"about:blank","title":"Not Found","status":404}`, ""},
		{"sound: a rule of a list at the entry", constraint, "/crew uniqueItems", 422, problemMedia, `{` + uri + `,"errors":[{"pointer":"#/crew/1","detail":"appears twice"}]}`, ""},
		{"sound: words that only look like code", constraint, "/name minLength", 422, problemMedia, `{` + uri + `,"detail":"Look at the form (line 3) and update the vessel, then select a berth from the list.","errors":[{"pointer":"#/name","detail":"x"}]}`, ""},

		// Java.
		{"an error map of a servlet container", constraint, "/name minLength", 400, json, `{"timestamp":"2031-05-04T06:00:00.000+00:00","status":400,"error":"Bad Request","path":"/vessels"}`, "not-problem no-field-errors"},
		{"the same with its errors", constraint, "/name minLength", 400, json, `{"timestamp":"2031-05-04T06:00:00Z","status":400,"error":"Bad Request","errors":[{"codes":["Size.vessel.name"],"defaultMessage":"size must be between 2 and 80","objectName":"vessel","field":"name","rejectedValue":"x","bindingFailure":false,"code":"Size"}],"path":"/vessels"}`, "not-problem"},
		{"a problem with detail alone", constraint, "/name minLength", 400, problemMedia, `{"type":"about:blank","title":"Bad Request","status":400,"detail":"Invalid request content.","instance":"/vessels"}`, "no-field-errors"},
		{"a decoder's words with its types", kind, "/length_m type", 400, problemMedia, "{\"type\":\"about:blank\",\"title\":\"Bad Request\",\"status\":400,\"detail\":\"JSON parse error: Cannot deserialize value of type `java.math.BigDecimal` from String\"}", "leaks-internals no-field-errors"},
		{"a stack trace", kind, "/length_m type", 500, json, `{"status":500,"error":"Internal Server Error","trace":"java.lang.IllegalStateException: x\n\tat com.harbour.desk.Berths.book(Berths.java:42)"}`, "crashed leaks-internals"},
		{"a list of constraint violations with argument names", constraint, "/name minLength", 400, json, `{"title":"Constraint Violation","status":400,"violations":[{"field":"create.vessel.name","message":"too short"}]}`, "not-problem missed-field"},
		{"plain text from a REST layer", kind, "/length_m type", 400, "text/plain", "Not able to deserialize data provided.", "not-problem"},
		{"a page of the container", syntax, "request malformed-json", 400, "text/html", "<!doctype html><html><head><title>HTTP Status 400 – Bad Request</title></head></html>", "not-problem"},
		{"a white label page", constraint, "/name minLength", 400, "text/html", "<html><body><h1>Whitelabel Error Page</h1></body></html>", "leaks-internals not-problem"},

		// JavaScript.
		{"a schema validator's message", constraint, "/name minLength", 400, json, `{"statusCode":400,"code":"FST_ERR_VALIDATION","error":"Bad Request","message":"body/name must NOT have fewer than 2 characters"}`, "not-problem no-field-errors"},
		{"instancePath", constraint, "/crew/1/rank enum", 400, json, `{"errors":[{"instancePath":"/crew/1/rank","schemaPath":"#/x","keyword":"enum","params":{"allowedValues":["mate"]},"message":"must be equal to one of the allowed values"}]}`, "not-problem"},
		{"instancePath of a missing member, the name in the words", constraint, "/cargo/weight_t required", 400, json, `{"errors":[{"instancePath":"/cargo","keyword":"required","params":{"missingProperty":"weight_t"},"message":"must have required property 'weight_t'"}]}`, "not-problem vague-field"},
		{"issues with a path of segments", constraint, "/crew/1/rank enum", 400, json, `{"success":false,"error":{"issues":[{"code":"invalid_enum_value","path":["crew",1,"rank"],"message":"Invalid enum value"}],"name":"ValidationError"}}`, "not-problem"},
		{"issues, with an unknown member in a list of names", exchange.UnknownField, "/unexpected additionalProperties", 400, json, `{"issues":[{"code":"unrecognized_keys","keys":["unexpected"],"path":[],"message":"Unrecognized key(s) in object: 'unexpected'"}]}`, "not-problem"},
		{"messages alone", constraint, "/name minLength", 400, json, `{"statusCode":400,"message":["name must be longer than or equal to 2 characters"],"error":"Bad Request"}`, "not-problem no-field-errors"},
		{"a parser's error with its stack", syntax, "request malformed-json", 400, "text/html; charset=utf-8", "<pre>SyntaxError: Unexpected end of JSON input<br> &nbsp; &nbsp;at JSON.parse (&lt;anonymous&gt;)<br>at parse (/srv/harbour/node_modules/body-parser/lib/types/json.js:92:19)</pre>", "leaks-internals not-problem"},
		{"a router's page", exchange.Method, "request wrong-method", 404, "text/html", "<pre>Cannot GET /vessels</pre>", "wrong-status not-problem"},
		{"details with a path in dots", constraint, "/cargo/weight_t maximum", 400, json, `{"statusCode":400,"error":"Bad Request","message":"Invalid","validation":{"source":"payload","keys":["cargo.weight_t"]}}`, "not-problem"},

		// Python.
		{"detail as a list", constraint, "/crew/1/rank enum", 422, json, `{"detail":[{"type":"enum","loc":["body","crew",1,"rank"],"msg":"Input should be 'mate' or 'cook'","input":"captain"}]}`, "not-problem"},
		{"a map at the top", constraint, "/name minLength", 400, json, `{"name":["Ensure this field has at least 2 characters."]}`, "not-problem"},
		{"a map at the top for a nested list", constraint, "/crew/1/rank enum", 400, json, `{"crew":[{},{"rank":["\"captain\" is not a valid choice."]}]}`, "not-problem"},
		{"messages by place", constraint, "/name minLength", 422, json, `{"code":422,"errors":{"json":{"name":["Shorter than minimum length 2."]}},"status":"Unprocessable Entity"}`, "not-problem"},
		{"a debugger's trace", kind, "/length_m type", 500, "text/html", "<!doctype html><title>TypeError</title><pre>Traceback (most recent call last):\n  File \"/srv/harbour/app.py\", line 12, in book</pre>", "crashed leaks-internals"},

		// Go.
		{"plain text", constraint, "/name minLength", 400, "text/plain; charset=utf-8", "bad request\n", "not-problem"},
		{"a decoder's error", kind, "/length_m type", 400, json, `{"error":"json: cannot unmarshal string into Go struct field Vessel.length_m of type float64"}`, "leaks-internals not-problem no-field-errors"},
		{"struct field names", constraint, "/name minLength", 400, json, `{"error":"Key: 'Vessel.Name' Error:Field validation for 'Name' failed on the 'min' tag"}`, "not-problem no-field-errors"},
		{"a location with the place in front", constraint, "/crew/1/rank enum", 422, problemMedia, `{"title":"Unprocessable Entity","status":422,"detail":"validation failed","errors":[{"message":"expected value to be one of \"mate, cook\"","location":"body.crew[1].rank","value":"captain"}]}`, ""},

		// C#.
		{"a map of names in capital letters", constraint, "/length_m maximum", 400, problemMedia, `{"type":"https://tools.ietf.org/html/rfc9110#section-15.5.1","title":"One or more validation errors occurred.","status":400,"errors":{"LengthM":["must be at most 400"]},"traceId":"00-1-2-00"}`, "vague-field"},
		{"a map with a dollar for what the decoder refuses", kind, "/length_m type", 400, problemMedia, `{"type":"https://tools.ietf.org/html/rfc9110#section-15.5.1","title":"One or more validation errors occurred.","status":400,"errors":{"vessel":["The vessel field is required."],"$.length_m":["The JSON value could not be converted to System.Decimal. Path: $.length_m | LineNumber: 0"]}}`, "leaks-internals"},

		// Ruby, PHP, Elixir, Rust.
		{"full messages", constraint, "/name minLength", 422, json, `{"errors":["Name is too short (minimum is 2 characters)"]}`, "not-problem no-field-errors"},
		{"a message and a map", constraint, "/crew/1/rank enum", 422, json, `{"message":"The selected crew.1.rank is invalid.","errors":{"crew.1.rank":["The selected crew.1.rank is invalid."]}}`, "not-problem"},
		{"a redirect for browsers", constraint, "/name minLength", 302, "text/html", "", "redirected"},
		{"a database's words", constraint, "/name maxLength", 500, json, `{"message":"SQLSTATE[22001]: String data, right truncated: 1406 Data too long for column 'name' at row 1"}`, "crashed leaks-internals"},
		{"a changeset's errors", constraint, "/name minLength", 422, json, `{"errors":{"name":["should be at least 2 character(s)"]}}`, "not-problem"},
		{"a deserialiser's sentence", kind, "/length_m type", 422, "text/plain", "Failed to deserialize the JSON body into the target type: length_m: invalid type: string", "not-problem"},

		// What is wrong and easily overlooked.
		{"success with an error text", constraint, "/name minLength", 200, json, `{"ok":false,"error":"name is too short"}`, "accepted"},
		{"401 whatever was wrong", constraint, "/name minLength", 401, problemMedia, `{"title":"Unauthorized","status":401}`, "wrong-status missing-header"},
		{"several messages for a missing field, none of which names it", constraint, "/flag required", 400, problemMedia, `{` + uri + `,"errors":[{"detail":"must not be null"},{"detail":"must not be blank"}]}`, "no-field-errors"},
		{"only the first of two", constraint, "/name minLength,/flag pattern", 422, problemMedia, `{` + uri + `,"errors":[{"pointer":"#/name","detail":"a"}]}`, "one-at-a-time"},
		{"the neighbour", constraint, "/name minLength", 422, problemMedia, `{` + uri + `,"errors":[{"pointer":"#/flag","detail":"a"}]}`, "missed-field wrong-field"},
		{"without an index", constraint, "/crew/1/rank enum", 422, problemMedia, `{` + uri + `,"errors":[{"pointer":"#/crew/rank","detail":"a"}]}`, "broken-pointer"},
		{"a pointer to nothing", constraint, "/name minLength", 422, problemMedia, `{` + uri + `,"errors":[{"pointer":"#/vessel/nome","detail":"a"}]}`, "broken-pointer"},
		{"no words", constraint, "/name minLength", 422, problemMedia, `{` + uri + `,"errors":[{"pointer":"#/name"}]}`, "empty-message"},
		{"status and title of another answer", constraint, "/name minLength", 422, problemMedia, `{"title":"Bad Request","status":400,"errors":[{"pointer":"#/name","detail":"x"}]}`, "status-mismatch weak-problem"},
		{"nothing at all", constraint, "/name minLength", 400, "", "", "not-problem"},
	} {
		t.Run(c.name, func(t *testing.T) {
			k := broken(t, c.class, strings.Split(c.flaws, ",")...)
			a := answer(c.status, "", "", "Content-Type: "+c.media)
			a.Body = []byte(c.body)
			_, found := judged(k, a, true)
			var codes []string
			for _, f := range found {
				codes = append(codes, f.Code)
			}
			if got := strings.Join(codes, " "); got != c.want {
				t.Errorf("found %q, want %q: %+v", got, c.want, found)
			}
		})
	}
}
