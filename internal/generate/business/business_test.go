package business_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"obiter/internal/core/instance"
	"obiter/internal/generate/business"
	"obiter/internal/generate/sample"
	"obiter/internal/testing/schematest"
)

const towOrder = `{type: object, additionalProperties: false, required: [starts_at, ends_at, tugs], properties: {
  starts_at: {type: string, format: date-time}, ends_at: {type: string, format: date-time}, day: {type: string, format: date},
  tugs: {type: integer, minimum: 1, maximum: 6}, pull_t: {type: number, minimum: 1, maximum: 1000, multipleOf: 0.5}, hazardous: {type: boolean}, un_number: {type: string, pattern: '^UN[0-9]{4}$'},
  purpose: {type: string, minLength: 3, maxLength: 40}, port: {type: string, enum: [north, south]}, phrase: {type: string, minLength: 12, maxLength: 30},
  lines: {type: array, minItems: 1, maxItems: 4, items: {type: object, properties: {name: {type: string, minLength: 1}, length_m: {type: integer, minimum: 1, maximum: 500}}}}}}`

const control = `{"starts_at":"2031-05-04T06:00:00Z","ends_at":"2031-05-04T09:00:00+02:00","day":"2031-05-04","tugs":2,"pull_t":50,"hazardous":false,"un_number":"UN1203",
  "purpose":"Shifting berth","port":"north","phrase":"Tide tables of 1912","lines":[{"name":"bow","length_m":80},{"name":"stern","length_m":60}]}`

var today = time.Date(2026, 11, 23, 14, 30, 0, 0, time.UTC)

func space(t testing.TB) (*business.Space, map[string]any) {
	t.Helper()
	v, err := instance.Decode([]byte(control))
	if err != nil {
		t.Fatal(err)
	}
	s := schematest.Compile(t, towOrder)
	sp, err := business.New([]business.Part{{In: "body", Schema: s, Control: v}}, sample.New(1), today)
	if err != nil {
		t.Fatal(err)
	}
	return sp, map[string]any{"body": v}
}

// changes shows what differs from the control.
func changes(values map[string]any, fields []business.Field) string {
	var out []string
	for _, f := range fields {
		v, there := instance.Get(values[f.In], f.Pointer)
		if !there {
			out = append(out, f.Pointer+" gone")
			continue
		}
		out = append(out, f.Pointer+" "+string(instance.Encode(v)))
	}
	return strings.Join(out, ", ")
}

