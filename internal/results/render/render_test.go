package render

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/evaluate/judge"
	"obiter/internal/results/record"
	"obiter/internal/results/report"
)

const nasty = "]]><script>alert(1)</script> ![a](http://elsewhere/x.png) @harbour \x1b[2J\u202e\ufffe | `x` | www.elsewhere.example\n# tide"

// run is a run with so many causes, whose texts are nasty.
func run(causes int) Run {
	r := Run{Head: record.Head{Description: nasty, At: "http://127.0.0.1:1", Started: "2026-11-26T10:00:00Z"}, Report: report.New()}
	add := func(n int, verdict judge.Verdict, found ...judge.Finding) {
		res := record.Result{Exchange: exchange.Exchange{Case: exchange.Case{ID: fmt.Sprintf("%010x", n), Name: "case " + nasty, Operation: fmt.Sprintf("POST /%s/%d", nasty, n), Kind: exchange.Flawed, Number: n,
			Flaws: []exchange.Flaw{{In: "body", Pointer: fmt.Sprintf("/field%d", n), Rule: "minLength", Reason: nasty}}, Request: exchange.Request{Method: "POST", URL: "http://127.0.0.1:1/" + nasty}},
			Response: exchange.Answer{Status: 400, Took: 1500 * time.Microsecond}}, Verdict: verdict, Findings: found}
		r.Report.Add(&res)
		r.Results = append(r.Results, Of(res))
	}
	add(1, judge.Pass)
	add(2, judge.Unproven)
	add(3, judge.Unproven, judge.Finding{Code: "no-answer", Severity: judge.Warning, Message: nasty})
	add(4, judge.Form, judge.Finding{Code: "title-drift", Severity: judge.Warning, Message: "a title"}, judge.Finding{Code: "not-problem", Severity: judge.Error, Message: nasty, Cites: "RFC 9457"})
	for i := range causes {
		add(5+i, judge.Fail, judge.Finding{Code: "control-rejected", Severity: judge.Error, Message: nasty, Cites: "RFC 9110"})
	}
	r.Report.AddRun(judge.RunFinding{Operation: "POST /whole", Case: "00000000ff", Finding: judge.Finding{Code: "odd-layout", Severity: judge.Error, Message: nasty}})
	r.Report.AddRun(judge.RunFinding{Operation: "POST /whole", Case: "00000000fe", Finding: judge.Finding{Code: "unstable", Severity: judge.Warning, Message: nasty}})
	return r
}

// TestJUnitIsReadBack: whatever is in the texts, the counts are those of the tests, what is
// unproven is skipped with a reason, and failures have what was sent and answered.
func TestJUnitIsReadBack(t *testing.T) {
	var b bytes.Buffer
	if err := JUnit(&b, run(3)); err != nil {
		t.Fatal(err)
	}
	var read junitSuites
	if err := xml.Unmarshal(b.Bytes(), &read); err != nil {
		t.Fatalf("%v\n%s", err, &b)
	}
	tests, failures, skipped := 0, 0, 0
	var text strings.Builder
	for _, s := range read.Suites {
		failed, left := 0, 0
		for _, c := range s.Cases {
			if c.Name == "" || c.Class == "" || c.Time == "" {
				t.Errorf("%+v", c)
			}
			if c.Failure != nil {
				failed++
				text.WriteString(c.Failure.Text + c.Failure.Message + c.Failure.Type)
			}
			if c.Skipped != nil {
				left++
				text.WriteString(c.Skipped.Message)
			}
		}
		if s.Tests != len(s.Cases) || s.Failures != failed || s.Skipped != left || s.Name == "" {
			t.Errorf("%+v: %d failed, %d skipped", s, failed, left)
		}
		tests, failures, skipped = tests+s.Tests, failures+failed, skipped+left
	}
	if read.Tests != tests || read.Failures != failures || read.Skipped != skipped || tests != 8 || failures != 5 || skipped != 2 {
		t.Errorf("%d tests, %d failed, %d skipped: %+v", tests, failures, skipped, read)
	}
	for _, want := range []string{"]]><script>alert(1)</script>", `\u001b[2J\u202e\ufffe`, "answered: 400 Bad Request\n", "RFC 9457", "In full: obiter show 0000000004", "not-problem", "unproven: the operation's valid request was refused", "obiter show 00000000ff"} {
		if !strings.Contains(text.String(), want) {
			t.Errorf("%q is not in\n%s", want, &text)
		}
	}
	if strings.Contains(b.String(), "\x1b") || strings.Contains(b.String(), "unstable") {
		t.Errorf("what does not belong there:\n%s", &b)
	}
}

