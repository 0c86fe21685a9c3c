package judge

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
)

// recorded is one answer of a run; number counts up from 1.
type recorded struct {
	c exchange.Case
	a exchange.Answer
}

// whole judges a run and lists its late findings as "code: message".
func whole(t *testing.T, list []recorded) (*consistency, []string) {
	t.Helper()
	w := newConsistency()
	for i, r := range list {
		r.c.Number, r.c.ID = i+1, fmt.Sprintf("%010x", i+1)
		j := Case(r.c, r.a, Context{Proven: true})
		w.add(&r.c, &r.a, &j)
	}
	var out []string
	for _, l := range w.findings() {
		if l.Finding.Count < 1 || l.Case == "" || l.Operation == "" {
			t.Errorf("%+v is without its case or count", l)
		}
		out = append(out, l.Finding.Code+": "+l.Finding.Message)
	}
	return w, out
}

func times(n int, c exchange.Case, a exchange.Answer) []recorded {
	out := make([]recorded, n)
	for i := range out {
		out[i] = recorded{c, a}
	}
	return out
}

func TestWhatARunShows(t *testing.T) {
	name := broken(t, exchange.Constraint, "/name minLength")
	flag := broken(t, exchange.Constraint, "/flag enum")
	set := broken(t, exchange.Constraint, "/name minLength")
	set.Expect.Statuses = []int{400}
	kind := broken(t, exchange.Type, "/name type")
	syntax := broken(t, exchange.Syntax, "request malformed-json")
	method := broken(t, exchange.Method, "request wrong-method")
	query := broken(t, exchange.Parameter, "/limit type")
	query.Flaws[0].In = "query"
	missing := broken(t, exchange.NotFound, "request unknown-path")
	sound := answer(422, problemMedia, named("#/name"))
	const specific = `{"type":"https://harbour.example/%s","title":%q,"status":%d,"errors":[{"pointer":"#/name","detail":"x"}]}`
	titled := func(kind, title string, status int) exchange.Answer {
		return answer(status, problemMedia, fmt.Sprintf(specific, kind, title, status))
	}
	plain := func(status int, body string) exchange.Answer { return answer(status, "application/json", body) }
	for _, c := range []struct {
		name string
		list []recorded
		want []string // beginnings of the late findings
	}{
		{"sound: one layout", times(20, name, sound), nil},
		{"sound: 404, 405 and syntax without fields", append(append(times(20, name, sound), times(2, method, answer(405, problemMedia, `{"type":"urn:harbour:method"}`, "Allow: POST"))...), times(3, syntax, answer(400, problemMedia, `{"type":"urn:harbour:syntax"}`))...), nil},
		{"sound: about:blank with a title for each status", append(times(9, syntax, answer(400, problemMedia, `{"type":"about:blank","title":"Bad Request"}`)), times(9, missing, answer(404, problemMedia, `{"type":"about:blank","title":"Not Found"}`))...), nil},
		{"sound: parameters named in a member of their own", append(times(20, name, sound), times(4, query, answer(400, problemMedia, `{"errors":[{"parameter":"limit","detail":"x"}]}`))...), nil},
		{"one type for two statuses", append(times(20, name, sound), times(20, kind, answer(400, problemMedia, strings.Replace(named("#/name"), "422", "400", 1)))...),
			[]string{"title-drift: the type https://harbour.example/invalid comes with"}},
		{"sound: plain JSON with an extra member", append(times(10, name, plain(422, `{"error":"x","message":"y","fields":{"name":"z"}}`)), times(3, syntax, plain(400, `{"error":"x","message":"y"}`))...), nil},
		{"sound: the fields as members", append(times(10, name, plain(422, `{"name":["x"]}`)), times(10, flag, plain(422, `{"flag":["x"]}`))...), nil},
		{"sound: a status that the configuration sets", append(times(20, name, plain(422, `{"fields":{"name":"x"}}`)), times(3, set, plain(400, `{"fields":{"name":"x"}}`))...), nil},
		{"sound: too few to tell", append(times(2, name, sound), times(1, name, plain(422, `{"name":["x"]}`))...), nil},
		{"sound: half and half is nobody's custom", append(times(10, name, sound), times(10, name, plain(422, `{"name":["x"]}`))...), nil},
		{"the router answers in text, which is no problem document and told so", append(times(20, name, sound), times(2, missing, answer(404, "text/plain", "404 page not found"))...), nil},
		{"the router answers in text, others in JSON: neither is a problem document, and each is told so", append(times(20, name, plain(422, `{"error":"x"}`)), times(2, missing, answer(404, "text/plain", "404 page not found"))...), nil},
		{"another place", append(times(20, name, sound), times(3, name, answer(422, problemMedia, `{"errors":{"name":["x"]}}`))...),
			[]string{"odd-layout: fields are named at errors[*] as names, where 20 of 23 answers name them at errors[*].pointer as JSON Pointers in fragments"}},
		{"another notation", append(times(20, name, sound), times(3, name, answer(422, problemMedia, named("/name")))...),
			[]string{"odd-layout: fields are named at errors[*].pointer as JSON Pointers, where"}},
		{"the errors change their type", append(times(20, name, plain(422, `{"errors":[{"path":"name","message":"x"}],"code":1}`)), times(3, syntax, plain(400, `{"message":"x"}`))...),
			[]string{"odd-layout: application/json with message, where 20 of 23 rejections are application/json with code, errors"}},
		{"sound: a member that is null, or empty, where there is nothing to say", append(times(20, name, plain(422, `{"message":"x","details":{"name":"z"}}`)), append(times(3, syntax, plain(400, `{"message":"x","details":null}`)), times(3, missing, plain(404, `{"message":"x","details":[]}`))...)...), nil},
		{"a text here and a list there", append(times(20, name, plain(422, `{"message":["name is short"],"code":1}`)), times(3, syntax, plain(400, `{"message":"x","code":1}`))...),
			[]string{"odd-layout: the member message is a text here and a list in most rejections: "}},
		{"another status", append(times(20, name, sound), times(3, name, answer(400, problemMedia, strings.Replace(strings.Replace(named("#/name"), "422", "400", 1), "invalid", "other", 1)))...),
			[]string{"title-drift: the title \"Invalid\" belongs to the type", "odd-status: constraint violations usually get 422 here (20 of 23); these got 400"}},
		{"titles that vary", append(times(20, name, titled("a", "Invalid", 422)), times(2, name, titled("a", "Invalid name", 422))...),
			[]string{"title-drift: the type https://harbour.example/a has the title \"Invalid name\" here and \"Invalid\" in 20 of 22 answers"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, got := whole(t, c.list)
			if len(got) != len(c.want) {
				t.Fatalf("found %q, want %q", got, c.want)
			}
			for i := range got {
				if !strings.HasPrefix(got[i], c.want[i]) {
					t.Errorf("found %q, want %q", got[i], c.want[i])
				}
			}
		})
	}
}

