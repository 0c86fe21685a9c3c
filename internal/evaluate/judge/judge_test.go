package judge

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/evaluate/layout"
)

const control = `{"name":"Aurora","length_m":12.5,"flag":"NO","crew":[{"name":"a","rank":"mate"},{"name":"b","rank":"cook"}],"cargo":{"weight_t":3}}`

// judged judges with nothing else known.
func judged(c exchange.Case, a exchange.Answer, proven bool) (Verdict, []Finding) {
	j := Case(c, a, Context{Proven: proven})
	return j.Verdict, j.Findings
}

func decode(t testing.TB, s string) any {
	t.Helper()
	v, err := instance.Decode([]byte(s))
	if err != nil {
		t.Fatal(err)
	}
	return v
}

// broken is a case whose flaws are given as "pointer rule", "request rule" for
// one of the whole request.
func broken(t testing.TB, class exchange.Class, flaws ...string) exchange.Case {
	t.Helper()
	c := exchange.Case{ID: "0123456789", Kind: exchange.Flawed, Operation: "POST /vessels", Request: exchange.Request{Method: "POST"},
		Expect: exchange.Expect{Class: class, Statuses: class.Statuses()}, Body: decode(t, control), Control: decode(t, control)}
	for _, f := range flaws {
		where, rule, _ := strings.Cut(f, " ")
		if where == "request" {
			c.Flaws = append(c.Flaws, exchange.Flaw{In: "request", Rule: rule, Reason: "it is so"})
			continue
		}
		c.Flaws = append(c.Flaws, exchange.Flaw{In: "body", Pointer: where, Rule: rule, Reason: "it is so"})
		switch rule {
		case "required":
			c.Body, _ = instance.Remove(c.Body, where)
		case "additionalProperties":
			c.Body, _ = instance.Set(c.Body, where, "ballast")
		}
	}
	return c
}

const problemMedia = "application/problem+json"

// answer is one with the given body; a problem document that has no type is
// given one, so that it is not weak.
func answer(status int, media, body string, headers ...string) exchange.Answer {
	if strings.HasPrefix(body, "{") && media == problemMedia && !strings.Contains(body, `"type"`) && len(body) > 1 {
		body = strings.Replace(`{"type":"urn:harbour:x",`+body[1:], ",}", "}", 1)
	}
	a := exchange.Answer{Status: status, Header: http.Header{}, Body: []byte(body)}
	if media != "" {
		a.Header.Set("Content-Type", media)
	}
	for _, h := range headers {
		name, value, _ := strings.Cut(h, ": ")
		a.Header.Set(name, value)
	}
	return a
}

// named is a sound problem document whose errors name the given pointers.
func named(pointers ...string) string {
	var entries []string
	for _, p := range pointers {
		entries = append(entries, fmt.Sprintf(`{"detail":"is wrong","pointer":%q}`, p))
	}
	return `{"type":"https://harbour.example/invalid","title":"Invalid","status":422,"errors":[` + strings.Join(entries, ",") + `]}`
}

// Many frameworks treat an empty value of a query or a form as absent, and the
// default is taken; a value that is there and wrong is another matter.
func TestEmptyValuesAreOftenNone(t *testing.T) {
	form := [][2]string{{"Content-Type", "application/x-www-form-urlencoded"}}
	for _, c := range []struct {
		in       string
		headers  [][2]string
		value    any
		severity Severity
	}{
		{"query", nil, nil, Warning}, {"query", nil, "", Warning}, {"query", nil, "x", Error}, {"path", nil, "", Error},
		{"body", form, "", Warning}, {"body", form, nil, Warning}, {"body", form, "x", Error}, {"body", nil, nil, Error}, {"body", nil, "", Error},
	} {
		flawed := broken(t, exchange.Constraint, "/name minLength")
		flawed.Flaws[0].In, flawed.Request.Headers = c.in, c.headers
		flawed.Body, _ = instance.Set(flawed.Body, "/name", c.value)
		j := Case(flawed, answer(200, "application/json", `{}`), Context{Proven: true})
		if len(j.Findings) != 1 || j.Findings[0].Code != "accepted" || j.Findings[0].Severity != c.severity || (j.Verdict == Unproven) != (c.severity == Warning) {
			t.Errorf("%v in %s: %v %+v", c.value, c.in, j.Verdict, j.Findings)
		}
	}
	two := broken(t, exchange.Constraint, "/name minLength", "/flag pattern")
	two.Flaws[0].In, two.Flaws[1].In = "query", "query"
	two.Body, _ = instance.Set(two.Body, "/name", "")
	if j := Case(two, answer(200, "application/json", `{}`), Context{Proven: true}); len(j.Findings) == 0 || j.Findings[0].Severity != Error {
		t.Errorf("two at once: %+v", j.Findings)
	}
}

