package trial

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/evaluate/judge"
	"obiter/internal/execute/run"
	"obiter/internal/generate/plan"
	"obiter/internal/input/config"
	"obiter/internal/input/document"
	"obiter/internal/results/record"
	"obiter/internal/target/fixture"
	"obiter/internal/target/send"
)

// fixtures makes what must be there first. The plan and the sender are made anew
// with the values kept. What comes back takes it all away again.
func (t *trial) fixtures(ctx context.Context) (undo func(), err error) {
	var needed []config.Fixture
	for _, f := range t.conf.Needed(slices.Collect(t.plan.Names())) {
		if t.conf.Scope(f) == "run" {
			needed = append(needed, f)
		}
	}
	t.newRecords()
	made := map[string]bool{}
	if len(t.kept.remnants) > 0 { // what is left of an earlier run goes first: ids may begin anew
		doors := t.conf.ForCredentials(t.removers())
		if err := t.records.Make(ctx, doors); err != nil {
			return func() { t.undo(ctx, t.records) }, err
		}
		for _, f := range doors {
			made[f.Name] = true
		}
		if gone := t.takeAway(ctx, false, false); gone > 0 {
			t.warn("an earlier run was ended before it deleted its records; deleted now: %d", gone)
		}
	}
	needed = slices.DeleteFunc(needed, func(f config.Fixture) bool { return made[f.Name] })
	undo = func() {
		t.undo(ctx, t.records)
		t.appeared(ctx)
	}
	var making []string
	for _, f := range needed {
		making = append(making, f.Send)
	}
	t.records.Look(ctx, append(making, slices.Collect(t.plan.Names())...))
	if err := t.records.Make(ctx, needed); err != nil {
		return undo, err
	}
	if err := t.useExistingRecords(ctx); err != nil {
		return undo, err
	}
	t.unskip()
	if t.plan, err = plan.New(t.opt.Document, t.configured(t.records.Values)); err != nil {
		return undo, err
	}
	for _, w := range t.plan.Warnings {
		t.warn("%v; %s", w, w.Hint)
	}
	return undo, nil
}

// useExistingRecords gives up the fixtures that failed, and reads records that are there in their
// place. Those that were not tried for want of them are made then.
func (t *trial) useExistingRecords(ctx context.Context) error {
	told := 0
	// forget tells of those that failed since the last time.
	forget := func(also func(fixture.Failure) bool) ([]config.Fixture, error) {
		var gone []config.Fixture
		for _, f := range t.records.Failed[told:] {
			if !also(f) {
				continue
			}
			if err := t.skipDependents(f); err != nil {
				return nil, err
			}
			gone = append(gone, f.Fixture)
		}
		return t.conf.Forget(t.opt.Document, gone), nil
	}
	refused := func(f fixture.Failure) bool { return !f.Skipped }
	instead, err := forget(refused)
	if err != nil {
		return err
	}
	if len(instead) > 0 {
		told = len(t.records.Failed)
		if err := t.records.Make(ctx, instead); err != nil {
			return err
		}
		if _, err := forget(refused); err != nil { // the lists are empty
			return err
		}
	}
	if err := t.records.Again(ctx); err != nil {
		return err
	}
	told = 0
	_, err = forget(func(f fixture.Failure) bool { return !refused(f) || t.conf.Has(f.Fixture) })
	return err
}

// failure is a fixture of the file that could not be made.
type failure struct {
	fixture.Failure
	users    []string // operations that need it
	unsigned int      // how many lack their credentials for it
}

// unskip takes operations in again whose record could not be made, and that can do with
// one that is there, and tells of the fixtures that failed.
func (t *trial) unskip() {
	for _, o := range t.plan.Selected() {
		if _, without := t.without[o.Name()]; without && t.conf.Addressed(o.Name(), t.records.Values) && t.conf.Foreign(o.Name()) == "" && !t.conf.Lacks(o.Name()) {
			delete(t.without, o.Name())
		}
	}
	for _, f := range t.failures {
		left := f.unsigned
		for _, name := range f.users {
			if _, without := t.without[name]; without {
				left++
			}
		}
		switch left {
		case 0:
			t.warn("%v", f.Err)
		case 1:
			t.warn("%v; 1 operation left out", f.Err)
		default:
			t.warn("%v; %d operations left out", f.Err, left)
		}
	}
}