func TestTheLayoutIsLearned(t *testing.T) {
	name := broken(t, exchange.Constraint, "/crew/1/rank enum")
	list := append(times(12, name, answer(422, "application/json", `{"probleme":[{"wo":"crew[1].rank","was":"unbekannt"}]}`)), times(3, name, answer(422, "application/json", `{"probleme":[]}`))...)
	w, _ := whole(t, list)
	l, ok := w.learned()
	if want := (Layout{Where: "/probleme/*/wo", Notation: "dotted", Answers: 12, Of: 15, Silent: 3}); !ok || !reflect.DeepEqual(l, want) {
		t.Errorf("%+v, want %+v", l, want)
	}
	if s := ShownWhere(l.Where); s != "probleme[*].wo" || ShownWhere("/*") != "the top" {
		t.Error(s)
	}
	if _, ok := newConsistency().learned(); ok {
		t.Error("a layout is learned from nothing")
	}
}

func TestAconsistencyIsBounded(t *testing.T) {
	w := newConsistency()
	c := broken(t, exchange.Constraint, "/name minLength")
	for i := range 3000 {
		a := answer(422, problemMedia, fmt.Sprintf(`{"type":"https://harbour.example/%d","title":"%d","errors":[{"pointer":"#/name","detail":"x"}]}`, i, i))
		j := Case(c, a, Context{Proven: true})
		w.add(&c, &a, &j)
	}
	if len(w.types) > maxWays || len(w.titles) > maxWays {
		t.Errorf("%d types and %d titles are kept", len(w.types), len(w.titles))
	}
}