// TestVerdicts holds answers against what must be found, each code in order.
// The sound ones, with nothing to find, are those that a hasty check accuses.
func TestVerdicts(t *testing.T) {
	name := broken(t, exchange.Constraint, "/name minLength")
	deep := broken(t, exchange.Constraint, "/crew/1/rank enum")
	unknown := broken(t, exchange.UnknownField, "/cargo/colour additionalProperties")
	missing := broken(t, exchange.Constraint, "/cargo/weight_t required")
	two := broken(t, exchange.Constraint, "/name minLength", "/flag pattern")
	syntax := broken(t, exchange.Syntax, "request malformed-json")
	method := broken(t, exchange.Method, "request wrong-method")
	media := broken(t, exchange.MediaType, "request wrong-content-type")
	choice := broken(t, exchange.Constraint, "/cargo/weight_t maximum")
	choice.Alternatives = []string{"/cargo"}
	large := broken(t, exchange.TooLarge, "request large-body")
	header := broken(t, exchange.Parameter, "/X-Tide type")
	header.Flaws[0].In = "header"
	query := broken(t, exchange.Parameter, "/limit type")
	query.Flaws[0].In = "query"
	for _, c := range []struct {
		name string
		c    exchange.Case
		a    exchange.Answer
		want string
	}{
		{"sound", name, answer(422, problemMedia, named("#/name")), ""},
		{"sound with 400", name, answer(400, problemMedia, strings.Replace(named("#/name"), "422", "400", 1)), ""},
		{"sound: a pointer without its #", name, answer(422, problemMedia, named("/name")), ""},
		{"sound: percent-encoded", broken(t, exchange.Constraint, "/a~1b required"), answer(422, problemMedia, named("#/a%7E1b")), ""},
		{"sound: the body named in addition to the field", name, answer(422, problemMedia, named("#", "#/name")), ""},
		{"sound: an unknown member at its object", unknown, answer(422, problemMedia, named("#/cargo")), ""},
		{"sound: an unknown member at itself", unknown, answer(422, problemMedia, named("#/cargo/colour")), ""},
		{"sound: a list's rule at an element", broken(t, exchange.Constraint, "/crew uniqueItems"), answer(422, problemMedia, named("#/crew/1")), ""},
		{"sound: members of a value of the wrong type", broken(t, exchange.Type, "/cargo type"), answer(422, problemMedia, named("#/cargo/weight_t")), ""},
		{"sound: the whole body of another type", broken(t, exchange.Type, " type"), answer(400, problemMedia, `{"title":"Bad"}`), ""},
		{"sound: syntax without a field", syntax, answer(400, problemMedia, `{"title":"Malformed"}`), ""},
		{"sound: 405", method, answer(405, problemMedia, `{}`, "Allow: POST"), ""},
		{"sound: 405 with an empty Allow", method, answer(405, problemMedia, `{}`, "Allow: "), ""},
		{"sound: 415", media, answer(415, problemMedia, `{}`), ""},
		{"sound: XML", name, answer(422, "application/problem+xml", `<problem xmlns="urn:ietf:rfc:7807"><type>urn:harbour:x</type><errors><i><pointer>#/name</pointer><detail>x</detail></i></errors></problem>`), ""},
		{"sound: all of several", two, answer(422, problemMedia, named("#/name", "#/flag")), ""},
		{"sound: segments", deep, answer(422, problemMedia, `{"errors":[{"loc":["body","crew",1,"rank"],"msg":"x"}]}`), ""},
		{"sound: brackets in a map", deep, answer(422, problemMedia, `{"errors":{"crew[1].rank":["x"]}}`), ""},
		{"sound: the decoder's stage first", broken(t, exchange.Constraint, "/name minLength", "/flag type"), answer(400, problemMedia, `{"errors":[{"pointer":"#/flag","detail":"x"}]}`), ""},
		{"sound: presence before limits", broken(t, exchange.Constraint, "/name minLength", "/flag required"), answer(422, problemMedia, named("#/flag")), ""},

		{"sound: what another branch misses in addition to the field", choice, answer(422, problemMedia, named("#/cargo/volume", "#/cargo/weight_t")), ""},
		{"sound: the place of the alternatives", choice, answer(422, problemMedia, named("#/cargo")), ""},
		{"sound: a header in another letter case", header, answer(400, problemMedia, strings.Replace(named("#/x-tide"), "422", "400", 1)), ""},
		{"sound: a parameter by its place and name", query, answer(422, problemMedia, named("#/query/limit")), ""},
		{"sound: no record at such an address", broken(t, exchange.PathParameter, "/id pattern"), answer(404, problemMedia, `{"status":404}`), ""},

		{"sound: a coding that is passed over, JSON's charset too", broken(t, exchange.Either, "request unusual-charset"), answer(201, "application/json", `{}`), ""},
		{"sound: a closed connection to a large body", large, exchange.Answer{Err: "the connection was reset", ClosedEarly: true}, ""},
		{"sound: hidden rather than not found", broken(t, exchange.NotFound, "request unknown-path"), answer(403, problemMedia, `{"status":403}`), ""},
		{"sound: 406 for an image", broken(t, exchange.NotAcceptable, "request unusual-accept"), answer(406, problemMedia, `{"status":406}`), ""},
		{"a large body that is waited for", large, exchange.Answer{Err: "no complete answer within 10s"}, "no-answer"},
		{"a page for an image", broken(t, exchange.NotAcceptable, "request unusual-accept"), answer(400, "text/html", `<p>`), "not-problem"},
		{"a failure where success is right too", broken(t, exchange.Either, "request repeated"), answer(500, problemMedia, `{}`), "crashed"},
		{"only another branch", choice, answer(422, problemMedia, named("#/cargo/volume")), "missed-field"},
		{"outside the alternatives", choice, answer(422, problemMedia, named("#/cargo/weight_t", "#/flag")), "wrong-field"},
		{"accepted", name, answer(201, "application/json", `{}`), "accepted"},
		{"accepted with an error text", name, answer(200, "application/json", `{"error":"bad"}`), "accepted"},
		{"crashed", name, answer(500, "text/html", `<h1>`), "crashed"},
		{"crashed, well worded", name, answer(500, problemMedia, `{"status":500}`), "crashed"},
		{"redirected", name, answer(302, "", "", "Location: /login"), "redirected"},
		{"no answer", name, exchange.Answer{Err: "reset"}, "no-answer"},
		{"not found for a bad field", name, answer(404, problemMedia, `{"status":404}`), "wrong-status"},
		{"a syntax error as 422", syntax, answer(422, problemMedia, `{"status":422}`), "wrong-status"},
		{"405 without Allow", method, answer(405, problemMedia, `{}`), "missing-header"},
		{"404 in place of 405", method, answer(404, problemMedia, `{}`), "wrong-status"},
		{"401 without a challenge", name, answer(401, problemMedia, `{}`), "wrong-status missing-header"},
		{"sound: an error list that is empty", broken(t, exchange.Either, "request unusual-charset"), answer(200, "application/json", `{"errors":[]}`), ""},
		{"sound: a condition that is ignored", broken(t, exchange.Ignorable, "/If-Match pattern"), answer(200, "application/json", `{}`), ""},
		{"sound: a condition that fails", broken(t, exchange.Ignorable, "/If-Match pattern"), answer(412, problemMedia, `{}`), ""},
		{"an undescribed method that is there", method, answer(200, "application/json", `{}`), "accepted"},
		{"plain JSON that names the field", name, answer(422, "application/json", named("#/name")), "not-problem"},
		{"HTML", name, answer(400, "text/html", "<p>"), "not-problem"},
		{"no body", name, answer(400, "", ""), "not-problem"},
		{"sound: a page in another encoding", name, answer(422, "text/html; charset=iso-8859-1", "<p>h\xf6ch"), "not-problem"},
		{"sound: cut off in the middle of a character", name, exchange.Answer{Status: 422, Header: http.Header{"Content-Type": {"application/octet-stream"}}, Body: []byte("h\xc3"), Truncated: true}, "not-problem"},
		{"JSON that is not UTF-8", name, answer(422, problemMedia, strings.Replace(named("#/name"), "is wrong", "h\xc3", 1)), "bad-encoding"},
		{"not JSON", name, answer(422, problemMedia, "{"), "unreadable"},
		{"a list", name, answer(422, problemMedia, `[{"pointer":"#/name","detail":"x"}]`), "unreadable"},
		{"status as text", name, answer(422, problemMedia, strings.Replace(named("#/name"), "422", `"422"`, 1)), "bad-member"},
		{"another status", name, answer(400, problemMedia, named("#/name")), "status-mismatch"},
		{"bare", name, answer(422, problemMedia, `{"title":"Bad request"}`), "no-field-errors"},
		{"only a sentence", name, answer(422, problemMedia, `{"detail":"name is too short"}`), "no-field-errors"},
		{"another field", name, answer(422, problemMedia, named("#/flag")), "missed-field wrong-field"},
		{"the field and another", name, answer(422, problemMedia, named("#/name", "#/flag")), "wrong-field"},
		{"the body only", name, answer(422, problemMedia, named("#")), "no-field-errors"},
		{"the wrong index", deep, answer(422, problemMedia, named("#/crew/0/rank")), "wrong-field"},
		{"the wrong element", deep, answer(422, problemMedia, named("#/crew/0")), "wrong-field"},
		{"the wrong index, dotted", deep, answer(422, problemMedia, `{"errors":[{"field":"crew.0.rank","message":"x"}]}`), "wrong-field"},
		{"a pointer without the index", deep, answer(422, problemMedia, named("#/crew/rank")), "broken-pointer"},
		{"a pointer in another spelling", broken(t, exchange.Constraint, "/length_m maximum"), answer(422, problemMedia, named("#/lengthM")), "broken-pointer"},
		{"a name is used up by the flaw that it fits", broken(t, exchange.Constraint, "/cargo minProperties", "/cargo/weight_t maximum"), answer(422, problemMedia, named("#/cargo")), "one-at-a-time"},
		{"the parent", deep, answer(422, problemMedia, named("#/crew")), "vague-field"},
		{"the last name alone", deep, answer(422, problemMedia, `{"errors":[{"field":"rank","message":"x"}]}`), "vague-field"},
		{"another spelling", broken(t, exchange.Constraint, "/length_m maximum"), answer(422, problemMedia, `{"errors":{"LengthM":["x"]}}`), "vague-field"},
		{"missing, told at the parent by name", missing, answer(422, problemMedia, `{"errors":[{"pointer":"#/cargo","detail":"weight_t is missing"}]}`), "vague-field"},
		{"missing at the top, told at the body by name", broken(t, exchange.Constraint, "/name required"), answer(422, problemMedia, `{"errors":[{"pointer":"","detail":"must have name"}]}`), "vague-field"},
		{"what is not a pointer", name, answer(422, problemMedia, `{"errors":[{"pointer":"name","detail":"x"}]}`), "broken-pointer"},
		{"a pointer to nothing", name, answer(422, problemMedia, named("#/nothing")), "broken-pointer"},
		{"one of two", two, answer(422, problemMedia, named("#/name")), "one-at-a-time"},
		{"one of two decoder's errors", broken(t, exchange.Constraint, "/name type", "/flag type"), answer(422, problemMedia, named("#/name")), "one-at-a-time"},
		{"later ones without the earlier", broken(t, exchange.Constraint, "/name minLength", "/flag type"), answer(422, problemMedia, named("#/name")), "one-at-a-time"},
		{"none of two", two, answer(422, problemMedia, named("#/length_m")), "missed-field wrong-field"},
	} {
		t.Run(c.name, func(t *testing.T) {
			verdict, found := judged(c.c, c.a, true)
			var codes []string
			failed, inForm := false, false
			for _, f := range found {
				codes = append(codes, f.Code)
				failed = failed || f.Severity == Error && !Has(f.Code, OfWriting)
				inForm = inForm || f.Severity == Error && Has(f.Code, OfWriting)
			}
			if got := strings.Join(codes, " "); got != c.want {
				t.Errorf("found %q, want %q: %+v", got, c.want, found)
			}
			if (verdict == Fail) != failed || (verdict == Form) != (inForm && !failed) {
				t.Errorf("verdict %s with %q", verdict, codes)
			}
		})
	}
}

