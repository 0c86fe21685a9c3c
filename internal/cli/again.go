package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"obiter/internal/core/exchange"
	"obiter/internal/evaluate/judge"
	"obiter/internal/execute/trial"
	"obiter/internal/generate/plan"
	"obiter/internal/input/config"
	"obiter/internal/input/oad"
	"obiter/internal/results/compare"
	"obiter/internal/results/record"
)

// retrial is a run of some cases of the last run, whose answers become part of it.
type retrial struct {
	was     *compare.Run
	chosen  map[string]bool // cases
	dropped map[string]bool // cases and operations that the plan no longer has
	fresh   int             // cases that it has now
	whole   bool            // nothing is missing then
	same    bool            // it goes on with the last run, which is the same one then
	file    string          // of the run
}

// tried is what is known of a case of the last run.
type tried struct {
	operation, provenBy string
	kind                exchange.Kind
	wrong               bool
}

// againFlags are the options of try for going on from the last run.
func againFlags() []cli.Flag {
	return []cli.Flag{
		&cli.BoolFlag{Name: "failed", Usage: "send only what failed in the last run, and tell what is otherwise now; the rest of what is known stays"},
		&cli.BoolFlag{Name: "watch", Usage: "at a terminal: go on, with what failed, when the service was away and is back, the description or the configuration changed, or Enter is pressed"},
		&cli.StringSliceFlag{Name: "case", Usage: "send only the case with this `ID` (repeatable), in the same way"},
	}
}

// wantsAgain reports whether some cases of the last run are to be sent again.
func wantsAgain(c *cli.Command) bool { return c.Bool("failed") || len(c.StringSlice("case")) > 0 }

// retrial narrows a trial to cases of the last run: those that failed, those that are named,
// and with those that failed what is new in the plan.
func (a *app) retrial(c *cli.Command, conf *config.Config, doc *oad.Document, opt *trial.Options) (*retrial, error) {
	for _, name := range []string{"shard", "controls", "rule", "without", "budget"} {
		if c.IsSet(name) {
			return nil, usage("--"+name+" does not go with --failed or --case", "they repeat what the last run planned")
		}
	}
	last := trial.LastRun("")
	r, err := a.openKnown([]string{last})
	if err != nil {
		return nil, err
	}
	defer r.close()
	out := &retrial{was: compare.New(), chosen: map[string]bool{}, dropped: map[string]bool{}, file: filepath.Join(filepath.Dir(last), "again.ndjson")}
	known := map[string]tried{}
	rep, err := r.judge(nil, func(res record.Result, j judge.Judgement) {
		out.was.Add(res, j)
		known[res.ID] = tried{res.Operation, res.ProvenBy, res.Kind, res.Verdict == judge.Fail || res.Verdict == judge.Form}
	})
	if err != nil {
		return nil, err
	}
	for _, f := range rep.Whole() {
		if out.was.AddRun(f); f.Finding.Severity == judge.Error {
			t := known[f.Case]
			t.wrong = true
			known[f.Case] = t
		}
	}
	head := r.merge.Head
	if head.Description != doc.Name {
		return nil, usage(fmt.Sprintf("the last run is of %s, and this description is %s", head.Description, doc.Name), "name that one, or try all of this one first")
	}
	if why := r.incomplete(); why != "" {
		fmt.Fprintf(a.streams.Err, "warning: the last run: %s; only what it answered is known\n", why)
	}
	if err := repeat(c, head, opt); err != nil {
		return nil, err
	}
	planned, err := plannedCases(doc, conf, opt.Plan)
	if err != nil {
		return nil, err
	}
	changed := head.Digest != doc.Digest() || head.Config != conf.Digest() || head.Program != version()
	if err := out.choose(c, known, planned, changed, head.Options == narrowing(c)); err != nil {
		return nil, err
	}
	opt.Plan.Cases, opt.Plan.Within = out.chosen, map[string]bool{}
	for id := range out.chosen {
		opt.Plan.Within[planned[id]] = true
		if by := known[id].provenBy; by != "" {
			opt.Plan.Within[by] = true
		}
	}
	opt.Head.Options, opt.Head.Shard = head.Options, head.Shard
	opt.Files[0] = out.file
	return out, nil
}

var budgetOf = regexp.MustCompile(`(?:^| )--budget ([0-9]+)`)

// repeat gives a trial the plan of the last run: its depth, its seed, its budget.
func repeat(c *cli.Command, head record.Head, opt *trial.Options) error {
	if c.IsSet("depth") && c.String("depth") != head.Depth || c.IsSet("seed") && c.Uint64("seed") != head.Seed {
		return usage(fmt.Sprintf("the last run was of depth %s with seed %d", head.Depth, head.Seed), "leave --depth and --seed out, or try all of it with these first")
	}
	depth := depths[head.Depth]
	opt.Plan.Depth, opt.Plan.Seed, opt.Plan.Budget = depth, head.Seed, budgets[depth]
	if m := budgetOf.FindStringSubmatch(head.Options); m != nil {
		opt.Plan.Budget, _ = strconv.Atoi(m[1])
	}
	opt.Head.Depth = head.Depth
	return nil
}