func TestSnapshotsSeeWhatChanges(t *testing.T) {
	v := func(s string) any { return decode(t, s) }
	for _, c := range []struct{ first, second, now, want string }{
		{`{"a":1}`, `{"a":1}`, `{"a":1}`, ""},
		{`{"a":1}`, `{"a":1}`, `{"a":2}`, "/a was 1 and is 2"},
		{`{"a":1,"seen":1}`, `{"a":1,"seen":2}`, `{"a":1,"seen":3}`, ""},
		{`{"a":1,"seen":1}`, `{"a":1,"seen":2}`, `{"a":2,"seen":3}`, "/a was 1 and is 2"},
		{`{"a":{"b":1}}`, `{"a":{"b":1}}`, `{"a":{"b":1,"c":2}}`, "/a/c was not there and is 2"},
		{`{"a":1}`, `{"a":1}`, `{}`, "/a was 1 and is not there"},
		{`[1,{"a":2}]`, `[{"a":2},1]`, `[1,{"a":2}]`, ""},
		{`[{"t":[1,2]},{"t":[3]}]`, `[{"t":[3]},{"t":[2,1]}]`, `[{"t":[1,2]},{"t":[3]}]`, ""},
		{`{"a":[1,2]}`, `{"a":[2,1]}`, `{"a":[2,2]}`, "/a was [2,1] and is [2,2]"},
		{`[1]`, `[1]`, `[1,2]`, "its top was [1] and is [1,2]"},
	} {
		s := NewSnapshot(v(c.first), v(c.second))
		if got := s.Change(v(c.now)); !s.Usable() || got != c.want {
			t.Errorf("%s then %s: %q, want %q", c.second, c.now, got, c.want)
		}
	}
	if NewSnapshot(v(`[1]`), v(`[2]`)).Usable() {
		t.Error("a resource that is another at each reading is compared")
	}
}

func TestTheSecondAnswerShouldBeTheFirst(t *testing.T) {
	c := broken(t, exchange.Constraint, "/name minLength")
	first := Case(c, answer(422, problemMedia, named("#/name")), Context{Proven: true})
	for _, x := range []struct {
		name   string
		a      exchange.Answer
		differ bool
	}{
		{"the same", answer(422, problemMedia, named("#/name")), false},
		{"a fresh instance", answer(422, problemMedia, strings.Replace(named("#/name"), `"status"`, `"instance":"/x","status"`, 1)), false},
		{"too many requests", answer(429, problemMedia, `{}`), false},
		{"no answer", exchange.Answer{Err: "reset"}, false},
		{"another status", answer(400, problemMedia, named("#/name")), true},
		{"another field", answer(422, problemMedia, named("#/flag")), true},
		{"another form", answer(422, "text/html", `<p>`), true},
		{"accepted", answer(201, "application/json", `{}`), true},
	} {
		if _, differs := unstable(c, first.Fingerprint, x.a, Case(c, x.a, Context{Proven: true})); differs != x.differ {
			t.Errorf("%s: %v", x.name, differs)
		}
	}
	control := exchange.Case{Kind: exchange.Control, Request: exchange.Request{Method: "PUT"}}
	if _, spoilt := refusedLater(control, answer(422, problemMedia, `{}`)); !spoilt {
		t.Error("a control that is refused in the end is not told")
	}
	if _, spoilt := refusedLater(control, answer(409, problemMedia, `{}`)); spoilt {
		t.Error("what was made meanwhile may be in the way")
	}
	control.Request.Method = "POST"
	if _, spoilt := refusedLater(control, answer(409, problemMedia, `{}`)); spoilt {
		t.Error("a second creation may be a conflict")
	}
}