func TestControlsAndEdges(t *testing.T) {
	valid := exchange.Case{Kind: exchange.Control, Name: "control, fullest", Base: "fullest", Flaws: []exchange.Flaw{}, Body: decode(t, control), Control: decode(t, control)}
	edge := valid
	edge.Kind, edge.Edge = exchange.Edge, &exchange.Flaw{In: "body", Pointer: "/name", Rule: "maxLength", Reason: "exactly the longest"}
	query := exchange.Case{Kind: exchange.Control, Name: "control, fullest", Base: "fullest", Flaws: []exchange.Flaw{}, Parts: map[string]any{"query": decode(t, `{"limit":5}`), "path": decode(t, `{"lamp":5}`)}}
	ofRecord := edge
	ofRecord.Edge = &exchange.Flaw{In: "body", Pointer: "/vessel_id", Rule: "maxLength", Reason: "exactly the longest"}
	for _, c := range []struct {
		name    string
		c       exchange.Case
		a       exchange.Answer
		proven  bool
		verdict Verdict
		want    string
	}{
		{"taken", valid, answer(204, "", ""), false, Pass, ""},
		{"refused in its own words", valid, answer(422, problemMedia, `{"detail":"the berth is taken"}`), false, Unproven, "not-reached: a valid request (fullest control) was refused with 422 Unprocessable Content: “the berth is taken”; a rule unique: in obiter.yaml makes a new value"},
		{"no credentials", valid, answer(401, problemMedia, `{"detail":"who are you?"}`), false, Unproven, "not-reached: a valid request (fullest control) was refused with 401 Unauthorized: “who are you?”; give credentials"},
		{"a record that is not there", valid, answer(404, problemMedia, `{}`), false, Unproven, "not-reached: a valid request (fullest control) was refused with 404 Not Found: “{"},
		{"the record is there already", valid, answer(409, problemMedia, named("#/name")), false, Unproven, "not-reached: a valid request (fullest control) was refused with 409 Conflict"},
		{"a field of a record that is not there", valid, answer(422, problemMedia, `{"errors":[{"pointer":"#/flag","detail":"no such flag"}]}`), false, Unproven, "not-reached: "},
		{"a parameter that obeys its schema", query, answer(400, problemMedia, `{"errors":[{"field":"limit","detail":"is odd"}]}`), false, Fail, "control-rejected: "},
		{"what is in the path", query, answer(400, problemMedia, `{"errors":[{"field":"lamp","detail":"is odd"}]}`), false, Unproven, "not-reached: "},
		{"an optional field is demanded", valid, answer(422, problemMedia, named("#/cargo/packing")), false, Fail, "control-rejected: "},
		{"it was not sent", valid, exchange.Answer{Err: "no connection within 10s", NotSent: true}, false, Unproven, "not-judged: a request was not sent: no connection within 10s"},
		{"the service fails", valid, answer(500, problemMedia, `{}`), false, Fail, "control-rejected: a valid request (fullest control) was refused with 500"},
		{"a method that is described", valid, answer(405, problemMedia, `{}`), false, Fail, "control-rejected: "},
		{"busy", valid, exchange.Answer{Err: "still answered with 429", Status: 429}, false, Unproven, "no-answer"},
		{"refused with a field", valid, answer(422, problemMedia, named("#/name")), false, Fail, `control-rejected: a valid request (fullest control) was refused with 422 Unprocessable Content: "#/name" “is wrong”`},
		{"redirected", valid, answer(307, "", ""), false, Unproven, "not-reached: a valid request (fullest control) was refused with 307"},
		{"silent", valid, exchange.Answer{Err: "reset"}, false, Fail, "no-answer"},
		{"edge taken", edge, answer(200, "", ""), true, Pass, ""},
		{"edge refused", edge, answer(400, problemMedia, `{}`), true, Fail, "edge-rejected: a valid request (/name: exactly the longest) was refused with 400 Bad Request"},
		{"edge that names no record", edge, answer(400, problemMedia, `{"details":[{"message":"Berth type 'aa' does not exist"}]}`), true, Unproven, "conflict: a valid request (/name: exactly the longest) was answered with 400"},
		{"edge that is not found", edge, answer(422, problemMedia, `{"detail":"Could not find rank=0"}`), true, Unproven, "conflict"},
		{"edge of a name that is refused in words", edge, answer(400, problemMedia, `{"detail":"the name is too long"}`), true, Fail, "edge-rejected"},
		{"edge in conflict", edge, answer(409, problemMedia, `{}`), true, Unproven, "conflict: a valid request (/name: exactly the longest) was answered with 409 Conflict"},
		{"edge of a record's name", ofRecord, answer(404, problemMedia, `{}`), true, Unproven, "conflict: a valid request (/vessel_id: exactly the longest) was answered with 404"},
		{"edge of a record's name that fails", ofRecord, answer(500, problemMedia, `{}`), true, Fail, "edge-rejected"},
		{"edge refused, unproven", edge, answer(404, problemMedia, `{}`), false, Unproven, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			verdict, found := judged(c.c, c.a, c.proven)
			got := ""
			for _, f := range found {
				got += f.Code + ": " + f.Message
			}
			if verdict != c.verdict || !strings.HasPrefix(got, c.want) || (got == "") != (c.want == "") {
				t.Errorf("%s %q, want %s %q", verdict, got, c.verdict, c.want)
			}
		})
	}
}

