package report

import (
	"fmt"
	"strings"
	"testing"

	"obiter/internal/exchange"
	"obiter/internal/flaw"
	"obiter/internal/judge"
	"obiter/internal/record"
)

func result(number int, operation string, verdict judge.Verdict, findings ...judge.Finding) record.Result {
	return record.Result{Case: exchange.Case{ID: fmt.Sprint("c", number), Number: number, Operation: operation, Kind: exchange.Flawed, Flaws: []flaw.Flaw{{In: "body", Rule: "type"}}}, Verdict: verdict, Findings: findings}
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
	request.Flaws = []flaw.Flaw{{In: "request", Rule: "wrong-method"}}
	r.Add(request)
	request.Flaws = []flaw.Flaw{{In: "request", Rule: "malformed-json"}}
	r.Add(request)

	var got []string
	for _, e := range r.Entries() {
		got = append(got, fmt.Sprintf("%s %s %s %d", e.Operation, e.Code, e.Field, e.Count))
	}
	want := "A accepted /y 1; A wrong-status  1; A wrong-status  1; A missed-field /x 20; A missed-field /y 1; B vague-field /x 1"
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