// TestMarkdownFitsAComment, however many causes there are, and nothing in it is markup but
// what is meant to be.
func TestMarkdownFitsAComment(t *testing.T) {
	for causes, title := range map[int]string{0: "## 2 causes to fix\n", 3: "## 5 causes to fix\n", 2000: "## 2002 causes to fix\n"} {
		var b bytes.Buffer
		if err := Markdown(&b, run(causes)); err != nil {
			t.Fatal(err)
		}
		text := b.String()
		if n := len([]rune(text)); n > maxMarkdown || !strings.HasPrefix(text, markdownBegins+title) || strings.Contains(text, "more do not fit here") != (causes == 2000) {
			t.Errorf("%d causes: %d characters, %.200s", causes, n, text)
		}
		for _, bad := range []string{"<script", "![a]", "@harbour", "\x1b", "\n# tide", "http://", " `x`", "www.elsewhere"} {
			if strings.Contains(text, bad) {
				t.Errorf("%d causes: %q is in it", causes, bad)
			}
		}
		for line := range strings.Lines(text) {
			if cells := strings.Count(strings.ReplaceAll(line, `\|`, ""), "|"); strings.HasPrefix(line, "|") && cells != 7 {
				t.Errorf("a row of %d cells: %s", cells, line)
			}
		}
	}
	sound := Run{Report: report.New(), Incomplete: "the run was interrupted, so this is not all"}
	var b bytes.Buffer
	if err := Markdown(&b, sound); err != nil || !strings.HasPrefix(b.String(), markdownBegins+"## Nothing to fix\n\n**Not complete: the run was interrupted, so this is not all.**\n\n0 cases: 0 right, 0 wrong; the run was interrupted, so this is not all.") {
		t.Errorf("%v: %s", err, &b)
	}
}

func compiled(t *testing.T, name string) *jsonschema.Schema {
	t.Helper()
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	schema, err := c.Compile(name)
	if err != nil {
		t.Fatal(err)
	}
	return schema
}

// valid holds that a text obeys a schema, and that nothing in it is unseen.
func valid(t *testing.T, schema *jsonschema.Schema, text []byte) {
	t.Helper()
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err == nil {
		err = schema.Validate(v)
	}
	if err != nil || bytes.ContainsFunc(text, func(r rune) bool { return r == '\x1b' || r == '\u202e' }) {
		t.Errorf("%v\n%s", err, text)
	}
}

// TestSARIFIsReadBack: it has what SARIF 2.1.0 requires, a result where the rule stands,
// each once, with a fingerprint of its own that another run has as well.
func TestSARIFIsReadBack(t *testing.T) {
	schema := compiled(t, "testdata/sarif.schema.json")
	read := func(r Run) (out sarifRun) {
		t.Helper()
		var b bytes.Buffer
		if err := SARIF(&b, r); err != nil {
			t.Fatal(err)
		}
		valid(t, schema, b.Bytes())
		var log sarifLog
		if err := json.Unmarshal(b.Bytes(), &log); err != nil || len(log.Runs) != 1 {
			t.Fatal(err, len(log.Runs))
		}
		return log.Runs[0]
	}
	if got := read(Run{Report: report.New(), Incomplete: "the run was interrupted"}); len(got.Results) > 0 || got.Invocations[0].Successful || !strings.Contains(got.Invocations[0].Notifications[0].Message.Text, "interrupted") {
		t.Errorf("%+v", got)
	}
	read(run(3))
	sent := func(operation, pointer string, n int, status int, found ...judge.Finding) record.Result {
		f := exchange.Flaw{In: "body", Pointer: pointer, Rule: "minLength", Variant: "one-below"}
		return record.Result{Exchange: exchange.Exchange{Case: exchange.Case{ID: fmt.Sprintf("%010x", n), Name: "case", Number: n, Operation: operation, Kind: exchange.Flawed, Flaws: []exchange.Flaw{f}}, Response: exchange.Answer{Status: status}}, Verdict: judge.Fail, Findings: found}
	}
	kept := func(rounds int) Run {
		r := Run{Report: report.New(), Head: record.Head{Description: "/a b/api.yaml"}}
		r.Report.AddOperation(exchange.Described{Operation: "PUT /vessels/{id}", At: "api.yaml:3:5", Fields: []exchange.DescribedField{{In: "body", Pointer: "/crew", At: "api.yaml:6:5"}, {In: "body", Pointer: "/crew/*/name", At: "api.yaml:8:9", Rules: map[string]exchange.Place{"minLength": "part s.yaml:9:11"}}}})
		r.Report.AddOperation(exchange.Described{Operation: "POST /vessels", At: "api.yaml:12:5"})
		accepted := judge.Finding{Code: "accepted", Severity: judge.Error, Message: "it was accepted"}
		list := []record.Result{sent("POST /vessels", "/crew/0/name", 1, 422), sent("POST /berths", "", 9, 200, accepted)}
		for i := range rounds {
			list = append(list, sent("PUT /vessels/{id}", fmt.Sprintf("/crew/%d/name", i), 20+i, 200, accepted))
		}
		for _, res := range list {
			r.Report.Add(&res)
			r.Results = append(r.Results, Of(res))
		}
		return r
	}
	got, again := read(kept(2)), read(kept(1))
	if len(got.Results) != 2 || len(got.Tool.Driver.Rules) != 1 || got.Tool.Driver.Rules[0].Help.Text == "" {
		t.Fatalf("%+v", got)
	}
	where := func(l sarifLocation) string { return fmt.Sprint(l.Physical.Artifact.URI, l.Physical.Region) }
	berths, put := got.Results[0], got.Results[1]
	if put.Occurrences != 2 || where(put.Locations[0]) != "part%20s.yaml{9 11}" || len(put.Related) != 1 || where(put.Related[0]) != "api.yaml{12 5}" || put.Related[0].Message.Text != "POST /vessels rejects the same" {
		t.Errorf("%+v", put)
	}
	if where(berths.Locations[0]) != "file:///a%20b/api.yaml{1 0}" || berths.Fingerprints["obiterRule/v1"] == put.Fingerprints["obiterRule/v1"] {
		t.Errorf("%+v", berths)
	}
	if again.Results[1].Fingerprints["obiterRule/v1"] != put.Fingerprints["obiterRule/v1"] {
		t.Errorf("%v was %v", again.Results[1].Fingerprints, put.Fingerprints)
	}
}