// fixturePlan plans a request of a fixture; Nth is 0 where something is undone.
func (t *trial) fixturePlan(need fixture.Need) (*plan.Plan, error) {
	from := t.opt.Plan
	opt := Configured(plan.Options{Base: from.Base, Seed: from.Seed, Salt: from.Salt + need.Nth<<32, Headers: from.Headers, Authorise: true, PerCase: from.PerCase},
		t.opt.Document, t.conf, need.Values)
	opt.Checked, opt.Without = true, nil
	given := opt.Given
	opt.Given = func(operation string) config.Parameters {
		if operation == need.Operation {
			return need.Parameters
		}
		return given(operation)
	}
	if need.Fresh {
		opt.Seed += need.Nth << 16
	}
	opt.Bodies = map[string]any{}
	if need.Body != nil {
		opt.Bodies[need.Operation] = need.Body
	}
	for _, r := range need.Rules {
		opt.Rules[need.Operation] = slices.DeleteFunc(opt.Rules[need.Operation], func(o config.Rule) bool { return o.Unique == r.Unique })
		opt.Rules[need.Operation] = append(opt.Rules[need.Operation], r)
	}
	if need.Nth == 0 {
		opt.Rules = nil
	}
	return plan.New(t.opt.Document, opt)
}

// configured are the options of the plan when the fixtures are made.
func (t *trial) configured(values map[string]any) plan.Options {
	opt := Configured(t.opt.Plan, t.opt.Document, t.conf, values)
	maps.Copy(opt.Without, t.without)
	return opt
}

// skipDependents leaves out the operations that need a fixture which failed. Where all need one
// of the file, there is nothing to go on with.
func (t *trial) skipDependents(f fixture.Failure) error {
	if f.Fixture.Implied && f.Fixture.Names != "" { // whether a PUT creates a record only a try could show
		return nil
	}
	users := failure{Failure: f}
	for _, o := range t.plan.Selected() {
		reads := strings.HasPrefix(f.Fixture.Send, "GET ") && !t.conf.Mentions(o.Name(), f.Fixture) // what the description says is as good
		if !reads && t.conf.Requires(o.Name(), f.Fixture) {
			users.users = append(users.users, o.Name())
			t.without[o.Name()] = skipReason(f)
		} else if slices.ContainsFunc(o.Security, func(way []string) bool { return t.conf.Authorises(o.Name(), way, f.Fixture) }) {
			users.unsigned++ // whether another way is open shows when it is planned
		}
	}
	if f.Fixture.Implied {
		return nil // each operation that needs it says so
	}
	if len(users.users)+users.unsigned == t.plan.Len() {
		var placed *document.Error
		if errors.As(f.Err, &placed) {
			placed.Problem = t.opt.Secrets.Redact(placed.Problem)
		}
		return f.Err
	}
	t.out.Failed = append(t.out.Failed, f.Fixture.Name)
	t.failures = append(t.failures, users)
	return nil
}

// skipReason says why an operation is left out for want of a fixture.
func skipReason(f fixture.Failure) string {
	if f.Fixture.Implied {
		return fmt.Sprintf("it needs a record of %s, and %v", f.Fixture.Send, f.Err)
	}
	return fmt.Sprintf("it needs the fixture %q, which could not be made", f.Fixture.Name)
}

// How long deleting records may take: those of an operation, and all that there are
// after an interrupt.
const (
	undoTime    = 30 * time.Second
	hurriedUndo = 10 * time.Second
)

// undo deletes what a set of records holds and tells what is left.
func (t *trial) undo(ctx context.Context, records *fixture.Records) {
	ctx, cancel := t.undoing(ctx)
	defer cancel()
	t.revive(ctx)
	t.keepLeft(records.Undo(ctx))
}

// appeared tells what is in the collections now that this run did not create.
func (t *trial) appeared(ctx context.Context) {
	if ctx.Err() != nil {
		return
	}
	ctx, cancel := t.undoing(ctx)
	defer cancel()
	t.keepLeft(t.records.Appeared(ctx))
}

