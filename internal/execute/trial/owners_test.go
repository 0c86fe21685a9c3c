package trial_test

import (
	"context"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"testing"

	"obiter/internal/execute/trial"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/plan"
	"obiter/internal/input/oad"
	"obiter/internal/input/sources"
	"obiter/internal/target/send"
	"obiter/internal/testing/hostile"
)

// visit is a trial of the owners' service.
type visit struct {
	conf     string // "": as init drafts it
	depth    flaw.Depth
	parallel int
	controls bool
}

func (v visit) of(t *testing.T, o *hostile.Owners, ctx context.Context) (out *trial.Outcome, told []string) {
	t.Helper()
	server := httptest.NewServer(o)
	defer server.Close()
	doc, err := oad.Read("openapi.yaml", []byte(hostile.OwnersDescription))
	if err != nil {
		t.Fatal(err)
	}
	text := v.conf
	if text == "" {
		text = sources.Draft(doc, "openapi.yaml")
	}
	conf, err := sources.Read("obiter.yaml", []byte(text), func(string) (string, bool) { return "", false })
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	conf.Imply(doc)
	base, _ := url.Parse(server.URL)
	out, _ = trial.Run(ctx, trial.Options{Config: conf, Document: doc, Plan: plan.Options{Base: server.URL, Depth: v.depth, ControlsOnly: v.controls}, Base: base, Send: send.Options{RunID: "test"}, Parallel: v.parallel},
		trial.Events{Remains: func(text string) { told = append(told, text) }})
	return out, told
}

// TestNobodyIsHarmed: whatever the way in which it is tried, no record of others differs, and what
// is left is what is told.
func TestNobodyIsHarmed(t *testing.T) {
	t.Parallel()
	for name, v := range map[string]visit{
		"quick": {"{}", flaw.Quick, 1, false}, "usual": {"{}", flaw.Usual, 16, false}, "deep": {"{}", flaw.Deep, 4, false}, "controls": {"{}", flaw.Usual, 4, true},
		"drafted, usual": {"", flaw.Usual, 1, false}, "drafted, deep": {"", flaw.Deep, 16, false}, "drafted, controls": {"", flaw.Usual, 16, true},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			o := hostile.NewOwners()
			out, told := v.of(t, o, context.Background())
			if harmed := o.Harmed(); len(harmed) > 0 {
				t.Errorf("harmed are %q", harmed)
			}
			if err := o.Accounted(told); err != nil {
				t.Errorf("%v:\n%s\n%s", err, strings.Join(o.Left(), " "), strings.Join(told, "\n"))
			}
			skipped := map[string]bool{"POST /vessels/{vessel_id}/clear": true, "POST /berths/import": true, "PATCH /permits": true, "DELETE /notices": true, "PUT /settings": true, "POST /maintenance": true, // actions and settings
				"GET /vessels/{vessel_id}/logs": true, "GET /vessels/{vessel_id}/logs/{log}": true, "DELETE /vessels/{vessel_id}/logs/{log}": true, // no answer names a log
				"PATCH /notices/{id}": true, "DELETE /notices/{id}": true, // nor a notice
				"PUT /tugs/{id}": true, "DELETE /tugs/{id}": true} // which nothing shows
			for _, l := range out.Report.Lines {
				if reached := l.Passed > 0 || l.Form > 0; !reached && !skipped[l.Operation] && l.Operation != plan.WholeAPI {
					t.Errorf("%s is not reached", l.Operation)
				}
			}
		})
	}
}

// TestNobodyIsHarmedByAnInterrupt, whenever it comes.
func TestNobodyIsHarmedByAnInterrupt(t *testing.T) {
	t.Parallel()
	for i := range 20 {
		o := hostile.NewOwners()
		ctx, cancel := context.WithCancel(context.Background())
		at := 1 + rand.IntN(500)
		o.Heard = func(n int, _ *http.Request) {
			if n == at {
				cancel()
			}
		}
		_, told := visit{[]string{"{}", ""}[i%2], flaw.Usual, 1 + 15*(i%2), false}.of(t, o, ctx)
		cancel()
		if harmed := o.Harmed(); len(harmed) > 0 {
			t.Errorf("at %d: harmed are %q", at, harmed)
		}
		if err := o.Accounted(told); err != nil {
			t.Errorf("at %d: %v:\n%s\n%s", at, err, strings.Join(o.Left(), " "), strings.Join(told, "\n"))
		}
	}
}

// TestNobodyIsHarmedWhereTheyAreNamed: what the configuration names may be changed, and nothing next
// to it.
func TestNobodyIsHarmedWhereTheyAreNamed(t *testing.T) {
	t.Parallel()
	o := hostile.NewOwners()
	_, told := visit{"operations: {'PUT /pilots/{id}': {path: {id: 7}}, 'DELETE /permits/{id}': {allow: true, path: {id: 9}}, 'DELETE /cranes/{key}': {path: {key: cr-3}}}", flaw.Deep, 4, false}.of(t, o, context.Background())
	if harmed := o.Harmed(); !slices.Equal(harmed, []string{"/permits/9", "/pilots/7"}) {
		t.Errorf("changed are %q", harmed)
	}
	if err := o.Accounted(told); err != nil {
		t.Errorf("%v:\n%s\n%s", err, strings.Join(o.Left(), " "), strings.Join(told, "\n"))
	}
}

// TestSettingsAreRestored: what may be changed for everyone is what it was afterwards.
func TestSettingsAreRestored(t *testing.T) {
	t.Parallel()
	o := hostile.NewOwners()
	out, told := visit{"operations: {PUT /settings: {allow: true}}", flaw.Usual, 4, false}.of(t, o, context.Background())
	if harmed := o.Harmed(); len(harmed) > 0 {
		t.Errorf("harmed are %q", harmed)
	}
	for _, l := range out.Report.Lines {
		if l.Operation == "PUT /settings" && l.Passed == 0 {
			t.Error("the setting is not changed")
		}
	}
	if strings.Contains(strings.Join(told, ""), "not restored") {
		t.Errorf("told is %q", told)
	}
	o = hostile.NewOwners()
	_, told = visit{"operations: {POST /maintenance: {allow: true}}", flaw.Usual, 4, false}.of(t, o, context.Background())
	if harmed := o.Harmed(); len(harmed) > 0 && !slices.Equal(harmed, []string{"/settings"}) {
		t.Errorf("harmed are %q: %q", harmed, told)
	}
}