// TestThePageHoldsAnything: whatever is in the texts is text there, what is too much is
// counted, and an incomplete run says so at the top.
func TestThePageHoldsAnything(t *testing.T) {
	for _, causes := range []int{0, 3, 400} {
		r := run(causes)
		r.Incomplete = "the run was interrupted, so this is not all"
		p := NewPage(r)
		for i, res := range r.Results {
			c := exchange.Case{ID: res.ID, Name: nasty, Operation: res.Operation, Kind: exchange.Flawed, Flaws: []exchange.Flaw{res.Flaw}, Request: exchange.Request{Method: "POST", URL: "http://127.0.0.1:1/" + nasty, Headers: [][2]string{{"X-Tide", nasty}}, Body: []byte(fmt.Sprintf(`{"a":[%q,{"b":{}}],"field%d":1}`, nasty, i+1))}}
			p.Add(record.Result{Exchange: exchange.Exchange{Case: c, Response: exchange.Answer{Status: 400, Header: http.Header{"X": {nasty}}, Body: []byte(strings.Repeat(nasty, 200))}}, Verdict: res.Verdict, Findings: res.Findings})
		}
		var b bytes.Buffer
		if err := p.Write(&b); err != nil {
			t.Fatal(err)
		}
		text := b.String()
		for _, bad := range []string{"<script>alert", "\x1b", "\u202e", "src=", "href=\"http"} {
			if strings.Contains(text, bad) {
				t.Errorf("%d causes: %q is in it", causes, bad)
			}
		}
		head, _, _ := strings.Cut(text, "<h1>")
		if !strings.Contains(head, "Not complete:") || strings.Count(text, "<tr id=\"c") != len(r.Results) || len(text) > 15<<20 {
			t.Errorf("%d causes: %d rows, %d bytes", causes, strings.Count(text, "<tr id=\"c"), len(text))
		}
	}
}

func TestLines(t *testing.T) {
	long := strings.Repeat("x", 1000)
	for body, want := range map[string]string{
		`{"b":{"c":[1,"x",{}]},"a":1e400}`: "{\n  \"b\": {\n    \"c\": [\n      1, <- here\n      \"x\",\n      {}\n    ]\n  },\n  \"a\": 1e400\n}",
		`{"b":{}}`:                         "{\n  \"b\": {} <- here\n}",
		`[`:                                "[ <- here",
		"a\r\nb":                           "a <- here\nb",
		`{"a":1} x`:                        `{"a":1} x <- here`,
		`"` + long:                         instance.Shorten(`"`+long, maxWidth) + " <- here",
		"":                                 "",
	} {
		lines := bodyLines([]byte(body))
		note(lines, "/b/c/0", "here")
		var out []string
		for _, l := range shortened(lines) {
			text := l.Text
			if len(l.Notes) > 0 {
				text += " <- " + strings.Join(l.Notes, "; ")
			}
			out = append(out, text)
		}
		if got := strings.Join(out, "\n"); got != want {
			t.Errorf("%.60s:\n%s\nwant\n%s", body, got, want)
		}
	}
	many := bodyLines([]byte("[" + strings.Repeat("1,", 500) + "2]"))
	note(many, "/400", "far down")
	if got := shortened(many); len(got) != maxLines+3 || got[maxLines+1].Notes[0] != "far down" || !strings.HasPrefix(got[maxLines+2].Text, "… and ") {
		t.Errorf("%d lines: %+v", len(got), got[maxLines:])
	}
}