// TestConflictsProveNothing: a 409 that is not about the flaw says only that an
// earlier request is in the way.
func TestConflictsProveNothing(t *testing.T) {
	name, syntax := broken(t, exchange.Constraint, "/name minLength"), broken(t, exchange.Syntax, "request malformed-json")
	for _, x := range []struct {
		name    string
		c       exchange.Case
		body    string
		verdict Verdict
		want    string
	}{
		{"nothing is named", name, `{"title":"Conflict"}`, Unproven, "conflict"},
		{"another field is taken", name, `{"errors":[{"pointer":"#/flag","detail":"is taken"}]}`, Unproven, "conflict"},
		{"the field itself is taken", name, `{"errors":[{"pointer":"#/name","detail":"already exists"}]}`, Unproven, "conflict"},
		{"the flaw, with the wrong status", name, `{"errors":[{"pointer":"#/name","detail":"is too short"}]}`, Fail, "wrong-status"},
		{"a coding that is ignored", broken(t, exchange.MediaType, "request wrong-content-encoding"), `{"title":"Conflict"}`, Unproven, "conflict"},
		{"what cannot be read", syntax, `{"title":"Conflict"}`, Fail, "wrong-status"},
	} {
		verdict, found := judged(x.c, answer(409, problemMedia, x.body), true)
		if verdict != x.verdict || len(found) != 1 || found[0].Code != x.want {
			t.Errorf("%s: %s %+v", x.name, verdict, found)
		}
	}
}

