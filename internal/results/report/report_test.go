package report

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"obiter/internal/core/exchange"
	"obiter/internal/evaluate/judge"
	"obiter/internal/results/record"
)

func result(number int, operation string, verdict judge.Verdict, findings ...judge.Finding) *record.Result {
	return &record.Result{Exchange: exchange.Exchange{Case: exchange.Case{ID: fmt.Sprint("c", number), Number: number, Operation: operation, Kind: exchange.Flawed, Flaws: []exchange.Flaw{{In: "body", Rule: "type"}}}}, Verdict: verdict, Findings: findings}
}

func TestOneCauseIsOneEntry(t *testing.T) {
	r := New()
	r.Line("A")
	at := func(code, field string, sev judge.Severity) judge.Finding {
		return judge.Finding{Code: code, Field: field, Severity: sev, Message: code + " " + field, At: "/errors/0"}
	}
	// Completed out of order, as parallel sending does.
	r.Add(result(12, "B", judge.Fail, at("vague-field", "/x", judge.Warning)))
	for i := 20; i > 0; i-- {
		r.Add(result(i, "A", judge.Fail, at("missed-field", "/x", judge.Error)))
	}
	r.Add(result(30, "A", judge.Fail, at("accepted", "/y", judge.Error), at("missed-field", "/y", judge.Error)))
	r.Add(result(31, "A", judge.Unproven))
	request := result(32, "A", judge.Fail, judge.Finding{Code: "wrong-status", Severity: judge.Error})
	request.Flaws = []exchange.Flaw{{In: "request", Rule: "wrong-method"}}
	r.Add(request)
	request.Flaws = []exchange.Flaw{{In: "request", Rule: "malformed-json"}}
	r.Add(request)

	var got []string
	for _, e := range r.Entries() {
		got = append(got, fmt.Sprintf("%s %s %s %d", strings.Join(e.Operations, "+"), e.Code, strings.Join(e.Fields, "+"), e.Count))
	}
	want := "A accepted /y 1; A wrong-status  1; A wrong-status  1; A missed-field /x+/y 21; B vague-field /x 1"
	if s := strings.Join(got, "; "); s != want {
		t.Errorf("entries\n%s\nwant\n%s", s, want)
	}
	x := r.Entries()[3]
	if len(x.Examples) != MaxExamples || x.Examples[0].Case != "c1" || x.Examples[7].Case != "c8" {
		t.Errorf("examples %+v are not the first of the plan", x.Examples)
	}
	if n := r.Totals(); n.Cases != 25 || n.Failed != 24 || n.Unproven != 1 || r.Errors() != 24 {
		t.Errorf("totals %+v, %d errors", n, r.Errors())
	}
}

// TestABriefReportHasTheSameCauses and outcomes, and nothing else.
func TestABriefReportHasTheSameCauses(t *testing.T) {
	whole, brief := New(), NewBrief()
	for _, r := range []*Report{whole, brief} {
		for i := range 20 {
			res := result(i, "POST /berths", judge.Pass)
			res.Flaws[0].Pointer, res.Response.Status = "/name", 422
			if i%3 == 0 {
				res.Verdict, res.Findings = judge.Fail, []judge.Finding{{Code: "accepted", Field: "/name", Severity: judge.Error, Message: "was accepted"}}
			}
			r.Add(res)
			r.AddAnswer(&res.Exchange, &judge.Judgement{Verdict: res.Verdict, Said: "too short", Fingerprint: &judge.Fingerprint{Form: "application/problem+json", All: []string{"title"}}})
		}
	}
	if a, b := fmt.Sprintf("%+v", *whole.Entries()[0]), fmt.Sprintf("%+v", *brief.Entries()[0]); a != b || len(brief.Entries()) != 1 {
		t.Errorf("the causes are\n%s\nand in brief\n%s", a, b)
	}
	if a, b := whole.Line("POST /berths").Counts(), brief.Line("POST /berths").Counts(); a != b || whole.Totals() != brief.Totals() {
		t.Errorf("the outcome is %v, and in brief %v", a, b)
	}
	if len(whole.Matrix()) == 0 || len(whole.Messages()) == 0 || len(brief.Matrix()) > 0 || len(brief.Messages()) > 0 {
		t.Errorf("the whole report has %d resources and %d messages, the brief one %d and %d", len(whole.Matrix()), len(whole.Messages()), len(brief.Matrix()), len(brief.Messages()))
	}
}

