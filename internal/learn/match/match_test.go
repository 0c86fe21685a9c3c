package match_test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"obiter/internal/core/exchange"
	"obiter/internal/generate/plan"
	"obiter/internal/harbour"
	"obiter/internal/input/oad"
	"obiter/internal/learn/capture"
	"obiter/internal/learn/match"
)

// office is the harbour's description, and a few operations more.
func office(t *testing.T) *match.Matcher {
	t.Helper()
	more := `
  /quays/{quay}/report.{format}:
    get:
      parameters:
        - { name: quay, in: path, required: true, schema: { type: integer } }
        - { name: format, in: path, required: true, schema: { enum: [csv, xml] } }
        - { name: open, in: query, schema: { type: boolean } }
        - { name: depth, in: query, schema: { type: number, maximum: 20 } }
        - { name: tugs, in: query, schema: { type: array, items: { type: integer } } }
        - { name: near, in: query, explode: true, schema: { type: object, properties: { east: { type: number } } } }
        - { name: X-Watch, in: header, required: true, schema: { enum: [day, night] } }
      responses: { '200': { description: A report. } }
  /quays/closed:
    post:
      requestBody: { content: { application/x-www-form-urlencoded: { schema: { type: object, required: [from], properties: { from: { type: integer } } } } } }
      responses: { '200': { description: Done. } }
components:`
	doc, err := oad.Read("openapi.yaml", []byte(strings.Replace(string(harbour.Description), "\ncomponents:", more, 1)))
	if err != nil {
		t.Fatal(err)
	}
	m, err := match.New(doc, "http://localhost/api", plan.Options{})
	if err != nil {
		t.Fatal(err)
	}
	return m
}

const booking = `{"vessel_id":"5e0c3f6a-2b71-4c8d-9a4e-6f1d2c3b4a59","berth":"C12","arrives_at":"2031-05-04T06:00:00Z","departs_at":"2031-05-06T18:30:00Z","purpose":"Discharging timber","crew":[{"name":"A. Lind","rank":"master"}],"accepts_dues":true%s}`

func sent(request, body string, status int) capture.Exchange {
	x := capture.Exchange{Entry: 1, Answer: exchange.Answer{Status: status, Header: http.Header{}}}
	method, path, _ := strings.Cut(request, " ")
	path, header, has := strings.Cut(path, " ")
	x.Method, x.URL, x.Body = method, "http://127.0.0.1:8080"+path, []byte(body)
	if body != "" {
		x.Headers = append(x.Headers, [2]string{"Content-Type", "application/json"})
	}
	if name, value, _ := strings.Cut(header, ":"); has {
		x.Headers = append([][2]string{{name, value}}, x.Headers...)
	}
	return x
}

// told is a case in a line: its operation, kind, and flaws.
func told(e exchange.Exchange) string {
	out := e.Operation + " " + string(e.Kind)
	for _, f := range e.Flaws {
		out += fmt.Sprintf(" %s%s:%s", f.In, f.Pointer, f.Rule)
	}
	if e.Edge != nil {
		out += " " + e.Edge.Pointer + ":" + e.Edge.Rule
	}
	return out + fmt.Sprint(" ", e.Expect.Statuses)
}

