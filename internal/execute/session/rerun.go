package session

import (
	"errors"
	"fmt"
	"os"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"obiter/internal/core/exchange"
	"obiter/internal/core/usage"
	"obiter/internal/evaluate/judge"
	"obiter/internal/execute/trial"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/plan"
	"obiter/internal/input/oad"
	"obiter/internal/input/sources"
	"obiter/internal/results/compare"
	"obiter/internal/results/record"
	"obiter/internal/results/report"
)

// Rerun sends some cases of the last run again, and makes the answers part of it.
type Rerun struct {
	Chosen  map[string]bool // cases that are sent
	Dropped map[string]bool // cases and operations that the plan no longer has
	Fresh   int             // of the chosen: cases that the last run did not have
	Warning string          // why the last run is not all that was planned; empty: it is

	session *Session
	last    string // file of the last run
	was     *compare.Run
}

// Choice says which cases of the last run are sent again.
type Choice struct {
	Failed   bool     // those that failed, and what is new in the plan
	Cases    []string // those with these ids, or beginnings of them
	Narrowed bool     // only some operations are tried
	Options  string   // that narrow the plan, as run files have them
	Depth    string   // as it is asked for; empty: that of the last run
	Seed     *uint64  // likewise
	// Depths and Budgets are the depths of plans and their usual budgets.
	Depths  map[string]flaw.Depth
	Budgets map[flaw.Depth]int
}

// tried is what is known of a case of the last run.
type tried struct {
	operation, provenBy string
	kind                exchange.Kind
	wrong               bool
}

// Rerun narrows a trial to cases of the last run at its address.
func (s *Session) Rerun(what Choice, opt *trial.Options) (*Rerun, error) {
	doc, conf := opt.Document, opt.Config
	last := s.LastAt(opt.Base.String(), doc.Name)
	if last == "" {
		last = s.Last()
	}
	r, err := s.Open(last)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	out := &Rerun{Chosen: map[string]bool{}, Dropped: map[string]bool{}, session: s, last: last, was: compare.New()}
	known := map[string]tried{}
	rep, err := r.Judge(nil, func(res record.Result, j judge.Judgement) {
		out.was.Add(res, j)
		known[res.ID] = tried{res.Operation, res.ProvenBy, res.Kind, res.Verdict == judge.Fail || res.Verdict == judge.Form}
	})
	if err != nil {
		return nil, err
	}
	for _, f := range rep.RunFindings() {
		if out.was.AddRun(f); f.Finding.Severity == judge.Error {
			t := known[f.Case]
			t.wrong = true
			known[f.Case] = t
		}
	}
	head := r.Head()
	if head.Description != doc.Name {
		return nil, usage.New(fmt.Sprintf("the last run is of %s, and this description is %s", head.Description, doc.Name), "name that one, or try all of this one first")
	}
	out.Warning = r.Incomplete()
	if err := what.repeat(head, opt); err != nil {
		return nil, err
	}
	planned, err := plannedCases(doc, conf, opt.Plan)
	if err != nil {
		return nil, err
	}
	changed := head.Digest != doc.Digest() || head.Config != conf.Digest() || head.Program != s.Program
	if err := out.choose(what, known, planned, changed, head.Options == what.Options); err != nil {
		return nil, err
	}
	opt.Plan.Cases, opt.Plan.Within = out.Chosen, map[string]bool{}
	for id := range out.Chosen {
		opt.Plan.Within[planned[id]] = true
		if by := known[id].provenBy; by != "" {
			opt.Plan.Within[by] = true
		}
	}
	opt.Head.Options, opt.Head.Shard = head.Options, head.Shard
	return out, nil
}

var budgetOf = regexp.MustCompile(`(?:^| )--budget ([0-9]+)`)

// repeat gives a trial the plan of the last run: its depth, its seed, its budget.
func (what Choice) repeat(head record.Head, opt *trial.Options) error {
	if what.Depth != "" && what.Depth != head.Depth || what.Seed != nil && *what.Seed != head.Seed {
		return usage.New(fmt.Sprintf("the last run was of depth %s with seed %d", head.Depth, head.Seed), "leave --depth and --seed out, or try all of it with these first")
	}
	depth := what.Depths[head.Depth]
	opt.Plan.Depth, opt.Plan.Seed, opt.Plan.Budget = depth, head.Seed, what.Budgets[depth]
	if m := budgetOf.FindStringSubmatch(head.Options); m != nil {
		opt.Plan.Budget, _ = strconv.Atoi(m[1])
	}
	opt.Head.Depth = head.Depth
	return nil
}

// plannedCases are the cases of a plan with their operations, whatever credentials there are.
func plannedCases(doc *oad.Document, conf *sources.Sources, opt plan.Options) (map[string]string, error) {
	p, err := plan.New(doc, trial.Configured(opt, doc, conf, nil))
	if err != nil {
		return nil, err
	}
	type cases struct {
		operation string
		ids       []string
	}
	out := map[string]string{}
	for c := range plan.Map(p, runtime.GOMAXPROCS(0), func(op *plan.Operation) cases {
		c := cases{operation: op.Name()}
		for x := range op.Cases() {
			c.ids = append(c.ids, x.ID)
		}
		return c
	}) {
		for _, id := range c.ids {
			out[id] = c.operation
		}
	}
	return out, nil
}

