package plan_test

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"testing"

	"obiter/internal/input/oad"

	"obiter/internal/generate/flaw"
	"obiter/internal/generate/plan"
)

// TestNothingToFillIn: an operation without parameters and body has a valid request,
// and what can be wrong with it as a whole.
func TestNothingToFillIn(t *testing.T) {
	doc := description(t, "  /a:\n    get: {}\n  /b:\n    post: {}\n")
	var got []string
	for _, c := range cases(t, doc, plan.Options{Depth: flaw.Deep}) {
		got = append(got, c.Operation+" "+c.Name)
	}
	want := []string{"GET /a control, fullest", "GET /a unusual-accept image-png-alone", "GET /a wrong-method patch", "POST /b control, fullest", "POST /b wrong-method get", "the API as a whole unknown-path unlisted"}
	if !slices.Equal(got, want) {
		t.Errorf("planned %q, want %q", got, want)
	}
}

// TestRulesAreChosen: by what is broken, and what is not.
func TestRulesAreChosen(t *testing.T) {
	doc := description(t, "  /b:\n    post:\n      requestBody: {content: {application/json: {schema: {type: object, required: [a], properties: {a: {type: string, maxLength: 3}}}}}}\n")
	count := func(opt plan.Options) map[string]int {
		out := map[string]int{}
		for _, c := range cases(t, doc, opt) {
			for _, f := range c.Flaws {
				out[f.Rule]++
			}
			if c.Edge != nil {
				out["edge "+c.Edge.Rule]++
			}
		}
		return out
	}
	if got := count(plan.Options{Break: []string{"maxLength"}}); len(got) != 2 || got["maxLength"] == 0 || got["edge maxLength"] == 0 {
		t.Errorf("only maxLength: %v", got)
	}
	all, spared := count(plan.Options{}), count(plan.Options{Spare: []string{"type", "wrong-method"}})
	if spared["type"]+spared["wrong-method"] > 0 || spared["required"] != all["required"] || all["type"] == 0 {
		t.Errorf("spared: %v of %v", spared, all)
	}
}