func TestCapturedRequests(t *testing.T) {
	for name, c := range map[string]struct {
		request, body string
		status        int
		want          string
	}{
		"valid":                   {"POST /berth-bookings", fmt.Sprintf(booking, ""), 201, "POST /berth-bookings control []"},
		"under another base":      {"POST /api/berth-bookings", fmt.Sprintf(booking, ""), 201, "POST /berth-bookings control []"},
		"a field wrong":           {"POST /berth-bookings", strings.Replace(fmt.Sprintf(booking, ""), "C12", "Z99", 1), 422, "POST /berth-bookings flawed body/berth:pattern [400 422]"},
		"two fields wrong":        {"POST /berth-bookings", strings.Replace(fmt.Sprintf(booking, ""), `"rank":"master"`, `"rank":"pirate","age":3`, 1), 201, "POST /berth-bookings flawed body/crew/0/age:additionalProperties body/crew/0/rank:enum [400 422]"},
		"one field wrong twice":   {"POST /vessels", `{"name":"Aurora","imo":"IMO9074729","type":"cargo","length_m":182.5,"crew_capacity":24,"flag":"NO","call_sign":""}`, 422, "POST /vessels flawed body/call_sign:minLength [400 422]"},
		"another type":            {"POST /berth-bookings", `[]`, 400, "POST /berth-bookings flawed body:type [400 422]"},
		"not JSON":                {"POST /berth-bookings", `{"berth":`, 422, "POST /berth-bookings flawed request:malformed-json [400]"},
		"nested very deeply":      {"POST /berth-bookings", strings.Repeat("[", 600) + strings.Repeat("]", 600), 422, "POST /berth-bookings flawed request:captured [422]"},
		"nothing":                 {"POST /berth-bookings", ``, 400, "POST /berth-bookings flawed request:empty-body [400 422]"},
		"another media type":      {"POST /berth-bookings Content-Type:text/plain", fmt.Sprintf(booking, ""), 415, "POST /berth-bookings flawed request:wrong-content-type [415]"},
		"a content coding":        {"POST /berth-bookings Content-Encoding:zstd", "{", 415, "POST /berth-bookings flawed request:captured [415]"},
		"a method too many":       {"PATCH /berth-bookings", `{}`, 405, "POST /berth-bookings flawed request:wrong-method [405]"},
		"no such path":            {"GET /lighthouses", "", 404, ""},
		"asked by a browser":      {"OPTIONS /vessels", "", 204, ""},
		"wrong, and not let in":   {"POST /berth-bookings", `{}`, 401, "POST /berth-bookings flawed request:captured [401]"},
		"valid, and not let in":   {"POST /berth-bookings", fmt.Sprintf(booking, ""), 401, "POST /berth-bookings flawed request:captured [401]"},
		"valid, and refused":      {"POST /berth-bookings", fmt.Sprintf(booking, ""), 422, "POST /berth-bookings control []"},
		"on a boundary":           {"POST /berth-bookings", strings.Replace(fmt.Sprintf(booking, ""), "Discharging timber", strings.Repeat("é", 200), 1), 422, "POST /berth-bookings edge /purpose:maxLength []"},
		"a merge patch":           {"PATCH /vessels/5e0c3f6a-2b71-4c8d-9a4e-6f1d2c3b4a59 Content-Type:application/merge-patch+json", `{"contact_email":null}`, 200, "PATCH /vessels/{vessel_id} control []"},
		"a path parameter":        {"DELETE /sessions/xyz", "", 400, "DELETE /sessions/{session_id} flawed path/session_id:pattern [400 404 422]"},
		"a query parameter":       {"GET /vessels?limit=101", "", 200, "GET /vessels flawed query/limit:maximum [400 422]"},
		"a number that is none":   {"GET /vessels?limit=many", "", 200, "GET /vessels flawed query/limit:type [400 422]"},
		"a number for some":       {"GET /vessels?limit=%2B20", "", 200, "GET /vessels flawed request:captured []"},
		"a parameter twice":       {"GET /vessels?limit=1&limit=2", "", 200, "GET /vessels flawed request:captured []"},
		"one that is not there":   {"GET /vessels?colour=red", "", 200, "GET /vessels control []"},
		"parts of a segment":      {"GET /quays/7/report.csv?depth=12&tugs=1&tugs=2&near=x X-Watch:day", "", 200, "GET /quays/{quay}/report.{format} flawed request:captured []"},
		"wrong part of a segment": {"GET /quays/7/report.pdf X-Watch:day", "", 422, "GET /quays/{quay}/report.{format} flawed path/format:enum [400 404 422]"},
		"a header left out":       {"GET /quays/7/report.pdf", "", 404, "GET /quays/{quay}/report.{format} flawed path/format:enum [400 404 422]"},
		"a boolean for some":      {"GET /quays/7/report.csv?open=1 X-Watch:day", "", 200, "GET /quays/{quay}/report.{format} flawed request:captured []"},
		"two places wrong":        {"GET /quays/7/report.pdf?depth=21 X-Watch:day", "", 422, "GET /quays/{quay}/report.{format} flawed request:captured [422]"},
		"literals before names":   {"POST /quays/closed Content-Type:application/x-www-form-urlencoded", "from=12", 200, "POST /quays/closed control []"},
		"a form":                  {"POST /quays/closed Content-Type:application/x-www-form-urlencoded", "from=noon", 400, "POST /quays/closed flawed body/from:type [400 422]"},
	} {
		m := office(t)
		m.Learn(sent("POST /berth-bookings", fmt.Sprintf(booking, ""), 201))
		e, ok := m.Case(sent(c.request, c.body, c.status))
		got := ""
		if ok {
			got = told(e)
			if !e.Captured || e.ID == "" || e.ProvenBy != e.Operation {
				t.Errorf("%s: %+v", name, e.Case)
			}
		}
		if got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", name, got, c.want)
		}
	}
}

// TestValuesAreToldApart: that one wrong value was refused says nothing of another.
func TestValuesAreToldApart(t *testing.T) {
	m := office(t)
	variants := map[string]bool{}
	for _, berth := range []string{"Z99", "C12 ", "Z99"} {
		e, _ := m.Case(sent("POST /berth-bookings", strings.Replace(fmt.Sprintf(booking, ""), "C12", berth, 1), 422))
		variants[e.Flaws[0].Variant] = true
	}
	if len(variants) != 2 {
		t.Errorf("%v", variants)
	}
}

func TestBodiesThatAreNotThere(t *testing.T) {
	m := office(t)
	x := sent("POST /berth-bookings", "", 201)
	x.Lacking = true
	if e, _ := m.Case(x); told(e) != "POST /berth-bookings flawed request:captured []" {
		t.Error(told(e))
	}
}

func TestWithoutADescription(t *testing.T) {
	for status, want := range map[int]string{201: "POST /tugs control []", 422: "POST /tugs flawed request:captured [422]", 500: "POST /tugs flawed request:captured [500]"} {
		if got := told(match.Bare("POST /tugs", 1, sent("POST /tugs", "{}", status))); got != want {
			t.Errorf("%d: %s, want %s", status, got, want)
		}
	}
}
