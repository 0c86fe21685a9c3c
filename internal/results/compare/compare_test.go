package compare

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"obiter/internal/core/exchange"
	"obiter/internal/evaluate/judge"
	"obiter/internal/results/record"
)

// say makes an outcome of a case: its verdict, status, findings, words.
type say struct {
	n       int
	verdict judge.Verdict
	status  int
	codes   string
	words   string
}

func run(list ...say) *Run {
	r := New()
	for _, s := range list {
		f := exchange.Flaw{In: "body", Pointer: fmt.Sprintf("/crew/%d/name", s.n), Rule: "minLength"}
		res := record.Result{Exchange: exchange.Exchange{Case: exchange.Case{ID: fmt.Sprintf("%010d", s.n), Number: s.n, Name: "case", Operation: "POST /vessels", Kind: exchange.Flawed, Flaws: []exchange.Flaw{f}, Body: map[string]any{"name": "Aurora-77"}}, Response: exchange.Answer{Status: s.status}}, Verdict: s.verdict}
		for _, code := range strings.Fields(s.codes) {
			severity := judge.Error
			if code == "odd-status" || code == "weak-problem" {
				severity = judge.Warning
			}
			res.Findings = append(res.Findings, judge.Finding{Code: code, Severity: severity, Message: code + " said"})
		}
		r.Add(res, judge.Judgement{Said: s.words, Fingerprint: &judge.Fingerprint{Form: "application/problem+json", All: []string{"title"}}})
	}
	return r
}

func TestOf(t *testing.T) {
	older := run(
		say{1, judge.Pass, 422, "", "must be at least 2"},
		say{2, judge.Fail, 201, "accepted", ""},
		say{3, judge.Fail, 201, "accepted", ""},
		say{4, judge.Form, 422, "not-problem", ""},
		say{5, judge.Pass, 422, "", "Aurora-77 is taken since 12:30"},
		say{6, judge.Pass, 422, "", "is short"},
		say{7, judge.Pass, 400, "", ""},
		say{8, judge.Fail, 500, "crashed", ""},
		say{9, judge.Unproven, 404, "", ""},
		say{10, judge.Pass, 422, "", ""},
		say{13, judge.Fail, 200, "accepted", ""},
	)
	newer := run(
		say{1, judge.Pass, 422, "", "must be at least 3"},
		say{2, judge.Pass, 422, "", ""},
		say{3, judge.Fail, 201, "accepted", ""},
		say{4, judge.Fail, 201, "accepted", ""}, // from form to substance
		say{5, judge.Pass, 422, "", "Aurora-77 is taken since 12:31"},
		say{6, judge.Pass, 422, "", "is too short"},
		say{7, judge.Pass, 422, "odd-status", ""},
		say{8, judge.Form, 422, "not-problem", ""},
		say{9, judge.Fail, 500, "crashed", ""},
		say{11, judge.Fail, 500, "crashed", ""},
		say{12, judge.Pass, 422, "", ""},
		say{13, judge.Unproven, 404, "", ""},
	)
	older.AddRun(judge.RunFinding{Case: "0000000001", Operation: "POST /vessels", Finding: judge.Finding{Code: "odd-layout", Severity: judge.Error, Message: "3 of 9 are odd"}})
	older.AddRun(judge.RunFinding{Case: "0000000001", Operation: "POST /vessels", Finding: judge.Finding{Code: "title-drift", Severity: judge.Warning, Message: "the title A"}})
	older.AddRun(judge.RunFinding{Case: "0000000099", Operation: "GET /elsewhere", Finding: judge.Finding{Code: "odd-layout", Severity: judge.Error, Message: "not tried again"}})
	newer.AddRun(judge.RunFinding{Case: "0000000001", Operation: "POST /vessels", Finding: judge.Finding{Code: "odd-layout", Severity: judge.Error, Message: "4 of 9 are odd"}})
	newer.AddRun(judge.RunFinding{Case: "0000000002", Operation: "POST /vessels", Finding: judge.Finding{Code: "unstable", Severity: judge.Error, Message: "it answers in two ways"}})
	d := Of(older, newer)
	if got := d.Sentence(); got != "1 right now, 1 right in substance now, 1 still wrong, 4 newly wrong, 5 changed, 1 new, 1 gone" {
		t.Error(got)
	}
	var got []string
	for _, ch := range d.Changes {
		var ids []string
		for _, c := range ch.Cases {
			ids = append(ids, strings.TrimLeft(c.ID, "0"))
		}
		got = append(got, fmt.Sprintf("%s %s (%s) %d %v: %s", ch.Kind, ch.Code, ch.Family, ch.Count, ids, ch.Says))
	}
	want := []string{
		"newly wrong crashed (length) 2 [9 11]: crashed said",
		"newly wrong accepted (length) 1 [4]: accepted said",
		"newly wrong unstable () 1 [2]: it answers in two ways",
		"put right crashed (length) 1 [8]: crashed said",
		"put right accepted (length) 1 [2]: accepted said",
		"still wrong accepted (length) 1 [3]: accepted said",
		"still wrong not-problem () 1 [8]: not-problem said",
		"changed title-drift () 1 [1]: put right: the title A",
		"changed  () 1 [1]: message: “must be at least 3”, was “must be at least 2”",
		"changed  () 1 [6]: message: “is too short”, was “is short”",
		"changed  () 1 [7]: status: “422 Unprocessable Content”, was “400 Bad Request”; findings: “odd-status”, was none",
		"changed  () 1 [13]: verdict: “unproven”, was “fail”; status: “404 Not Found”, was “200 OK”; findings: none, was “accepted”",
		"new  () 1 [12]: not in the older run",
		"gone  () 1 [10]: not in the newer run",
	}
	if !slices.Equal(got, want) {
		t.Errorf("\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if same := Of(older, older); same.Sentence() != "5 still wrong" || len(same.Changes) != 3 {
		t.Errorf("of the same: %s %+v", same.Sentence(), same.Changes)
	}
}
