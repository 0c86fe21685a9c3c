package render

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"strings"
	"testing"
	"time"

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
	sound := Run{Report: report.New(), Interrupted: true}
	var b bytes.Buffer
	if err := Markdown(&b, sound); err != nil || !strings.HasPrefix(b.String(), "## Nothing to fix\n\n0 cases: 0 right, 0 wrong; the run was interrupted, so this is not all.") {
		t.Errorf("%v: %s", err, &b)
	}
}