func TestBreakBySmallestChange(t *testing.T) {
	for _, c := range []struct{ rule, blames, flaw, edge string }{
		{"body.ends_at > body.starts_at", "/ends_at", `/ends_at "2031-05-04T06:00:00Z"`, `/ends_at "2031-05-04T06:00:01Z"`},
		{"body.ends_at >= body.starts_at", "/ends_at", `/ends_at "2031-05-04T05:59:59Z"`, `/ends_at "2031-05-04T06:00:00Z"`},
		{"body.ends_at >= body.starts_at", "/starts_at", `/starts_at "2031-05-04T07:00:01Z"`, `/starts_at "2031-05-04T07:00:00Z"`},
		{"body.ends_at - body.starts_at <= duration('12h')", "/ends_at", `/ends_at "2031-05-04T18:00:01Z"`, `/ends_at "2031-05-04T18:00:00Z"`},
		{"timestamp(body.starts_at) > now", "/starts_at", `/starts_at "2026-11-21T00:00:00Z"`, `/starts_at "2026-11-25T00:00:01Z"`},
		{"body.day < now || body.day > timestamp('2030-01-01T00:00:00Z')", "/day", `/day "2026-11-26"`, ""},
		{"!body.hazardous || has(body.un_number)", "/un_number", `/un_number gone, /hazardous true`, `/hazardous true`},
		{"body.tugs * 30 >= 50", "/tugs", `/tugs 1`, ""},
		{"double(body.tugs) * 30.0 >= body.pull_t", "/tugs", `/tugs 1`, `/pull_t 60`},
		{"body.tugs + size(body.lines) <= 5", "/tugs", `/tugs 4`, `/tugs 3`},
		{"body.pull_t <= 99.5", "/pull_t", `/pull_t 100`, `/pull_t 99.5`},
		{"size(body.purpose) <= 20", "/purpose", `/purpose "Shifting berthaaaaaaa"`, `/purpose "Shifting berthaaaaaa"`},
		{"body.port != 'south'", "/port", `/port "south"`, ""},
		{"body.phrase.matches('[0-9]')", "/phrase", `/phrase "Tide tables of xfxy"`, ""},
		{"body.phrase.matches('[A-Z]') && body.phrase.matches('[0-9]')", "/phrase", `/phrase "tide tables of 1912"`, ""},
		{"!body.phrase.contains(body.port)", "/phrase", `/phrase "Tide tables of 1912north"`, ""},
		{"body.purpose.startsWith('Shift')", "/purpose", `/purpose "ing berth"`, ""},
		{"body.lines.all(l, l.length_m <= 200)", "/lines/*/length_m", `/lines/0/length_m 201`, `/lines/0/length_m 200`},
		{"body.lines.exists(l, l.name == 'bow')", "/lines", `/lines/0/name "stern"`, ""},
		{"body.lines.map(l, l.length_m).sum() < 1000", "", "", ""},
		{"size(body.lines) == 1 || body.tugs > 1", "/tugs", `/tugs 1`, ""},
		// Each has limits of its own, and only together they break the rule.
		{"double(body.tugs) * body.pull_t <= 5000.0", "/tugs", `/tugs 6, /pull_t 833.5`, `/tugs 6`},
		{"body.lines.all(l, l.length_m > 0) && body.lines[0].length_m * body.tugs + body.lines[1].length_m <= 3400", "/lines/0/length_m", `/lines/0/length_m 500, /lines/1/length_m 401, /tugs 6`, ""},
	} {
		sp, values := space(t)
		r, err := sp.Compile(c.rule, strings.Fields(c.blames), nil)
		if err != nil {
			if c.blames != "" {
				t.Errorf("%s: %v", c.rule, err)
			}
			continue
		}
		if sp.Judge(r, values) != business.Holds {
			t.Errorf("%s does not hold", c.rule)
		}
		found, tried := sp.Break(r, nil, values)
		if len(found) == 0 {
			t.Errorf("%s: nothing found; %s", c.rule, tried)
			continue
		}
		if got := changes(found[0].Values, found[0].Changed); got != c.flaw {
			t.Errorf("%s is broken by %s, want %s", c.rule, got, c.flaw)
		}
		edges := ""
		for _, e := range sp.Keep(r, nil, values) {
			if sp.Judge(r, e.Values) != business.Holds {
				t.Errorf("%s does not hold at its edge %s", c.rule, changes(e.Values, e.Changed))
			}
			edges += changes(e.Values, e.Changed) + "; "
		}
		if c.edge != "" && !strings.Contains(edges, c.edge+";") {
			t.Errorf("%s has the edges %s want %s", c.rule, edges, c.edge)
		}
	}
}

func TestExpressionsAreChecked(t *testing.T) {
	sp, _ := space(t)
	for expression, want := range map[string]string{
		"body.ends_at >":                   "1:15|it ends too early",
		"body.ended_at > body.starts_at":   "undefined field 'ended_at'",
		"body.ends_at > body.tugs":         "no matching overload for '_>_' applied to '(timestamp, int)'",
		"body.tugs * 1.5 > 2.0":            "write 2.0 for 2",
		"body.tugs + 1":                    "a rule is true or false",
		"vessel.tugs > 1":                  "undeclared reference to 'vessel'",
		"body.lines.all(l, l.colour == 1)": "undefined field 'colour'",
	} {
		_, err := sp.Compile(expression, nil, nil)
		if err == nil || !strings.Contains(fmt.Sprintf("1:%d|%v", err.(*business.ExpressionError).Column, err), want) {
			t.Errorf("%s: %v, want %s", expression, err, want)
		}
	}
}