// plannedCases are the cases of a plan with their operations, whatever credentials there are.
func plannedCases(doc *oad.Document, conf *config.Config, opt plan.Options) (map[string]string, error) {
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
func (x *retrial) choose(c *cli.Command, known map[string]tried, planned map[string]string, changed, same bool) error {
	for _, text := range c.StringSlice("case") {
		id, err := caseNamed(strings.ToLower(text), planned, known)
		if err != nil {
			return err
		}
		x.chosen[id] = true
	}
	operations := map[string]bool{}
	for _, name := range planned {
		operations[name] = true
	}
	narrowed := len(c.StringSlice("only"))+len(c.StringSlice("skip"))+len(c.StringSlice("tag")) > 0
	for id, t := range known {
		_, there := planned[id]
		switch {
		case there && t.wrong && c.Bool("failed"):
			x.chosen[id] = true
		case there || narrowed || !changed:
		case !operations[t.operation]:
			x.dropped[t.operation], x.dropped[id] = true, true
		case t.kind != exchange.Control: // controls may be made for the occasion
			x.dropped[id] = true
		}
	}
	if !changed || !same || !c.Bool("failed") {
		return nil
	}
	for id := range planned {
		if _, was := known[id]; !was {
			x.chosen[id] = true
			x.fresh++
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
		return "", usage(fmt.Sprintf("%q is the beginning of several cases", text), "which one: "+some(found, 8))
	case was:
		return "", usage(fmt.Sprintf("the case %s is in the last run, and the plan no longer has it", text), "obiter try --failed drops what is no longer there")
	}
	return "", usage(fmt.Sprintf("the plan has no case %q", text), "obiter try prints the ids of what it found; obiter cases lists all")
}

// tellAgain says before anything is sent what has become of the plan.
func (a *app) tellAgain(x *retrial) {
	cases := 0
	for id := range x.dropped {
		if caseID.MatchString(id) {
			cases++
		}
	}
	if cases > 0 {
		fmt.Fprintf(a.streams.Err, "the plan no longer has %s of the last run; what is known of them is dropped\n", plural(cases, "case"))
	}
	if x.fresh > 0 {
		fmt.Fprintf(a.streams.Err, "the plan has %s that the last run had not; they are sent, too\n", plural(x.fresh, "case"))
	}
}

var caseID = regexp.MustCompile(`^[0-9a-f]{10}$`)

// nothingAgain says that there is nothing to send. What the plan no longer has is dropped
// all the same.
func (a *app) nothingAgain(x *retrial, r result) error {
	if r.format == "text" {
		fmt.Fprintln(a.streams.Out, "Nothing failed in the last run, so nothing is sent.")
	}
	if len(x.dropped) == 0 && r.format != "json" {
		return nil
	}
	x.file = ""
	return a.outcomeAgain(x, &trial.Outcome{}, r, nil)
}

// outcomeAgain makes the answers of a trial part of the last run, and tells what is
// otherwise; the error is the one that ended the trial.
func (a *app) outcomeAgain(x *retrial, out *trial.Outcome, r result, ended error) error {
	d, err := a.merge(x, &r)
	if err != nil {
		return err
	}
	r.failed, r.stuck, r.newlyWrong = out.Failed, out.Stuck, d.Wrong
	switch r.format {
	case "json":
		if err := writeOutcome(a.streams.Out, r); err != nil {
			return err
		}
	case "text":
		a.stale(r.report)
		fmt.Fprintln(a.streams.Out)
		a.difference(*d, false)
		found, missed := reached(r.report.Entries())
		a.totals(r.report, found, missed, r.file)
	}
	return a.ended(r, ended)
}

// merge makes the answers part of the last run, judges it anew, and tells what is otherwise.
func (a *app) merge(x *retrial, into *result) (*compare.Difference, error) {
	last := trial.LastRun("")
	r := &runs{names: []string{last}, whole: x.whole}
	if x.file != "" {
		r.names = append(r.names, x.file)
	}
	r.merge.AnyVersion, r.merge.Dropped = true, x.dropped
	var err error
	if r.known, err = a.known(); err != nil {
		return nil, err
	}
	if _, err := openInto(r); err != nil {
		return nil, err
	}
	defer r.close()
	if _, err := r.open(); err != nil {
		return nil, err
	}
	made, err := os.OpenFile(last+".new", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return nil, &trial.FileError{Name: last, Cause: errors.Unwrap(err)}
	}
	is := compare.New()
	rep, err := a.keepJudged(r, made, is.Add)
	if err = errors.Join(err, made.Close()); err != nil {
		return nil, errors.Join(err, os.Remove(made.Name()))
	}
	for _, f := range rep.Whole() {
		is.AddRun(f)
	}
	put := trial.Replace
	if x.same {
		put = func(last, made string) error { return os.Rename(made, last) }
	}
	if err := put(last, made.Name()); err != nil {
		return nil, err
	}
	d := compare.Of(x.was, is)
	head := r.merge.Head
	into.report, into.description, into.at, into.file, into.incomplete = rep, head.Description, head.At, last, r.incomplete()
	return &d, x.remove()
}

// remove takes the file of the trial away.
func (x *retrial) remove() error {
	if x.file == "" {
		return nil
	}
	return os.Remove(x.file)
}
