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

	"obiter/internal/exchange"
	"obiter/internal/judge"
	"obiter/internal/record"
	"obiter/internal/report"
)

const nasty = "]]><script>alert(1)</script> ![a](http://elsewhere/x.png) @harbour \x1b[2J\u202e\ufffe | `x` | www.elsewhere.example\n# tide"

// run is a run with so many causes, whose texts are nasty.
func run(causes int) Run {
	r := Run{Head: record.Head{Description: nasty, At: "http://127.0.0.1:1", Started: "2026-11-26T10:00:00Z"}, Report: report.New()}
	add := func(n int, verdict judge.Verdict, found ...judge.Finding) {
		res := record.Result{Exchange: exchange.Exchange{Case: exchange.Case{ID: fmt.Sprintf("%010x", n), Name: "case " + nasty, Operation: fmt.Sprintf("POST /%s/%d", nasty, n), Kind: exchange.Flawed, Number: n,
			Flaws: []exchange.Flaw{{In: "body", Pointer: fmt.Sprintf("/field%d", n), Rule: "minLength", Reason: nasty}}, Request: exchange.Request{Method: "POST", URL: "http://127.0.0.1:1/" + nasty}},
			Response: exchange.Answer{Status: 400, Took: 1500 * time.Microsecond}}, Verdict: verdict, Findings: found}
		r.Report.Add(res)
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
		if n := len([]rune(text)); n > maxMarkdown || !strings.HasPrefix(text, title) || strings.Contains(text, "more do not fit here") != (causes == 2000) {
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
	if err := Markdown(&b, sound); err != nil || !strings.HasPrefix(b.String(), "## Nothing to fix\n\n0 cases: 0 right, 0 wrong; the run was interrupted, so this is not all.") {
		t.Errorf("%v: %s", err, &b)
	}
}

// TestHARIsReadBack: it has what HAR 1.2 requires, and each exchange in full.
func TestHARIsReadBack(t *testing.T) {
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	schema, err := c.Compile("testdata/har.schema.json")
	if err != nil {
		t.Fatal(err)
	}
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