func TestACrashOfTheControlIsToldOnce(t *testing.T) {
	j := Case(broken(t, exchange.Constraint, "/name minLength"), answer(500, problemMedia, `{}`), Context{ControlFailed: true})
	if j.Verdict != Unproven || len(j.Findings) > 0 {
		t.Errorf("%s %+v", j.Verdict, j.Findings)
	}
	busy := exchange.Answer{Err: "still answered with 503", Status: 503}
	if j := Case(broken(t, exchange.Constraint, "/name minLength"), busy, Context{Proven: true}); j.Verdict != Unproven || len(j.Findings) != 1 || j.Findings[0].Severity != Warning {
		t.Errorf("%s %+v", j.Verdict, j.Findings)
	}
}

// TestAnOwnMediaType: what is meant to be no problem document is not held against
// RFC 9457; what departs from the API's own layout is.
func TestAnOwnMediaType(t *testing.T) {
	own := Context{Proven: true, Layout: &layout.Layout{MediaType: "application/json", Learned: true}}
	name := broken(t, exchange.Constraint, "/name minLength")
	for _, x := range []struct{ media, body, want string }{
		{"application/json", `{"errors":[{"field":"name","message":"is too short"}]}`, ""},
		{"application/json; charset=utf-8", `{"errors":{"name":["is too short"]}}`, ""},
		{"application/json", `{"errors":[{"field":"flag","message":"is odd"}]}`, "missed-field wrong-field"},
		{"application/json", `{"message":"no"}`, "no-field-errors"},
		{"application/json", `{`, "unreadable"},
		{"text/html", "<p>", "not-problem"},
		{"", "", "not-problem"},
	} {
		var codes []string
		for _, f := range Case(name, answer(422, x.media, x.body), own).Findings {
			codes = append(codes, f.Code)
			if f.Code == "not-problem" && !strings.Contains(f.Message, "where application/json is expected") {
				t.Errorf("%s %s: %s", x.media, x.body, f.Message)
			}
		}
		if got := strings.Join(codes, " "); got != x.want {
			t.Errorf("%s %s: found %q, want %q", x.media, x.body, got, x.want)
		}
	}
}

func TestNamesOfRecords(t *testing.T) {
	for name, want := range map[string]bool{"/vessel_id": true, "vesselId": true, "/crew/0/tug-ids": true, "tugs[0].uuid": true, "/tug_ids/3": true, "ID": true, "/valid": false, "/name": false, "": false, "/paid": false, "/keyed": false} {
		if namesRecord(name) != want {
			t.Errorf("%q: %v", name, !want)
		}
	}
}

// TestUnprovenKeepsWhatIsWrongByItself: without an accepted control a rejection
// proves nothing, but a crash is a crash.
func TestUnprovenKeepsWhatIsWrongByItself(t *testing.T) {
	c := broken(t, exchange.Constraint, "/name minLength")
	for _, x := range []struct {
		a       exchange.Answer
		verdict Verdict
		want    string
	}{
		{answer(404, problemMedia, `{}`), Unproven, ""},
		{answer(422, problemMedia, `{}`), Unproven, ""},
		{answer(422, problemMedia, named("#/flag")), Unproven, ""},
		{answer(500, problemMedia, `{}`), Fail, "crashed"},
		{answer(404, "text/html", `<p>`), Unproven, "not-problem"},
		{answer(201, "application/json", `{}`), Fail, "accepted"},
	} {
		verdict, found := judged(c, x.a, false)
		got := ""
		for _, f := range found {
			got += f.Code
		}
		if verdict != x.verdict || got != x.want {
			t.Errorf("%d %s: %s %q, want %s %q", x.a.Status, x.a.Body, verdict, got, x.verdict, x.want)
		}
	}
}