// TestHARIsReadBack: it has what HAR 1.2 requires, and each exchange in full.
func TestHARIsReadBack(t *testing.T) {
	schema := compiled(t, "testdata/har.schema.json")
	results := []record.Result{
		{Exchange: exchange.Exchange{Case: exchange.Case{ID: "0000000001", Name: nasty, Request: exchange.Request{Method: "POST", URL: "http://127.0.0.1:1/a?x=1&y=a+b%20c&z&x=%zz", Headers: [][2]string{{"Content-Type", "application/json"}, {"Cookie", "watch=forenoon; bell=eight"}}, Body: []byte(`{"a":"` + nasty + `"}`)},
			Credentials: []exchange.Credential{{Scheme: "s", In: "header", Name: "Authorization"}}},
			Response: exchange.Answer{Status: 422, Header: http.Header{"Content-Type": {"application/problem+json"}, "Set-Cookie": {"a=b; Path=/"}, "Location": {"/x"}}, Body: []byte("{}"), Took: 1500 * time.Microsecond, Truncated: true}},
			Verdict: judge.Fail, Findings: []judge.Finding{{Code: "accepted", Severity: judge.Error, Message: "it was taken"}}},
		{Exchange: exchange.Exchange{Case: exchange.Case{ID: "0000000002", Request: exchange.Request{Method: "GET", URL: "http://127.0.0.1:1", Body: []byte{0xff}}}, Response: exchange.Answer{Err: "the connection was reset before an answer came"}}, Verdict: judge.Unproven},
		{Exchange: exchange.Exchange{Case: exchange.Case{ID: "0000000003", Request: exchange.Request{Method: "GET", URL: "http://127.0.0.1:1/"}}, Response: exchange.Answer{Status: 200, Body: []byte{0xff, 0}}}, Verdict: judge.Pass},
	}
	for _, list := range [][]record.Result{results, nil} {
		var b bytes.Buffer
		h := NewHAR(&b, Run{Head: record.Head{Started: "2026-11-26T10:00:00Z"}, Report: report.New(), Program: "1"})
		for _, res := range list {
			h.Add(res)
		}
		if err := h.Close(); err != nil {
			t.Fatal(err)
		}
		v, err := jsonschema.UnmarshalJSON(bytes.NewReader(b.Bytes()))
		if err == nil {
			err = schema.Validate(v)
		}
		if err != nil || strings.ContainsFunc(b.String(), func(r rune) bool { return r == '\x1b' || r == '\u202e' }) {
			t.Fatalf("%v\n%s", err, &b)
		}
		var read struct {
			Log struct{ Entries []harEntry }
		}
		if err := json.Unmarshal(b.Bytes(), &read); err != nil || len(read.Log.Entries) != len(list) {
			t.Fatalf("%d entries, %v", len(read.Log.Entries), err)
		}
		if list == nil {
			continue
		}
		first, second, third := read.Log.Entries[0], read.Log.Entries[1], read.Log.Entries[2]
		if !strings.HasPrefix(first.Comment, "case 0000000001: ") || !strings.HasSuffix(first.Comment, ": fail\nerror accepted: it was taken") || first.Time != 1.5 || first.Request.Post.Text != string(results[0].Request.Body) ||
			fmt.Sprint(first.Request.Query) != "[{x 1} {y a b c} {z } {x %zz}]" || fmt.Sprint(first.Request.Cookies, first.Response.Cookies) != "[{watch forenoon} {bell eight}] [{a b}]" || first.Request.Comment == "" ||
			first.Response.Status != 422 || first.Response.Text != "Unprocessable Content" || first.Response.Content.Text != "{}" || first.Response.Redirect != "/x" || first.Response.Content.Comment == "" {
			t.Errorf("%+v", first)
		}
		if second.Response.Status != 0 || second.Response.Comment != results[1].Response.Err || second.Request.Post.Text != "/w==" || third.Response.Content.Encoding != "base64" || third.Response.Content.Text != "/wA=" || third.Request.Post != nil {
			t.Errorf("%+v\n%+v", second, third)
		}
	}
}
