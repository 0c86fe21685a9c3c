package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"

	"obiter/internal/core/exchange"
	"obiter/internal/execute/run"
	"obiter/internal/execute/trial"
	"obiter/internal/generate/plan"
	"obiter/internal/input/config"
	"obiter/internal/input/oad"
	"obiter/internal/results/compare"
	"obiter/internal/results/report"
)

// maxDeaths is how often a service that ends is started again in a run.
const maxDeaths = 10

// endedByItself reports whether a run ended because the service did that Obiter started.
func (a *app) endedByItself(err error, conf *config.Config) bool {
	var gone *run.GoneError
	return conf.Service != nil && conf.Service.Start != "" && errors.As(err, &gone)
}

// mourner goes on with a run whose service ended: it finds the case that did it, and tries
// the rest without that.
type mourner struct {
	*app
	ctx     context.Context
	doc     *oad.Document
	conf    *config.Config
	opt     trial.Options
	events  trial.Events
	planned map[string]string // cases with their operations
	blamed  map[string]bool   // cases that are not sent again
	result  result
}

// goOn finds what ended the service, leaves it out, and tries the rest, until all is tried.
func (a *app) goOn(ctx context.Context, conf *config.Config, doc *oad.Document, opt trial.Options, events trial.Events, r result, ended error) error {
	planned, err := plannedCases(doc, conf, opt.Plan)
	if err != nil {
		return err
	}
	within := opt.Plan.Within
	m := &mourner{app: a, ctx: ctx, doc: doc, conf: conf, opt: opt, events: trial.Events{Warning: events.Warning, Service: events.Service, Remains: events.Remains}, planned: planned, blamed: map[string]bool{}, result: r}
	m.opt.Files = []string{filepath.Join(filepath.Dir(trial.LastRun("")), "again.ndjson")}
	m.opt.Copy = nil
	var gone *run.GoneError
	for deaths := 1; errors.As(ended, &gone) && ctx.Err() == nil; deaths++ {
		if deaths > maxDeaths {
			fmt.Fprintf(a.streams.Err, "the service ended %d times; what is left is not tried\n", maxDeaths)
			break
		}
		if err := m.find(gone); err != nil {
			return err
		}
		rest, err := m.rest(within)
		if err != nil {
			return err
		}
		if len(rest) == 0 {
			ended = nil
			break
		}
		m.opt.Plan.Budget = 0
		if ended, err = m.partly(rest, false); err != nil {
			return err
		}
	}
	if m.result.report == nil || ended == nil && m.result.incomplete != "" { // there was nothing more to send
		if _, err := a.merge(&retrial{was: compare.New(), whole: ended == nil, same: true}, &m.result); err != nil {
			return err
		}
	}
	return a.outcome(m.result, ended)
}

// find sends the suspects one by one to a fresh service, and blames the one that ends it. If
// none does by itself, all of them have an answer then.
func (m *mourner) find(gone *run.GoneError) error {
	if len(gone.Suspects) == 0 {
		fmt.Fprintf(m.streams.Err, "%v, and no request was cut off by that; going on\n", gone.Cause)
		return nil
	}
	fmt.Fprintf(m.streams.Err, "%v; finding out which of %s did it\n", gone.Cause, plural(len(gone.Suspects), "request"))
	for _, id := range gone.Suspects {
		if m.blamed[id] || m.ctx.Err() != nil {
			continue
		}
		ended, err := m.partly(map[string]bool{id: true}, true)
		if err != nil {
			return err
		}
		if m.endedByItself(ended, m.conf) {
			m.blamed[id] = true
			fmt.Fprintf(m.streams.Err, "it was one of %s: obiter show %s; going on without it\n", m.planned[id], id)
			return nil
		}
	}
	fmt.Fprintln(m.streams.Err, "none of them does it alone; going on")
	return nil
}

// rest are the cases that have no answer yet, and may be sent.
func (m *mourner) rest(within map[string]bool) (map[string]bool, error) {
	r, err := openRuns([]string{trial.LastRun("")})
	if err != nil {
		return nil, err
	}
	defer r.close()
	reader, err := r.open()
	if err != nil {
		return nil, err
	}
	answered := map[string]bool{}
	for res, err := range reader.Results() {
		if err != nil {
			return nil, err
		}
		answered[res.ID] = res.Response.Err == "" || res.Kind == exchange.Control && res.Response.Died == ""
	}
	out := map[string]bool{}
	for id, operation := range m.planned {
		if !answered[id] && !m.blamed[id] && (within == nil || within[operation]) {
			out[id] = true
		}
	}
	return out, nil
}

// partly tries some cases, one at a time or as always, and makes the answers part of the last
// run. Ended is the error that ended the trial.
func (m *mourner) partly(chosen map[string]bool, alone bool) (ended, err error) {
	x := &retrial{was: compare.New(), chosen: chosen, dropped: map[string]bool{}, file: m.opt.Files[0], same: true}
	opt := m.opt
	opt.Plan.Cases, opt.Plan.Within = chosen, map[string]bool{}
	for id := range chosen {
		opt.Plan.Within[m.planned[id]] = true
	}
	if opt.Plan.Within[plan.WholeAPI] { // its valid requests are those of others
		opt.Plan.Within = nil
	}
	events := m.events
	if opt.Alone = alone; alone {
		opt.Parallel = 1
	} else {
		events.Finished = func(op *plan.Operation, l *report.Line) {
			fmt.Fprintln(m.streams.Out, "  "+m.operationLine(l, op.SkipReason, 0))
		}
	}
	out, ended := trial.Run(m.ctx, opt, events)
	if out.Report == nil {
		return ended, ended
	}
	x.whole = ended == nil && !alone
	_, err = m.merge(x, &m.result)
	return ended, err
}