func TestRulesBindOneAnother(t *testing.T) {
	sp, values := space(t)
	var rules []*business.Rule
	for _, text := range []string{"body.ends_at > body.starts_at", "body.starts_at > now", "!body.hazardous || has(body.un_number)"} {
		r, err := sp.Compile(text, nil, nil)
		if err != nil {
			t.Fatal(err)
		}
		rules = append(rules, r)
	}
	values["body"], _ = instance.Set(values["body"], "/starts_at", "2020-01-01T00:00:00Z")
	values["body"], _ = instance.Set(values["body"], "/ends_at", "2019-01-01T00:00:00Z")
	mended, ok := sp.Mend(rules, values)
	if !ok {
		t.Fatal("nothing found")
	}
	for _, r := range rules {
		if sp.Judge(r, mended) != business.Holds {
			t.Errorf("%s does not hold for %s", r.Text, instance.Encode(mended["body"]))
		}
	}
	values["body"], _ = instance.Set(values["body"], "/ends_at", "2031-01-01T00:00:00Z")
	kept, ok := sp.Mend(rules, values, business.Field{In: "body", Pointer: "/ends_at"})
	if v, _ := instance.Get(kept["body"], "/ends_at"); !ok || v != "2031-01-01T00:00:00Z" {
		t.Errorf("the fixed field became %v", v)
	}
	never, err := sp.Compile("body.tugs > 6 || body.tugs < 1", nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	if _, ok := sp.Mend([]*business.Rule{never}, values); ok {
		t.Error("what the schema rules out was found")
	}
	always, _ := sp.Compile("body.tugs <= 6", nil, nil)
	if found, tried := sp.Break(always, nil, values); len(found) > 0 || !strings.Contains(tried, "/tugs") {
		t.Errorf("what the schema implies was broken: %v, %s", found, tried)
	}
}

func TestMissingFieldsNeitherHoldNorFail(t *testing.T) {
	sp, values := space(t)
	r, err := sp.Compile("body.day > timestamp('2000-01-01T00:00:00Z')", nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	values["body"], _ = instance.Remove(values["body"], "/day")
	if sp.Judge(r, values) != business.Unknown {
		t.Error("a rule of a missing field has an outcome")
	}
}

// FuzzCompile reads expressions of any kind, judges them and looks for requests
// that break them; whatever is found breaks the rule and obeys the schema.
func FuzzCompile(f *testing.F) {
	for _, s := range []string{"body.ends_at > body.starts_at", "body.lines.all(l, l.length_m < 3)", "body.purpose.matches('(a+)+$')", "body.tugs * 9223372036854775807 > 1", "[1,2].map(x, [1,2].map(y, x)).size() > 0", "body['tugs'] == 1 || now > timestamp(body.day)", "\xff", "body.lines[7].name == 'x'"} {
		f.Add(s)
	}
	s := schematest.Compile(f, towOrder)
	sp, values := space(f)
	f.Fuzz(func(t *testing.T, text string) {
		r, err := sp.Compile(text, []string{"/tugs"}, nil)
		if err != nil || len(text) > 200 {
			return
		}
		if sp.Judge(r, values) != business.Holds {
			return
		}
		found, _ := sp.Break(r, nil, values)
		for _, b := range found {
			if sp.Judge(r, b.Values) != business.Fails || !s.Valid(b.Values["body"]) {
				t.Fatalf("%q is said to be broken by %s", text, instance.Encode(b.Values["body"]))
			}
		}
	})
}

// TestKeptValues: ${NAME} is a value, alone or quoted, and without one a rule decides
// nothing.
func TestKeptValues(t *testing.T) {
	sp, values := space(t)
	known := map[string]any{"most": json.Number("3"), "port": "north"}
	for text, want := range map[string]business.Outcome{
		"body.tugs <= ${most}": business.Holds, "body.tugs > ${most}": business.Fails, "body.port == ${port}": business.Holds, "body.port == '${port}'": business.Holds,
		`body.port != "${port}" || body.tugs == ${most}`: business.Fails, "body.port == ${none}": business.Unknown, "body.port + '' == 'north'": business.Holds, `'\'${port}' == body.port`: 9, "'to ${port}' == body.port": 9,
	} {
		r, err := sp.Compile(text, nil, known)
		if want == 9 {
			if err == nil || !strings.Contains(err.Error(), "join texts with +") {
				t.Errorf("%s: %v", text, err)
			}
			continue
		}
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		if got := sp.Judge(r, values); got != want {
			t.Errorf("%s: %v, want %v", text, got, want)
		}
	}
	r, _ := sp.Compile("body.tugs <= ${most}", []string{"/tugs"}, known)
	if found, tried := sp.Break(r, nil, values); len(found) == 0 || changes(found[0].Values, found[0].Changed) != "/tugs 4" {
		t.Errorf("%v, %s", found, tried)
	}
	var wrong *business.ExpressionError
	if _, err := sp.Compile("body.tugs == ${most} +", nil, known); !errors.As(err, &wrong) || wrong.Column != 23 {
		t.Errorf("%v at %d", err, wrong.Column)
	}
}