// restoreSetting changes a setting back that an operation changed.
func (t *trial) restoreSetting(ctx context.Context, records *fixture.Records, s *fixture.Setting, operation string) {
	if s == nil {
		return
	}
	ctx, cancel := t.undoing(ctx)
	defer cancel()
	t.keepLeft(records.Restore(ctx, s, func(p *plan.Plan) (exchange.Case, error) { return p.Control(operation) }))
}

// endKey is the key of the context that ends all.
type endKey struct{}

// WithEnd gives a context the one that ends even what is still done after the first has
// ended: deleting records.
func WithEnd(ctx, end context.Context) context.Context { return context.WithValue(ctx, endKey{}, end) }

// undoing is the context in which records are deleted. It goes on after an interrupt,
// until one deadline for all.
func (t *trial) undoing(ctx context.Context) (context.Context, context.CancelFunc) {
	end, ok := ctx.Value(endKey{}).(context.Context)
	if !ok {
		end = context.WithoutCancel(ctx)
	}
	out, cancel := context.WithTimeout(end, undoTime)
	var timer *time.Timer
	begun := make(chan struct{})
	stop := context.AfterFunc(ctx, func() {
		timer = time.AfterFunc(time.Until(t.undoDeadline()), cancel)
		close(begun)
	})
	return out, func() {
		if !stop() {
			<-begun
			timer.Stop()
		}
		cancel()
	}
}

// undoDeadline is when deleting ends: a while after it was first asked.
func (t *trial) undoDeadline() time.Time {
	t.ending.Lock()
	defer t.ending.Unlock()
	if t.undoBy.IsZero() {
		t.undoBy = time.Now().Add(hurriedUndo)
	}
	return t.undoBy
}

// keepLeft keeps what remains, to be told in the end.
func (t *trial) keepLeft(left []fixture.Left) {
	t.telling.Lock()
	defer t.telling.Unlock()
	t.left = append(t.left, left...)
}

// remains tells what remains after a run: a line for each operation that created it.
func (t *trial) remains() {
	t.telling.Lock()
	defer t.telling.Unlock()
	for _, l := range t.left {
		if l.Perhaps > 0 || l.Appeared {
			continue
		}
		n := max(l.Unknown, 1)
		if t.out.Left += n; l.Failed {
			t.out.Stuck += n
		}
	}
	if t.events.Remains == nil {
		return
	}
	for _, line := range remainders(t.left, t.kept.name) {
		t.events.Remains(t.opt.Secrets.Redact(line))
	}
}

// work is an operation that is tried, with the records that it has for itself.
type work struct {
	*trial
	operation string // its name
	records   *fixture.Records
	sender    *send.Sender     // knows the values of these
	each      []config.Fixture // made anew for each case
	all       []config.Fixture // made for the operation
	again     func() (refused, known bool)
	valid     atomic.Pointer[exchange.Exchange] // a valid request that was accepted
	stopped   atomic.Pointer[string]            // why nothing more is to be sent; nil: more may be
	makers    []string                          // operations that made what its requests name
	lane      *send.Lane                        // of its requests
}

// forCase are the fixtures that are made anew for a case: what a DELETE with other
// credentials removes must still be there.
func (w *work) forCase(c *exchange.Case) []config.Fixture {
	if len(w.each) == 0 && c.Request.Method == http.MethodDelete && plan.OfCredentials(*c) {
		return w.all
	}
	return w.each
}