// TestWhatIsEnforcedNowhereIsOneCause: over operations and fields, by the family
// of the rule; and where hardly anything is checked, that is the cause.
func TestWhatIsEnforcedNowhereIsOneCause(t *testing.T) {
	r := New()
	number := 0
	add := func(operation, pointer, name, variant string, status int) {
		number++
		res := result(number, operation, judge.Pass)
		res.Flaws = []exchange.Flaw{{In: "body", Pointer: pointer, Rule: name, Variant: variant}}
		if res.Response.Status = status; status < 300 {
			res.Verdict, res.Findings = judge.Fail, []judge.Finding{{Code: "accepted", Severity: judge.Error, Field: pointer, Message: "m"}}
		}
		r.Add(res)
	}
	for _, operation := range []string{"POST /a", "POST /b"} {
		add(operation, "/crew/0/name", "maxLength", "one-above", 201)
		add(operation, "/crew/1/name", "minLength", "one-below", 201)
		add(operation, "/rank", "type", "null", 201)
		for range 30 {
			add(operation, "/rank", "enum", "unlisted", 422)
		}
	}
	for i := range 12 {
		add("PUT /a", fmt.Sprint("/x", i), "type", "object", 200)
	}
	add("PUT /a", "/rank", "enum", "unlisted", 422)
	var got []string
	for _, e := range r.Entries() {
		got = append(got, fmt.Sprint(e.Family, e.Operations, len(e.Fields), e.Places[0], e.Count, e.Summary))
	}
	want := []string{"[PUT /a] 12body /x012nothing of the body is checked: 12 of 13 requests with something wrong in it were accepted", "length[POST /a POST /b] 1body /crew/*/name4", "null[POST /a POST /b] 1body /rank2"}
	if !slices.Equal(got, want) {
		t.Errorf("%q\nwant %q", got, want)
	}
}

// TestBusinessRulesAreCausesOfTheirOwn: each one that is not kept is told by itself.
func TestBusinessRulesAreCausesOfTheirOwn(t *testing.T) {
	r := New()
	for i, f := range []exchange.Flaw{{Pointer: "/x", Rule: "holds", Variant: "x-y"}, {Pointer: "/x", Rule: "holds", Variant: "x-z"}, {Pointer: "/y", Rule: "unique", Variant: "taken"}, {Pointer: "/x", Rule: "type"}, {Pointer: "/y", Rule: "type"}} {
		res := result(i, "A", judge.Fail, judge.Finding{Code: "accepted", Severity: judge.Error, Field: f.Pointer})
		res.Flaws = []exchange.Flaw{f}
		r.Add(res)
	}
	if entries := r.Entries(); len(entries) != 4 || len(entries[0].Fields) != 2 {
		t.Errorf("%d entries: %+v", len(entries), entries)
	}
}

// TestTheMostSeriousComeFirst: what an answer says before how it is written, then
// errors, then the code's rank, then the number of answers.
func TestTheMostSeriousComeFirst(t *testing.T) {
	r := New()
	for i, x := range []struct {
		code, operation string
		severity        judge.Severity
		count           int
	}{
		{"weak-problem", "A", judge.Warning, 9}, {"not-problem", "A", judge.Error, 9}, {"vague-field", "A", judge.Warning, 9},
		{"missed-field", "A", judge.Error, 9}, {"crashed", "A", judge.Error, 1}, {"crashed", "B", judge.Error, 2},
	} {
		for range x.count {
			r.Add(result(i, x.operation, judge.Fail, judge.Finding{Code: x.code, Severity: x.severity, Message: "m"}))
		}
	}
	var got []string
	for _, e := range r.Entries() {
		got = append(got, e.Operation()+" "+e.Code)
	}
	if s := strings.Join(got, ", "); s != "A crashed, A missed-field, A vague-field, A not-problem, A weak-problem" {
		t.Error(s)
	}
}

func TestTheFormOfAnswersIsOneCauseOverOperations(t *testing.T) {
	r := New()
	form := judge.Finding{Code: "not-problem", Severity: judge.Error, Message: "the answer is an HTML page", At: "Content-Type"}
	for i, operation := range []string{"POST /a", "PUT /a/{id}", "POST /b"} {
		r.Add(result(i, operation, judge.Fail, form))
	}
	other := form
	other.Message = "the answer has no body"
	r.Add(result(9, "POST /b", judge.Fail, other))
	entries := r.Entries()
	if len(entries) != 2 || len(entries[0].Operations) != 3 || entries[0].Count != 3 || entries[1].Count != 1 {
		t.Fatalf("%+v", entries)
	}
}

func TestWhatASiblingRejectsIsSaid(t *testing.T) {
	r := New()
	flawed := func(number int, operation string, status int, verdict judge.Verdict, found ...judge.Finding) {
		res := result(number, operation, verdict, found...)
		res.Flaws = []exchange.Flaw{{In: "body", Pointer: "/name", Rule: "minLength", Variant: "empty"}}
		res.Name, res.Response.Status = "/name minLength empty", status
		r.Add(res)
	}
	flawed(1, "POST /a", 422, judge.Pass)
	flawed(2, "POST /b", 422, judge.Pass)
	flawed(3, "PUT /a/{id}", 200, judge.Fail, judge.Finding{Code: "accepted", Severity: judge.Error, Field: "/name", Message: "it was accepted"})
	if got := r.Entries()[0].Examples[0].Message; got != "it was accepted; POST /a rejects the same" {
		t.Error(got)
	}
}

func TestFindingsOfTheWholeRunAreCounted(t *testing.T) {
	r := New()
	r.Add(result(1, "POST /a", judge.Pass))
	r.AddRun(judge.RunFinding{Number: 1, Case: "c1", Operation: "POST /a", Finding: judge.Finding{Code: "odd-layout", Severity: judge.Error, Message: "m", Count: 12}})
	if e := r.Entries(); len(e) != 1 || e[0].Count != 12 || r.Errors() != 1 {
		t.Errorf("%+v, %d errors", e, r.Errors())
	}
}