func TestWhatIsOpenIsOnlyWarnedOf(t *testing.T) {
	for _, rule := range []string{"wrong-method", "unknown-path", "wrong-content-encoding", "duplicate-member", "unknown-id", "wrong-content-type absent", "wrong-content-type other-json"} {
		c := broken(t, exchange.Method, "request "+rule)
		c.Flaws[0].Rule, c.Flaws[0].Variant, _ = strings.Cut(rule, " ")
		verdict, found := judged(c, answer(200, "application/json", `{}`), true)
		if verdict != Unproven || len(found) != 1 || found[0].Severity != Warning {
			t.Errorf("%s: %s %+v", rule, verdict, found)
		}
	}
	c := broken(t, exchange.MediaType, "request wrong-content-type")
	c.Flaws[0].Variant = "text-plain"
	if verdict, found := judged(c, answer(200, "application/json", `{}`), true); verdict != Fail || len(found) != 1 {
		t.Errorf("another media type that is taken: %s %+v", verdict, found)
	}
}

func TestServerTextIsShortened(t *testing.T) {
	words := Words(answer(400, "text/plain", strings.Repeat("tide ", 1000)))
	if n := len([]rune(words)); n > maxWords {
		t.Errorf("%d characters are quoted", n)
	}
	if Words(answer(400, "text/plain", "\xff")) != "" {
		t.Error("bytes that are not text are quoted")
	}
}

// with puts a value, written in JSON, at a field of the body.
func with(t testing.TB, c exchange.Case, pointer, value string) exchange.Case {
	t.Helper()
	c.Body, _ = instance.Set(c.Body, pointer, decode(t, value))
	return c
}

// FuzzCase takes any bytes as an answer.
func FuzzCase(f *testing.F) {
	f.Add(422, problemMedia, []byte(named("#/crew/1/rank")), false)
	f.Add(400, "application/json", []byte(`{"crew":[{},{"rank":["x"]}],"a":{"a":{"a":[[[]]]}}}`), true)
	f.Add(500, "text/html", []byte("Traceback (most recent call last)\n   at x.y() in /a.cs:line 5"), true)
	f.Add(-405, "", []byte("\x00"), false)
	f.Add(201, "application/problem+xml", []byte(`<problem xmlns="urn:ietf:rfc:7807"><errors><i/></errors></problem>`), true)
	c := broken(f, exchange.Constraint, "/crew/1/rank enum", "/name minLength")
	c.SecretFields = []string{"/name"}
	f.Fuzz(func(t *testing.T, status int, media string, body []byte, single bool) {
		k := c
		if single {
			k.Flaws = c.Flaws[:1]
		}
		if status < 0 { // a syntax error
			k.Flaws, k.Expect.Class = []exchange.Flaw{{In: "request", Rule: "malformed-json"}}, exchange.Syntax
		}
		a := exchange.Answer{Status: status, Header: http.Header{"Content-Type": {media}}, Body: body}
		first, second := Case(k, a, Context{Proven: true}), Case(k, a, Context{Proven: true})
		if fmt.Sprint(first.Findings) != fmt.Sprint(second.Findings) || first.Verdict != second.Verdict {
			t.Fatalf("judged twice: %+v and %+v", first, second)
		}
		if first.Verdict == Fail && len(first.Findings) == 0 {
			t.Fatal("a failure without a finding")
		}
		for _, x := range first.Findings {
			if _, known := Find(x.Code); !known || x.Message == "" {
				t.Fatalf("%+v", x)
			}
		}
		w := newConsistency()
		for range 6 {
			w.add(&k, &a, &first)
		}
		w.findings()
		w.learned()
	})
}

// BenchmarkJudge learns from answers of 1 KB and judges them; ten thousand should
// take less than a second.
func BenchmarkJudge(b *testing.B) {
	c := broken(b, exchange.Constraint, "/crew/1/rank enum")
	body := strings.Replace(named("#/crew/1/rank"), `"title"`, `"detail":"`+strings.Repeat("Please select a berth where there is room. ", 21)+`","title"`, 1)
	a := answer(422, problemMedia, body)
	r := NewRun(nil)
	control := exchange.Exchange{Case: exchange.Case{Kind: exchange.Control, Operation: c.Operation, Base: c.Base}, Response: answer(201, "application/json", `{}`)}
	r.Prove(&control)
	j := r.Case(&control)
	r.Add(&control, &j)
	c.ProvenBy = c.Operation
	for b.Loop() {
		e := exchange.Exchange{Case: c, Response: a}
		i := NewItem(&e)
		r.Share(i)
		i.Study()
		r.Take(i)
		j := i.Judge()
		r.Add(&e, &j)
	}
	b.ReportMetric(float64(b.Elapsed().Milliseconds())/float64(b.N)*10_000, "ms/10000")
	b.ReportMetric(float64(len(body)), "bytes")
}