// begin makes the records that an operation needs for itself, and plans it with them.
// After it, what it created is deleted too.
func (t *trial) begin(ctx context.Context, op *plan.Operation) (run.Work, error) {
	list := t.conf.Own(op.Name())
	w := &work{trial: t, operation: op.Name(), records: t.records.Branch(), makers: t.conf.MakersOf(op.Name()), lane: t.opt.Send.Service.Lane()}
	w.records.SendBy(t.sendIn(w.lane))
	w.again = sync.OnceValues(func() (bool, bool) { return w.twice(ctx) })
	var setting *fixture.Setting
	if t.conf.Operations[op.Name()].Allow {
		setting = w.records.Setting(ctx, op.Name())
	}
	if op.Method == http.MethodPost {
		w.records.Look(ctx, []string{op.Name()})
	}
	stops := func() string {
		if why := w.stopped.Load(); why != nil {
			return *why
		}
		return ""
	}
	out := run.Work{Operation: op, Stops: stops, Lane: w.lane, Send: w.sendWithRecords, Around: w.around, Stored: w.stored, Restore: w.restore, Undo: func() {
		t.restoreSetting(ctx, w.records, setting, op.Name())
		t.undo(ctx, w.records)
		t.kept.journal.Over(op.Name())
	}}
	if len(list) == 0 {
		w.sender = t.senderFor(w.records.Values).In(w.lane)
		return out, nil
	}
	if err := w.records.Make(ctx, list); err != nil {
		return out, err
	}
	w.sender = t.senderFor(w.records.Values).In(w.lane)
	opt := t.configured(w.records.Values)
	if len(w.records.Failed) > 0 {
		failed := w.records.Failed[0]
		opt.Without = maps.Clone(opt.Without)
		if opt.Without[op.Name()] = skipReason(failed); !failed.Fixture.Implied {
			out.Report = func() { t.failed(failed) }
		}
	} else {
		w.all = list
		for _, f := range list {
			if t.conf.Scope(f) == "case" {
				w.each = append(w.each, f)
			}
		}
	}
	out.Operation = op.Renewed(opt)
	return out, nil
}

// failed tells of a fixture that could not be made.
func (t *trial) failed(f fixture.Failure) {
	t.warn("%v", f.Err)
	t.telling.Lock()
	defer t.telling.Unlock()
	t.out.Failed = append(t.out.Failed, f.Fixture.Name)
}

// restore deletes what the requests of the operation made.
func (w *work) restore(ctx context.Context) {
	ctx, cancel := w.undoing(ctx)
	defer cancel()
	w.keepLeft(w.records.UndoTried(ctx))
}

// sendWithRecords sends a case, on records of its own where it is to have them, and remembers
// the record that it makes.
func (w *work) sendWithRecords(ctx context.Context, c exchange.Case) exchange.Exchange {
	records, sender := w.records, w.sender
	if len(w.forCase(&c)) > 0 {
		var err error
		c, records, err = w.fresh(ctx, c)
		defer w.undo(ctx, records)
		if err != nil {
			return exchange.Exchange{Case: c, Response: exchange.Answer{Err: err.Error()}}
		}
		sender = w.senderFor(records.Values).In(w.lane)
	}
	if fixture.Changes(c.Request.Method) && len(c.Flaws) == 1 && c.Flaws[0].Rule == "unknown-id" {
		var why string
		if c, why = w.retired(ctx, c); why != "" {
			return exchange.Exchange{Case: c, Response: exchange.Answer{Err: why, NotSent: true}}
		}
	}
	c.MadeBy = w.makers
	c = records.Keeping(records.Current(c))
	w.noteSent(c.ID)
	return w.renewal.deliver(ctx, c, func(e exchange.Exchange) exchange.Exchange {
		defer w.change(ctx, w.lane, records, &e)()
		if why := records.Withhold(ctx, &e, w.again); why != "" {
			e.Response = exchange.Answer{Err: why, NotSent: true}
			return e
		}
		if e.Expect.Class.SuccessIsRight() {
			records.Foresee(ctx, &e)
		}
		noted := w.records.Sending(&e.Case)
		e.Response = w.dispatch(ctx, sender, records, &e.Case, nil)
		if now := records.Current(e.Case); e.Response.Status == http.StatusNotFound && now.Request.URL != e.Request.URL { // renamed meanwhile
			e.Case = now
			e.Response = w.dispatch(ctx, sender, records, &e.Case, nil)
		}
		records.Renamed(ctx, &e)
		w.died(&e.Response)
		w.learnTokens(&e.Case, &e.Response)
		w.records.Sent(&e)
		w.records.Refused(&e)
		if why := w.noCreation(ctx, records, &e); why != "" {
			w.stopped.Store(&why)
			w.records.Journal.Gone(noted)
			return e
		}
		w.records.Adopt(ctx, &e, noted)
		records.Removed(&e.Case, &e.Response)
		return e
	})
}