func TestBeyondTheWords(t *testing.T) {
	c := broken(t, exchange.Constraint, "/name minLength")
	c = with(t, with(t, c, "/pass_phrase", `"tide tables of old"`), "/pin", `"short"`)
	c = with(t, with(t, c, "/quoted", `"a \"quoted\" berth"`), "/hidden", `5`)
	c.Control, _ = instance.Set(c.Control, "/hidden", "at low water")
	c.Control, _ = instance.Set(c.Control, "/absent", "the harbour master's")
	c.Request.Body = []byte(`{"hidden":"at low water"`)
	c.SecretFields = []string{"/pass_phrase", "/pin", "/quoted", "/hidden", "/absent"}
	sound := named("#/name")
	described := func(d exchange.Documented) Context { return Context{Proven: true, Documented: &d} }
	media := []string{problemMedia}
	for _, x := range []struct {
		name string
		a    exchange.Answer
		ctx  Context
		want string
	}{
		{"sound", answer(422, problemMedia, sound), Context{Proven: true, Control: time.Millisecond}, ""},
		{"sound: a short secret is there by chance", answer(422, problemMedia, strings.Replace(sound, "is wrong", "too short", 1)), Context{Proven: true}, ""},
		{"a secret", answer(422, problemMedia, strings.Replace(sound, "is wrong", "not tide tables of old", 1)), Context{Proven: true}, "echoes-secret"},
		{"a secret as JSON escapes it", answer(422, problemMedia, strings.Replace(sound, "is wrong", `a \"quoted\" berth`, 1)), Context{Proven: true}, "echoes-secret"},
		{"sound: a secret that was not sent", answer(422, problemMedia, strings.Replace(sound, "is wrong", "not the harbour master's", 1)), Context{Proven: true}, ""},
		{"the control's secret, still sent", answer(422, problemMedia, strings.Replace(sound, "is wrong", "at low water", 1)), Context{Proven: true}, "echoes-secret"},
		{"sound: markup in JSON", answer(422, problemMedia, strings.Replace(sound, "is wrong", exchange.Markup, 1)), Context{Proven: true}, ""},
		{"markup in a page", answer(422, "text/html", "<p>"+exchange.Markup), Context{Proven: true}, "unsafe-html not-problem"},
		{"sound: escaped markup in a page", answer(422, "text/html", "<p>&lt;tide-mark&gt;"), Context{Proven: true}, "not-problem"},
		{"slow", exchange.Answer{Status: 422, Header: answer(422, problemMedia, "").Header, Body: []byte(sound), Took: 2 * time.Second}, Context{Proven: true, Control: 10 * time.Millisecond}, "slow-rejection"},
		{"sound: as slow as the control", exchange.Answer{Status: 422, Header: answer(422, problemMedia, "").Header, Body: []byte(sound), Took: 2 * time.Second}, Context{Proven: true, Control: time.Second}, ""},
		{"sound: documented", answer(422, problemMedia, sound), described(exchange.Documented{Status: true, Media: media}), ""},
		{"sound: nothing is documented", answer(422, problemMedia, sound), Context{Proven: true}, ""},
		{"sound: a documented range", answer(422, problemMedia, sound), described(exchange.Documented{Status: true, Media: []string{"application/*"}}), ""},
		{"another status than documented", answer(422, problemMedia, sound), described(exchange.Documented{Known: []string{"201"}}), "undocumented"},
		{"another media type than documented", answer(422, problemMedia, sound), described(exchange.Documented{Status: true, Media: []string{"application/json"}}), "undocumented"},
		{"another body than documented", answer(422, problemMedia, sound), described(exchange.Documented{Status: true, Media: media, At: "/errors", How: "missing"}), "undocumented"},
		{"said already", answer(400, "text/html", "<p>"), described(exchange.Documented{Known: []string{"201"}}), "not-problem"},
	} {
		var codes []string
		for _, f := range Case(c, x.a, x.ctx).Findings {
			codes = append(codes, f.Code)
		}
		if got := strings.Join(codes, " "); got != x.want {
			t.Errorf("%s: found %q, want %q", x.name, got, x.want)
		}
	}
}

func TestWhatIsStoredIsSaid(t *testing.T) {
	for _, x := range []struct{ flaws, value, answer, want string }{
		{"/length_m type", `"12"`, `{"length_m":12}`, `; sent was "12", and the answer shows 12`},
		{"/length_m maximum", `999`, `{"length_m":999}`, "; the answer shows it as it was sent"},
		{"/name required", "", `{"name":"unknown"}`, `; the answer shows "unknown" in its place`},
		{"/unexpected additionalProperties", `"x"`, `{"name":"Aurora"}`, "; the answer does not show it"},
		{"/length_m maximum", `999`, `{}`, ""},
		{"/length_m maximum", `999`, ``, ""},
	} {
		c := broken(t, exchange.Constraint, x.flaws)
		if x.value != "" {
			c = with(t, c, c.Flaws[0].Pointer, x.value)
		}
		f := Case(c, answer(201, "application/json", x.answer), Context{Proven: true}).Findings
		if len(f) != 1 || !strings.HasSuffix(f[0].Message, "was accepted with 201 Created"+x.want) {
			t.Errorf("%s %s: %+v", x.flaws, x.answer, f)
		}
	}
}

