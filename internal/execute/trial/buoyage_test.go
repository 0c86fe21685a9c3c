package trial_test

import (
	"context"
	"fmt"
	"net/http/httptest"
	"net/url"
	"testing"

	"obiter/internal/execute/trial"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/plan"
	"obiter/internal/input/oad"
	"obiter/internal/input/sources"
	"obiter/internal/target/send"
	"obiter/internal/testing/hostile"
)

// tryBuoyage tries the service with a configuration.
func tryBuoyage(t *testing.T, b *hostile.Buoyage, text string, depth flaw.Depth, parallel int) (out *trial.Outcome, told []string) {
	t.Helper()
	server := httptest.NewServer(b)
	defer server.Close()
	doc, err := oad.Read("openapi.yaml", []byte(hostile.BuoyageDescription))
	if err != nil {
		t.Fatal(err)
	}
	conf, err := sources.Read("obiter.yaml", []byte(text), func(string) (string, bool) { return "", false })
	if err != nil {
		t.Fatal(err)
	}
	conf.Imply(doc)
	base, _ := url.Parse(server.URL)
	out, err = trial.Run(context.Background(), trial.Options{Config: conf, Document: doc, Plan: plan.Options{Base: server.URL, Depth: depth}, Base: base, Send: send.Options{RunID: "test"}, Parallel: parallel},
		trial.Events{Remains: func(text string) { told = append(told, text) }})
	if err != nil {
		t.Fatal(err)
	}
	return out, told
}

// TestWhatDecidesIsLeftAlone: where the body or the query decides which records are changed, these
// are those that this run created, in each request.
func TestWhatDecidesIsLeftAlone(t *testing.T) {
	t.Parallel()
	const allowed = "operations: {'POST /buoys/reset': {allow: true}}"
	for name, c := range map[string]struct {
		conf     string
		depth    flaw.Depth
		parallel int
	}{
		"quick": {"{}", flaw.Quick, 1}, "usual": {"{}", flaw.Usual, 16}, "deep": {"{}", flaw.Deep, 4}, "an action that is allowed": {allowed, flaw.Deep, 4},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := hostile.NewBuoyage()
			out, told := tryBuoyage(t, b, c.conf, c.depth, c.parallel)
			if harmed := b.Harmed(); len(harmed) > 0 {
				t.Errorf("harmed are %q", harmed)
			}
			if left := b.Left(); len(left) > 0 {
				t.Errorf("left are %q, told is %q", left, told)
			}
			reset := map[string]int{}
			for _, l := range out.Report.Lines {
				reached := l.Passed > 0 || l.Form > 0
				if l.Operation == "POST /buoys/reset" {
					reset["reached"] = l.Passed
				} else if !reached && l.Operation != plan.WholeAPI {
					t.Errorf("%s is not reached: %+v", l.Operation, l)
				}
			}
			wheres := b.Wheres()
			if c.conf != allowed && len(wheres) > 0 {
				t.Errorf("an action was sent that nobody allowed: %v", wheres)
			}
			if c.conf == allowed && (len(wheres) != 1 || reset["reached"] == 0) {
				t.Errorf("the action was told to change %v, %d passed", wheres, reset["reached"])
			}
		})
	}
}

// TestAPutThatTheFileNames: the record that a fixture's PUT names is of this run, and deleted, where
// nothing had the name before; else it is what the file says that it may be, and stays.
func TestAPutThatTheFileNames(t *testing.T) {
	t.Parallel()
	for light, want := range map[string]string{"pier-light": "[]", "l3": "[/lights/l3]"} {
		b := hostile.NewBuoyage()
		out, told := tryBuoyage(t, b, "fixtures: [{ name: light, send: 'PUT /lights/{light}', path: { light: "+light+" }, keep: { light: $request.path.light }, undo: 'DELETE /lights/{light}' }]", flaw.Usual, 4)
		if harmed := b.Harmed(); fmt.Sprint(harmed) != want {
			t.Errorf("%s: harmed are %q", light, harmed)
		}
		if left := b.Left(); len(left) > 0 || len(told) > 0 {
			t.Errorf("%s: left are %q, told is %q", light, left, told)
		}
		for _, l := range out.Report.Lines {
			if own := light == "pier-light"; (l.Operation == "PUT /lights/{light}" || l.Operation == "DELETE /lights/{light}") && (l.Passed > 0) != own {
				t.Errorf("%s: %s has %d right", light, l.Operation, l.Passed)
			}
		}
	}
}