// noCreation says why nothing more of an operation is to be sent: its first valid request was
// accepted, and the answer does not show that it created a record, as only the description says.
func (w *work) noCreation(ctx context.Context, records *fixture.Records, e *exchange.Exchange) string {
	if e.Kind != exchange.Control || !e.Response.Success() || e.Request.Method != http.MethodPost || w.valid.Load() != nil {
		return ""
	}
	sent := *e
	if !w.valid.CompareAndSwap(nil, &sent) || !w.conf.Supposed(e.Operation) || records.ShowsCreation(ctx, e) || ctx.Err() != nil {
		return ""
	}
	return fmt.Sprintf("its answer, %s, does not show that it created a record, so it may change what is there; if it may be sent: operations: { %s: { allow: true } } in obiter.yaml", judge.StatusText(e.Response.Status), e.Operation)
}

// stored are the cases that were refused although their records are there.
func (w *work) stored(ctx context.Context) (out []record.State) {
	for _, s := range w.records.StoredAnyway(ctx, w.operation) {
		out = append(out, record.State{Case: s.Case, Seen: judge.Readings{After: w.opt.Secrets.Value(s.Shown), By: s.By}})
	}
	return out
}

// twice sends the first valid request that was accepted once more, as it was: a service that
// takes it overwrites what is there, or does not care for names. False where there is none.
func (w *work) twice(ctx context.Context) (refused, known bool) {
	first := w.valid.Load()
	if first == nil {
		return false, false
	}
	noted := w.records.Sending(&first.Case)
	e := exchange.Exchange{Case: first.Case}
	e.Response = w.dispatch(ctx, w.sender, w.records, &e.Case, nil)
	w.records.Adopt(ctx, &e, noted)
	return !e.Response.Success(), e.Response.Err == ""
}

// retired puts the id of a record that was created and deleted again into the address of a case
// that is to name nothing: no record of somebody else has it. It says why there is none.
func (w *work) retired(ctx context.Context, c exchange.Case) (exchange.Case, string) {
	f, ok := w.conf.FixtureOf(w.conf.TargetOf(c.Operation))
	if !ok {
		return c, "no record can be created and deleted for it"
	}
	records := w.records.Branch()
	records.Settled = true
	defer w.undo(ctx, records)
	if err := records.Make(ctx, []config.Fixture{f}); err != nil {
		return c, err.Error()
	}
	if len(records.Failed) > 0 {
		return c, records.Failed[0].Err.Error()
	}
	id, why := records.Retire(ctx, f)
	if why != "" {
		return c, why
	}
	return fixture.Readdressed(c, id), ""
}

// around sends a case to records of its own, which are read before and after it.
// False where cases have none.
func (w *work) around(ctx context.Context, reader, c exchange.Case) (seen judge.Readings, ok bool) {
	if len(w.each) == 0 {
		return seen, false
	}
	values := maps.Clone(w.records.Values)
	c, records, err := w.fresh(ctx, c)
	defer w.undo(ctx, records)
	reader = w.records.Replace(reader, values, records.Values)
	sender := w.senderFor(records.Values).In(w.lane)
	read := func() (v any) {
		a := w.dispatch(ctx, sender, records, &reader, nil)
		if a.Status != http.StatusOK || a.Truncated {
			ok = false
			return nil
		}
		v, err := instance.Decode(a.Body)
		ok = ok && err == nil
		return w.opt.Secrets.Value(v)
	}
	if ok = err == nil; !ok {
		return seen, false
	}
	seen.First = read()
	seen.Second = read()
	seen.Before = seen.Second
	a := w.dispatch(ctx, sender, records, &c, nil)
	seen.After = read()
	if judge.IsReadOnly(c) { // what it is about is stored, if at all, where it is accepted
		return seen, ok && a.Success()
	}
	return seen, ok && a.Err == "" && a.Status >= http.StatusBadRequest
}

// fresh makes the records of one case, and puts their values into it. They have to be
// deleted.
func (w *work) fresh(ctx context.Context, c exchange.Case) (exchange.Case, *fixture.Records, error) {
	records := w.records.Branch()
	records.Settled = true
	err := records.Make(ctx, w.forCase(&c))
	if err == nil && len(records.Failed) > 0 {
		err = records.Failed[0].Err
	}
	if err != nil {
		return c, records, err
	}
	return w.records.Replace(c, w.records.Values, records.Values), records, nil
}