// TestAllowances has a row for each rule that a name above the field says something of.
func TestAllowances(t *testing.T) {
	for _, x := range []struct{ rule, parent, top string }{
		{"required", "vague-field", "no-field-errors"},
		{"dependentRequired", "vague-field", "no-field-errors"},
		{"additionalProperties", "", "no-field-errors"},
		{"unevaluatedProperties", "", "no-field-errors"},
		{"propertyNames", "", "no-field-errors"},
		{"oneOf", "", ""},
		{"anyOf", "", ""},
		{"not", "", ""},
		{"maximum", "vague-field", "no-field-errors"},
		{"enum", "vague-field", "no-field-errors"},
	} {
		c := broken(t, exchange.Constraint, "/cargo/weight_t "+x.rule)
		for where, want := range map[string]string{"#/cargo": x.parent, "#": x.top, "#/cargo/weight_t": ""} {
			_, found := judged(c, answer(422, problemMedia, named(where)), true)
			got := ""
			for _, f := range found {
				got += f.Code
			}
			if got != want {
				t.Errorf("%s named at %s: %q, want %q", x.rule, where, got, want)
			}
		}
	}
	called := broken(t, exchange.Constraint, "/cargo/weight_t dependentRequired")
	called.Flaws[0].RequiredBy = "name"
	if _, found := judged(called, answer(422, problemMedia, named("#/cargo/name")), true); len(found) > 0 {
		t.Errorf("the member that calls for the missing one: %+v", found)
	}
}

// TestAFewOfMany: the three that are seen most often, and how many more there are.
func TestAFewOfMany(t *testing.T) {
	for want, counts := range map[string]map[string]int{
		"": {}, "a": {"a": 1}, "b, a, c": {"a": 1, "b": 2, "c": 1}, "d, a, b and 1 more": {"a": 1, "b": 1, "c": 1, "d": 9}, "a, b, c and 2 more": {"a": 1, "b": 1, "c": 1, "d": 1, "e": 1},
	} {
		if got := topThree(counts); got != want {
			t.Errorf("%v are %q, want %q", counts, got, want)
		}
	}
}

// TestWhatIsUsual: three in five, and five at least.
func TestWhatIsUsual(t *testing.T) {
	for _, c := range []struct {
		count, total int
		want         bool
	}{{5, 5, true}, {4, 4, false}, {6, 10, true}, {5, 10, false}, {5, 9, false}, {5, 8, true}, {59, 100, false}, {60, 100, true}, {50, 100, false}} {
		tally := &counter{total: c.total}
		if got := tally.usual(&observation{count: c.count}); got != c.want {
			t.Errorf("%d of %d are usual: %v", c.count, c.total, got)
		}
	}
}

// TestOddForms are told where three in five, and five at least, have one form.
func TestOddForms(t *testing.T) {
	for _, c := range []struct {
		usual, odd int
		want       bool
	}{{5, 1, true}, {4, 1, false}, {6, 4, true}, {5, 4, false}, {5, 5, false}, {60, 40, true}, {59, 41, false}} {
		w := &consistency{forms: map[string]*counter{"": {total: c.usual + c.odd, seen: map[string]*observation{
			"a": {count: c.usual, first: RunFinding{Number: 1}, about: &Fingerprint{Form: "application/problem+json", Usual: true}},
			"b": {count: c.odd, first: RunFinding{Number: 2}, about: &Fingerprint{Form: "application/json", Members: []string{"error"}, Kinds: []string{"text"}, Usual: true}},
		}}}}
		told := 0
		w.oddForms(func(s *observation, code, text string) *Finding {
			if told++; code != "odd-layout" || s.count != c.odd {
				t.Errorf("%s of %d: %s", code, s.count, text)
			}
			return &Finding{}
		})
		if (told == 1) != c.want {
			t.Errorf("%d and %d: told %d times", c.usual, c.odd, told)
		}
	}
}

// TestSignsOfErrors: the status in the body of a success is one of an error from 400 to 599.
func TestSignsOfErrors(t *testing.T) {
	for status, want := range map[int]bool{200: false, 399: false, 400: true, 422: true, 599: true, 600: false} {
		got := signsOf(answer(200, "application/json", fmt.Sprintf(`{"status":%d}`, status)))
		if slices.Contains(got, "status") != want {
			t.Errorf("%d: %q", status, got)
		}
	}
}