// choose says which cases are sent, and, where the plan may have changed, which are new and
// which are no longer there. The same says that the last run was narrowed as this one is, so
// that what it lacks is new.
func (x *Rerun) choose(what Choice, known map[string]tried, planned map[string]string, changed, same bool) error {
	for _, text := range what.Cases {
		id, err := caseNamed(strings.ToLower(text), planned, known)
		if err != nil {
			return err
		}
		x.Chosen[id] = true
	}
	operations := map[string]bool{}
	for _, name := range planned {
		operations[name] = true
	}
	for id, t := range known {
		_, there := planned[id]
		switch {
		case there && t.wrong && what.Failed:
			x.Chosen[id] = true
		case there || what.Narrowed || !changed:
		case !operations[t.operation]:
			x.Dropped[t.operation], x.Dropped[id] = true, true
		case t.kind != exchange.Control: // controls may be made for the occasion
			x.Dropped[id] = true
		}
	}
	if !changed || !same || !what.Failed {
		return nil
	}
	for id := range planned {
		if _, was := known[id]; !was {
			x.Chosen[id] = true
			x.Fresh++
		}
	}
	return nil
}

// caseNamed is the id of a case that is named by it, or by its beginning.
func caseNamed(text string, planned map[string]string, known map[string]tried) (string, error) {
	if _, is := planned[text]; is {
		return text, nil
	}
	var found []string
	for id := range planned {
		if len(text) >= 3 && strings.HasPrefix(id, text) {
			found = append(found, id)
		}
	}
	slices.Sort(found)
	switch _, was := known[text]; {
	case len(found) == 1:
		return found[0], nil
	case len(found) > 1:
		return "", usage.New(fmt.Sprintf("%q is the beginning of several cases", text), "which one: "+strings.Join(found[:min(len(found), 8)], ", "))
	case was:
		return "", usage.New(fmt.Sprintf("the case %s is in the last run, and the plan no longer has it", text), "obiter try --failed drops what is no longer there")
	}
	return "", usage.New(fmt.Sprintf("the plan has no case %q", text), "obiter try prints the ids of what it found; obiter cases lists all")
}

// Merge makes the answers of a run part of the last one, judges all of it anew, stores it, and says
// what has changed. The run has no file where nothing was sent.
func (x *Rerun) Merge(sent bool) (*Result, *compare.Difference, error) {
	names := []string{x.last}
	if sent {
		names = append(names, x.session.Current())
	}
	m := merger{session: x.session, dropped: x.Dropped}
	made := x.session.Current() + ".merged"
	out, err := m.merge(names, made)
	if err != nil {
		return nil, nil, err
	}
	if out.File, err = x.session.put(made, time.Now()); err != nil {
		return nil, nil, err
	}
	d := compare.Of(x.was, m.is)
	if sent {
		err = os.Remove(x.session.Current())
	}
	return out, &d, err
}

// Result is a run that is stored.
type Result struct {
	Report     *report.Report
	Head       record.Head
	File       string
	Incomplete string // why it is not all that was planned; empty: it is
}

// merger makes one run of several, of which the latest answer to each case counts.
type merger struct {
	session *Session
	dropped map[string]bool // what the plan no longer has
	whole   bool            // all is there then, whatever interrupted one of them
	is      *compare.Run    // what came of it
}

func (m *merger) merge(names []string, to string) (*Result, error) {
	r := &Runs{session: m.session, names: names, whole: m.whole}
	r.merge.AnyVersion, r.merge.Dropped = true, m.dropped
	if _, err := openInto(r); err != nil {
		return nil, err
	}
	defer r.Close()
	made, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return nil, &trial.FileError{Name: to, Cause: cause(err)}
	}
	m.is = compare.New()
	rep, err := r.Write(made, m.is.Add)
	if err = errors.Join(err, made.Close()); err != nil {
		return nil, errors.Join(err, os.Remove(made.Name()))
	}
	for _, f := range rep.RunFindings() {
		m.is.AddRun(f)
	}
	return &Result{Report: rep, Head: r.Head(), File: to, Incomplete: r.Incomplete()}, nil
}

// Keep stores the run that was just made. One that was narrowed or cut short, or planned less than
// is known already at its address, becomes part of that: what it did not try stays known. Own is
// the file of its own answers, until it is disposed of.
func (s *Session) Keep(partial bool) (last, own string, dispose func() error, err error) {
	nothing := func() error { return nil }
	own = s.Current()
	head, err := headOf(own)
	if err != nil {
		return "", "", nothing, err
	}
	known := s.LastAt(head.At, head.Description)
	if known != "" && !partial {
		was, err := headOf(known)
		partial = err == nil && slices.Index(record.Depths, head.Depth) < slices.Index(record.Depths, was.Depth)
	}
	if known != "" && partial {
		made := own + ".merged"
		m := merger{session: s}
		_, err := m.merge([]string{known, own}, made)
		var apart *record.MergeError
		switch {
		case err == nil:
			last, err = s.put(made, time.Now())
			return last, own, func() error { return os.Remove(own) }, err
		case !errors.As(err, &apart): // else it cannot be part of that
			return "", "", nothing, err
		}
	}
	last, err = s.put(own, time.Now())
	return last, last, nothing, err
}