// TestWhatIsNotThere: each path parameter names nothing in turn, whatever its form;
// of a PUT only where the description says so. Unknown paths are next to resources.
func TestWhatIsNotThere(t *testing.T) {
	const answers = "responses: {'404': {description: none}}"
	parameter := func(name, schema, example string) string {
		return "{name: " + name + ", in: path, required: true, schema: {" + schema + "}, example: " + example + "}"
	}
	doc := description(t, "  /api/v1/piers/{pier}/berths/{berth}:\n    parameters: ["+parameter("pier", "type: string, pattern: '^PR-[0-9]{3}$'", "PR-001")+", "+parameter("berth", "type: integer, minimum: 1", "7")+
		"]\n    get: {"+answers+"}\n    put: {"+answers+"}\n    patch: {"+answers+"}\n  /api/v1/moorings/{code}:\n    parameters: ["+parameter("code", "type: string, pattern: '^[a-z]{4}$'", "quay")+"]\n    get: {"+answers+
		"}\n    put: {responses: {'201': {description: made}, '404': {description: none}}}\n  /api/v1/numbers/{n}:\n    parameters: ["+parameter("n", "type: integer, minimum: 1, maximum: 99999", "7")+"]\n    get: {"+answers+"}\n  /tides/{day}:\n    parameters: ["+parameter("day", "type: string, enum: [mon, tue]", "mon")+"]\n    get: {"+answers+"}\n")
	var got []string
	const berth = " /api/v1/piers/{pier}/berths/{berth}"
	for _, c := range cases(t, doc, plan.Options{Depth: flaw.Usual, Retires: map[string]bool{"PUT" + berth: true, "PATCH" + berth: true}}) {
		if len(c.Flaws) == 1 && (c.Flaws[0].Rule == "unknown-id" || c.Flaws[0].Rule == "unknown-path") {
			got = append(got, c.Flaws[0].Rule+" "+c.Request.Method+" "+strings.TrimPrefix(c.Request.URL, "http://127.0.0.1:1/v1"))
		}
	}
	want := []string{
		"unknown-id GET /api/v1/piers/PR-001/berths/2000000011", "unknown-id GET /api/v1/piers/PR-778/berths/7",
		"unknown-id PUT /api/v1/piers/PR-001/berths/2000000011", "unknown-id PATCH /api/v1/piers/PR-001/berths/2000000011", // PR-778 may be somebody's
		"unknown-id GET /api/v1/moorings/zjdn", "unknown-id GET /api/v1/numbers/10014",
		"unknown-path GET /no-such-place", "unknown-path GET /api/v1/no-such-place",
	}
	slices.Sort(got)
	slices.Sort(want)
	if !slices.Equal(got, want) {
		t.Errorf("planned\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	// Without a record that can be created and deleted for it, what changes something names
	// nothing but what was made.
	for _, c := range cases(t, doc, plan.Options{Depth: flaw.Deep}) {
		if len(c.Flaws) == 1 && c.Flaws[0].Rule == "unknown-id" && c.Request.Method != "GET" {
			t.Errorf("%s %s is sent", c.Request.Method, c.Request.URL)
		}
	}
}

// TestIDsAreSentAsTheyAre: with what changes or deletes something, an address names the record
// that was made, or a word where ids are numbers or UUIDs.
func TestIDsAreSentAsTheyAre(t *testing.T) {
	for schema, words := range map[string]bool{"type: integer, minimum: 1, example: 7": true, "type: string, format: uuid": true, "type: string, minLength: 2, maxLength: 9, example: PR-7": false, "type: string, pattern: '^[a-z]{4}$', example: quay": false} {
		doc := description(t, "  /piers/{pier}:\n    parameters: [{name: pier, in: path, required: true, schema: {"+schema+"}}]\n    get: {}\n    put: {requestBody: {content: {application/json: {schema: {type: object, properties: {name: {type: string}}}}}}}\n    patch: {}\n    delete: {}\n")
		sent := map[string]map[string]bool{}
		for _, c := range cases(t, doc, plan.Options{Depth: flaw.Deep, Retires: map[string]bool{"DELETE /piers/{pier}": true}, PerCase: map[string]bool{"DELETE /piers/{pier}": true}}) {
			if len(c.Flaws) == 1 && c.Flaws[0].Rule == "unknown-id" {
				continue
			}
			if sent[c.Request.Method] == nil {
				sent[c.Request.Method] = map[string]bool{}
			}
			sent[c.Request.Method][c.Request.URL[strings.LastIndex(c.Request.URL, "/piers")+len("/piers"):]] = true
		}
		if len(sent["GET"]) < 5 {
			t.Errorf("%s: a GET is sent to %v", schema, sent["GET"])
		}
		for _, method := range []string{"PUT", "PATCH", "DELETE"} {
			others := 0
			for at := range sent[method] {
				if others++; regexp.MustCompile(`^/[A-Za-z]+(-[A-Za-z]+)*$`).MatchString(at) && words {
					others--
				}
			}
			if others > 1 {
				t.Errorf("%s: a %s is sent to %v", schema, method, sent[method])
			}
		}
	}
}

// TestABodyOfAGet is sent where the description may require it, and does.
func TestABodyOfAGet(t *testing.T) {
	body := "  /a:\n    get: {requestBody: {required: %v, content: {application/json: {schema: {type: object, required: [gauge], properties: {gauge: {type: string, examples: [kiel]}}}}}}}\n"
	for _, x := range []struct {
		required bool
		version  string
		sent     bool
	}{{true, "3.1.0", true}, {false, "3.1.0", false}, {true, "3.0.3", false}} {
		doc, err := oad.Read("tides.yaml", []byte("openapi: "+x.version+"\ninfo: {title: Tides, version: '1'}\npaths:\n"+fmt.Sprintf(body, x.required)))
		if err != nil {
			t.Fatal(err)
		}
		if c := cases(t, doc, plan.Options{})[0]; len(c.Request.Body) > 0 != x.sent {
			t.Errorf("%+v: %q is sent", x, c.Request.Body)
		}
	}
}

// TestHeadersOfTheTransport are not planned, and told.
func TestHeadersOfTheTransport(t *testing.T) {
	doc := description(t, "  /a:\n    get: {parameters: [{name: Content-Length, in: header, required: true, schema: {type: integer}}, {name: Host, in: header, schema: {type: string}}, {name: User-Agent, in: header, required: true, schema: {type: string, minLength: 3}}]}\n")
	p, err := plan.New(doc, plan.Options{Depth: flaw.Deep})
	if err != nil {
		t.Fatal(err)
	}
	for op := range p.Operations() {
		agents := 0
		for c := range op.Cases() {
			if c.Request.Header("Content-Length")+c.Request.Header("Host") != "" {
				t.Errorf("%s sends %v", c.Name, c.Request.Headers)
			}
			if len(c.Flaws) > 0 && c.Flaws[0].Pointer == "/User-Agent" {
				agents++
			}
		}
		if !op.IsWholeAPI() && (op.Drops[plan.OfTransport] != 2 || agents == 0) {
			t.Errorf("%v, %d flaws of User-Agent", op.Drops, agents)
		}
	}
}
