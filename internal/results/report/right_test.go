package report

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"unicode/utf8"

	"obiter/internal/core/exchange"
	"obiter/internal/evaluate/judge"
)

// TestRightNamesAllFields, each with what is wrong with it.
func TestRightNamesAllFields(t *testing.T) {
	flaws := []exchange.Flaw{{In: "body", Pointer: "/name", Rule: "required", Reason: "left out"}, {In: "body", Pointer: "/length_m", Rule: "minimum", Reason: "too small"}, {In: "body", Pointer: "/crew/0/rank", Rule: "enum", Reason: "not listed"}}
	r := New()
	e := exchange.Exchange{Case: exchange.Case{ID: "0000000001", Operation: "POST /vessels", Kind: exchange.Flawed, Flaws: []exchange.Flaw{{In: "body", Pointer: "/flag", Rule: "required"}}, Request: exchange.Request{URL: "http://h/vessels"}, Expect: exchange.Expect{Class: exchange.Constraint, Statuses: []int{400, 422}}},
		Response: exchange.Answer{Status: 422, Header: http.Header{"Content-Type": {"application/problem+json"}}, Body: []byte(`{"status":422,"instance":"/vessels","errors":[{"detail":"flag is required","pointer":"#/flag"}]}`)}}
	r.AddAnswer(&e, &judge.Judgement{Verdict: judge.Pass, Said: "flag is required", Fingerprint: &judge.Fingerprint{All: []string{"errors"}, Asked: true, Named: true, Where: "/errors/*/pointer"}})
	c := exchange.Case{Operation: "PUT /vessels/{id}", Kind: exchange.Flawed, Flaws: flaws, Request: exchange.Request{URL: "http://h/vessels/7"}, Expect: exchange.Expect{Class: exchange.Constraint, Statuses: []int{400}}}
	got := r.Right(c, true)
	want := `{"status":400,"instance":"/vessels/7","errors":[{"detail":"name is required","pointer":"#/name"},{"detail":"too small","pointer":"#/length_m"},{"detail":"not listed","pointer":"#/crew/0/rank"}]}`
	if strings.Join(strings.Fields(got.Body), " ") != strings.Join(strings.Fields(indented(want)), " ") || got.Status != 400 || got.Like != "0000000001" {
		t.Errorf("%+v", got)
	}
	c.Flaws = []exchange.Flaw{{In: "request", Rule: "malformed-json", Reason: "cut off"}}
	if got := r.Right(c, true); got.Like != "" || !strings.Contains(got.Body, `"detail": "cut off"`) { // of that there is none to follow
		t.Errorf("%+v", got)
	}
}

// TestRightInALayoutOfItsOwn: what is wrong in form shows what is missing in substance, and
// not what is right in form.
func TestRightInALayoutOfItsOwn(t *testing.T) {
	r := New()
	r.Line("PUT /berths/{id}")
	own := exchange.Exchange{Case: exchange.Case{ID: "0000000001", Operation: "PUT /berths/{id}", Kind: exchange.Flawed, Flaws: []exchange.Flaw{{In: "body", Pointer: "/flag", Rule: "type"}}, Expect: exchange.Expect{Class: exchange.Type, Statuses: []int{400}}},
		Response: exchange.Answer{Status: 400, Header: http.Header{"Content-Type": {"application/json"}}, Body: []byte(`{"fields":{"flag":"must be text"}}`)}}
	j := judge.Judgement{Verdict: judge.Form, Said: "must be text", Findings: []judge.Finding{{Code: "not-problem", Severity: judge.Error}}, Fingerprint: &judge.Fingerprint{All: []string{"fields"}, Asked: true, Named: true, Where: "/fields/*"}}
	r.AddAnswer(&own, &j)
	c := own.Case
	c.Flaws = []exchange.Flaw{{In: "body", Pointer: "/name", Rule: "type", Reason: "a number"}}
	if got := r.Right(c, false); got.Media != "application/json" || got.Body != "{\n  \"fields\": {\n    \"name\": \"a number\"\n  }\n}" {
		t.Errorf("%+v", got)
	}
	if got := r.Right(c, true); got.Media != "application/problem+json" || !strings.Contains(got.Body, `"pointer": "#/name"`) {
		t.Errorf("%+v", got)
	}
	c.Flaws, c.Expect = []exchange.Flaw{{In: "request", Rule: "wrong-method"}}, exchange.Expect{Statuses: []int{405}}
	if got := r.Right(c, false); got.Header != "Allow: PUT" {
		t.Errorf("%+v", got)
	}
}

func TestRenamed(t *testing.T) {
	for _, c := range []struct{ body, was, is, want string }{
		{`{"errors":[{"pointer":"#/name","detail":"x"}]}`, "/name", "/crew/0/rank", `{"errors":[{"pointer":"#/crew/0/rank","detail":"x"}]}`},
		{`{"errors":[{"pointer":"/name"}],"name":"name"}`, "/name", "/imo", `{"errors":[{"pointer":"/imo"}],"name":"name"}`},
		{`{"detail":[{"loc":["body","crew",0,"rank"]}]}`, "/crew/0/rank", "/crew/1/name", `{"detail":[{"loc":["body","crew",1,"name"]}]}`},
		{`{"detail":[{"loc":["body","name"]}]}`, "/name", "/imo", `{"detail":[{"loc":["body","imo"]}]}`},
		{`{"field":"crew[0].rank"}`, "/crew/0/rank", "/name", `{"field":"name"}`},
		{`{"field":"crew.0.rank"}`, "/crew/0/rank", "/crew/2/name", `{"field":"crew.2.name"}`},
		{`{"field":"vessel.name"}`, "/name", "/imo", `{"field":"vessel.imo"}`},
		{`{"errors":{"name":["is short"]}}`, "/name", "/imo", `{"errors":{"imo":["is short"]}}`},
		{`{"title":"rename"}`, "/name", "/imo", `{"title":"rename"}`},
	} {
		if got := renamed(c.body, c.was, c.is); got != c.want {
			t.Errorf("%s: %s, want %s", c.body, got, c.want)
		}
	}
}

// FuzzRight holds that what is made after a JSON answer is JSON, whatever is in it.
func FuzzRight(f *testing.F) {
	f.Add(`{"errors":[{"pointer":"#/name","detail":"is \"short\""}],"status":422}`, "/name", "/crew/0/rank", `a "b"`)
	f.Add(`{"detail":[{"loc":["body","crew",0,"rank"],"msg":"x"}]}`, "/crew/0/rank", "/a~1b/1", "\u2028")
	f.Add(`{"errors":{"name":["x"]}}`, "/name", "/0", "x")
	f.Add(`["name","name\\"]`, "/name", "/", "")
	f.Fuzz(func(t *testing.T, body, was, is, words string) {
		if !json.Valid([]byte(body)) || !utf8.ValidString(body+was+is+words) {
			return
		}
		out := restated(reworded(renamed(body, was, is), "is", words), 422, 400)
		out = withEntry(out, exchange.Flaw{Pointer: is}, exchange.Flaw{Pointer: was, Reason: words}, words, "said")
		if !json.Valid([]byte(out)) {
			t.Errorf("%s\nof %s, %q to %q", out, body, was, is)
		}
	})
}