// TestWhatASuccessSaysOfErrors: only what says so, and only where the control does not.
func TestWhatASuccessSaysOfErrors(t *testing.T) {
	c := broken(t, exchange.Constraint, "/name minLength")
	for _, x := range []struct {
		media, body string
		signs       []string
		want        bool
	}{
		{"application/json", `{"errors":[]}`, nil, false},
		{"application/json", `{"error":null,"errors":{}}`, nil, false},
		{"application/json", `{"error":false,"id":7}`, nil, false},
		{problemMedia, `{"id":7,"name":"Aurora"}`, nil, false}, // the media type alone is no error
		{"application/json", `{"status":"moored"}`, nil, false},
		{"application/json", `{"status":200}`, nil, false},
		{"application/json", `{"error":"low water"}`, nil, true},
		{"application/json", `{"errors":[{"field":"name"}]}`, nil, true},
		{"application/json", `{"status":"error"}`, nil, true},
		{problemMedia, `{"type":"urn:harbour:x","title":"Invalid","status":422}`, nil, true},
		{"application/json", `{"errors":["the tide table is old"]}`, []string{"errors"}, false}, // its control says the same
	} {
		f := Case(c, answer(200, x.media, x.body), Context{Proven: true, Signs: x.signs}).Findings
		if len(f) != 1 || strings.Contains(f[0].Message, "reports an error") != x.want {
			t.Errorf("%s %s: %+v, want the error told: %v", x.media, x.body, f, x.want)
		}
	}
}

// TestWhatIsOnlyWarnedOf: standards leave it open.
func TestWhatIsOnlyWarnedOf(t *testing.T) {
	method := broken(t, exchange.Method, "request wrong-method")
	patch := broken(t, exchange.Method, "request wrong-method")
	patch.Request.Method, method.Request.Method = http.MethodPatch, http.MethodGet
	truth := broken(t, exchange.Parameter, "/in_service type")
	truth.Flaws[0].In, truth.Flaws[0].Variant = "query", "one-for-true"
	inBody := broken(t, exchange.Type, "/in_service type")
	inBody.Flaws[0].Variant = "one-for-true"
	for name, x := range map[string]struct {
		c    exchange.Case
		a    exchange.Answer
		want Severity
	}{
		"404 in place of 405":                  {method, answer(404, problemMedia, `{}`), Warning},
		"400 in place of 405":                  {method, answer(400, problemMedia, `{}`), Error},
		"415 to a PATCH that is not described": {patch, answer(415, problemMedia, `{}`), Warning},
		"1 for true in a query":                {truth, answer(200, "application/json", `{}`), Warning},
		"1 for true in a JSON body":            {inBody, answer(200, "application/json", `{}`), Error},
	} {
		f := Case(x.c, x.a, Context{Proven: true}).Findings
		if len(f) == 0 || f[0].Severity != x.want {
			t.Errorf("%s: %+v, want %s", name, f, x.want)
		}
	}
}

// TestNumbersBeyondComputing in an answer are judged at once, wherever they stand.
func TestNumbersBeyondComputing(t *testing.T) {
	c := broken(t, exchange.Constraint, "/name minLength")
	for _, body := range []string{`{"status":1e10000000,"errors":[{"pointer":"#/name","detail":"is short"}]}`, `{"status":422,"at":1e-10000000}`, `1e10000000`, `{"n":` + strings.Repeat("9", 1<<20) + `}`} {
		if j := Case(c, answer(422, problemMedia, body), Context{Proven: true}); len(j.Findings) == 0 {
			t.Errorf("%.40s: nothing is found", body)
		}
	}
}

// TestWhatIsNotJudgedDoesNotPass: what did not reach the service, what is beyond what is
// read, and an answer that breaks the judge.
func TestWhatIsNotJudgedDoesNotPass(t *testing.T) {
	name := broken(t, exchange.Constraint, "/name minLength")
	nested := `{"type":"https://harbour.example/invalid","title":"Invalid","status":422,"cause":` + strings.Repeat("[", 2000) + strings.Repeat("]", 2000) + `}`
	for want, a := range map[string]exchange.Answer{
		"a request was not sent: the connection is refused":                                {Err: "the connection is refused", NotSent: true, Refused: true},
		"the answer is beyond what is read: the JSON nests deeper than 512":                answer(422, problemMedia, nested),
		"the answer is beyond what is read: the JSON has a number of more than 2000 digit": answer(422, problemMedia, `{"limit":1e10000000}`),
	} {
		j := Case(name, a, Context{Proven: true})
		if j.Verdict != Unproven || len(j.Findings) != 1 || j.Findings[0].Code != "not-judged" || !strings.HasPrefix(j.Findings[0].Message, want) {
			t.Errorf("%s: %v %+v", want, j.Verdict, j.Findings)
		}
	}
	j := Guarded(func() Judgement { panic("no such rank") })
	if j.Verdict != Unproven || len(j.Findings) != 1 || !strings.HasSuffix(j.Findings[0].Message, "a bug in Obiter: no such rank") {
		t.Errorf("%+v", j)
	}
	method := broken(t, exchange.Method, "request wrong-method")
	if j := Case(method, answer(404, problemMedia, named()), Context{Proven: true}); j.Verdict != Unproven {
		t.Errorf("a warning about the status passes: %+v", j)
	}
}

// TestMayBeTaken: the words, in either case, wherever they are; and no others.
func TestMayBeTaken(t *testing.T) {
	for text, want := range map[string]bool{
		"Already": true, "the name is TAKEN": true, "must be uniQue.": true, "xduplicate": true, "duplicat": false, "alread": false, "take": false, "a quay": false, "": false, "t": false,
		"mistaken": true, "unequal": false, "TALL AND UNUSUAL DUAL ALTAR": false,
	} {
		if got := MayBeTaken([]byte(text)); got != want {
			t.Errorf("%q: %v", text, got)
		}
	}
}

