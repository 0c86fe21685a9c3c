package session

import (
	"context"
	"errors"
	"os"

	"obiter/internal/core/exchange"
	"obiter/internal/execute/run"
	"obiter/internal/execute/trial"
	"obiter/internal/generate/plan"
	"obiter/internal/input/sources"
)

// maxDeaths is how often a service that ends is started again in a run.
const maxDeaths = 10

// EndedByItself reports whether a run ended because the service did that Obiter started.
func EndedByItself(err error, conf *sources.Sources) bool {
	var gone *run.GoneError
	return conf.Service != nil && conf.Service.Start != "" && errors.As(err, &gone)
}

// Recovery goes on with a run whose service ended: it finds the case that did it, and tries
// the rest without that. Its events are given as they happen; each may be nil.
type Recovery struct {
	Ended    func(gone *run.GoneError)  // the service did, and it is looked for what did it
	Blamed   func(operation, id string) // a case ends the service by itself
	Innocent func()                     // none of the suspects does
	GivenUp  func(deaths int)           // it ended so often that what is left is not tried
	Rest     trial.Events               // of trying the rest
	Suspects trial.Events               // of trying suspects

	session *Session
	opt     trial.Options
	planned map[string]string // cases with their operations
	blamed  map[string]bool   // cases that are not sent again
	result  *Result
}

// Recover finds what ended the service, leaves it out, and tries the rest, until all is tried. The
// answers become part of the current run. Left is what ended the run in the end; nil: all was
// tried. What is known by then is in the result, whatever the error.
func (s *Session) Recover(ctx context.Context, r Recovery, opt trial.Options, ended error) (out *Result, left, err error) {
	r.session, r.opt, r.blamed = s, opt, map[string]bool{}
	r.opt.Files, r.opt.Copy = []string{s.Current() + ".part-of"}, nil
	if r.planned, err = plannedCases(opt.Document, opt.Config, opt.Plan); err == nil {
		ended, err = r.loop(ctx, ended)
	}
	if r.result == nil || ended == nil && r.result.Incomplete != "" { // there was nothing more to send
		m := merger{session: s, whole: ended == nil && err == nil}
		result, failed := r.store(&m, s.Current())
		if failed != nil {
			return r.result, ended, errors.Join(err, failed)
		}
		r.result = result
	}
	return r.result, ended, err
}

func (r *Recovery) loop(ctx context.Context, ended error) (left, err error) {
	within := r.opt.Plan.Within
	var gone *run.GoneError
	for deaths := 1; errors.As(ended, &gone) && ctx.Err() == nil; deaths++ {
		if deaths > maxDeaths {
			if r.GivenUp != nil {
				r.GivenUp(maxDeaths)
			}
			break
		}
		if r.Ended != nil {
			r.Ended(gone)
		}
		if err := r.find(ctx, gone); err != nil {
			return ended, err
		}
		rest, err := r.rest(within)
		if err != nil {
			return ended, err
		}
		if len(rest) == 0 {
			return nil, nil
		}
		r.opt.Plan.Budget = 0
		if ended, err = r.part(ctx, rest, false); err != nil {
			return ended, err
		}
	}
	return ended, nil
}

// find sends the suspects one by one to a fresh service, and blames the one that ends it. If
// none does by itself, all of them have an answer then.
func (r *Recovery) find(ctx context.Context, gone *run.GoneError) error {
	for _, id := range gone.Suspects {
		if r.blamed[id] || ctx.Err() != nil {
			continue
		}
		ended, err := r.part(ctx, map[string]bool{id: true}, true)
		if err != nil {
			return err
		}
		if EndedByItself(ended, r.opt.Config) {
			if r.blamed[id] = true; r.Blamed != nil {
				r.Blamed(r.planned[id], id)
			}
			return nil
		}
	}
	if len(gone.Suspects) > 0 && r.Innocent != nil {
		r.Innocent()
	}
	return nil
}

// rest are the cases that have no answer yet, and may be sent.
func (r *Recovery) rest(within map[string]bool) (map[string]bool, error) {
	runs, err := r.session.Open(r.session.Current())
	if err != nil {
		return nil, err
	}
	defer runs.Close()
	reader, err := runs.Read()
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
	for id, operation := range r.planned {
		if !answered[id] && !r.blamed[id] && (within == nil || within[operation]) {
			out[id] = true
		}
	}
	return out, nil
}

// part tries some cases, one at a time or as always, and makes the answers part of the current
// run. Ended is the error that ended the trial.
func (r *Recovery) part(ctx context.Context, chosen map[string]bool, alone bool) (ended, err error) {
	opt, events := r.opt, r.Rest
	opt.Plan.Cases, opt.Plan.Within = chosen, map[string]bool{}
	for id := range chosen {
		opt.Plan.Within[r.planned[id]] = true
	}
	if opt.Plan.Within[plan.WholeAPI] { // its valid requests are those of others
		opt.Plan.Within = nil
	}
	if opt.Alone = alone; alone {
		opt.Parallel, events = 1, r.Suspects
	}
	out, ended := trial.Run(ctx, opt, events)
	if out.Report == nil {
		return ended, ended
	}
	m := merger{session: r.session, whole: ended == nil && !alone}
	r.result, err = r.store(&m, r.session.Current(), opt.Files[0])
	return ended, errors.Join(err, os.Remove(opt.Files[0]))
}

// store makes one run of several, which is the current one then.
func (r *Recovery) store(m *merger, names ...string) (*Result, error) {
	current := r.session.Current()
	out, err := m.merge(names, current+".merged")
	if err != nil {
		return r.result, err
	}
	out.File = current
	if err := os.Rename(current+".merged", current); err != nil {
		return r.result, &trial.FileError{Name: current, Cause: cause(err)}
	}
	return out, nil
}