// TestOnlyAValueThatIsAsUsualIsTaken: what the answer calls taken is in the valid request as well; a
// value that only this request has was refused for itself.
func TestOnlyAValueThatIsAsUsualIsTaken(t *testing.T) {
	says := `{"type":"urn:harbour:x","title":"Invalid","status":422,"errors":[{"pointer":"#/name","detail":"is already taken"}]}`
	for own, want := range map[string]bool{"": true, "Borealis": false} {
		c := broken(t, exchange.Constraint, "/length_m minimum")
		if own != "" {
			c.Body, _ = instance.Set(c.Body, "/name", own)
		}
		a := answer(422, problemMedia, says)
		if got := lookAt(&c, &a).isTaken(); got != want {
			t.Errorf("with the name %q it is taken: %v", own, got)
		}
	}
}

// TestTakenFromTheFirstError: a rejection of any status from 400 may say that a value is taken; what
// is no rejection, or did not come, does not.
func TestTakenFromTheFirstError(t *testing.T) {
	says := `{"type":"urn:harbour:x","title":"Invalid","errors":[{"pointer":"#/name","detail":"is already taken"}]}`
	for status, want := range map[int]bool{200: false, 399: false, 400: true, 409: true, 422: true} {
		c := exchange.Case{Kind: exchange.Control, Operation: "POST /vessels", Request: exchange.Request{Method: "POST"}, Body: decode(t, control), Control: decode(t, control)}
		if at, is := Taken(c, answer(status, problemMedia, says)); is != want || is && at != "/name" {
			t.Errorf("%d: %q, %v", status, at, is)
		}
		if _, is := Taken(c, answer(status, problemMedia, says), "/name"); is {
			t.Errorf("%d: a name that is new each time is taken", status)
		}
		lost := answer(status, problemMedia, says)
		lost.Err = "cut off"
		if _, is := Taken(c, lost); is {
			t.Errorf("%d: an answer that did not come says so", status)
		}
	}
}

// TestWhatTheMessageHasToSay is looked for once, in answers with the right status.
func TestWhatTheMessageHasToSay(t *testing.T) {
	says := func(c exchange.Case, text string) exchange.Case { c.Expect.Says = text; return c }
	whole := `{"type":"urn:harbour:x","title":"Conflict","status":%d,"detail":"there is one already"}`
	for name, x := range map[string]struct {
		c    exchange.Case
		a    exchange.Answer
		want int
	}{
		"of the record as a whole":               {says(broken(t, exchange.Duplicate, "/name unique"), "^no "), answer(409, problemMedia, fmt.Sprintf(whole, 409)), 1},
		"it says so":                             {says(broken(t, exchange.Duplicate, "/name unique"), "already"), answer(409, problemMedia, fmt.Sprintf(whole, 409)), 0},
		"nothing has to be said":                 {broken(t, exchange.Duplicate, "/name unique"), answer(409, problemMedia, fmt.Sprintf(whole, 409)), 0},
		"of the field":                           {says(broken(t, exchange.Constraint, "/name minLength"), "^no "), answer(422, problemMedia, named("#/name")), 1},
		"another status, of the request":         {says(broken(t, exchange.Syntax, "request malformed-json"), "^no "), answer(418, problemMedia, fmt.Sprintf(whole, 418)), 0},
		"of the request":                         {says(broken(t, exchange.Syntax, "request malformed-json"), "^no "), answer(400, problemMedia, fmt.Sprintf(whole, 400)), 1},
		"another status":                         {says(broken(t, exchange.Constraint, "/name minLength"), "^no "), answer(418, problemMedia, fmt.Sprintf(whole, 418)), 0},
		"it is in the way of an earlier request": {says(broken(t, exchange.Syntax, "request malformed-json"), "^no "), answer(409, problemMedia, fmt.Sprintf(whole, 409)), 0},
	} {
		n := 0
		for _, f := range Case(x.c, x.a, Context{Proven: true}).Findings {
			if f.Code == "wrong-message" {
				n++
			}
		}
		if n != x.want {
			t.Errorf("%s: told %d times, want %d", name, n, x.want)
		}
	}
}

// TestWhichValueIsTaken: the one that the answer quotes, else the one that it mentions by name, else the
// one that records are usually known by.
func TestWhichValueIsTaken(t *testing.T) {
	for detail, want := range map[string]string{
		"Borealis exists already": "/title", "the flag is already taken": "/flag", "there is one already": "/code", "NO is already there": "/code", "12 is already there": "/code", "the LENGTH is already taken": "/length", "Borealis: the flag is already taken": "/title", "the crew is already there": "/code", "zz is already there": "/code",
	} {
		for body, none := range map[string]bool{`{"code":"zz","title":"Borealis","flag":"NO","length":12,"crew":[1]}`: false, `{"flag":"NO","length":13}`: true} {
			c := exchange.Case{Kind: exchange.Control, Operation: "POST /vessels", Request: exchange.Request{Method: "POST"}, Body: decode(t, body), Control: decode(t, body)}
			at, is := Taken(c, answer(409, problemMedia, fmt.Sprintf(`{"type":"urn:harbour:x","title":"Conflict","status":409,"detail":%q}`, detail)))
			wanted := want
			if none && want != "/flag" && want != "/length" && detail != "Borealis: the flag is already taken" {
				wanted = ""
			} else if none && want == "/title" {
				wanted = "/flag"
			}
			if at != wanted || is != (wanted != "") {
				t.Errorf("%s, of %s: %q, want %q", detail, body, at, wanted)
			}
		}
	}
}
