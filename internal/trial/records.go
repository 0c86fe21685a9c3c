package trial

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"obiter/internal/config"
	"obiter/internal/document"
	"obiter/internal/exchange"
	"obiter/internal/fixture"
	"obiter/internal/instance"
	"obiter/internal/judge"
	"obiter/internal/plan"
)

// fixtures makes what must be there first. The plan and the sender are made anew
// with the values kept. What comes back takes it all away again.
func (t *trial) fixtures(ctx context.Context) (undo func(), err error) {
	var needed []config.Fixture
	for _, f := range t.conf.Needed(slices.Collect(t.plan.Names())) {
		if t.conf.Often(f) == "run" {
			needed = append(needed, f)
		}
	}
	t.newBench()
	undo = func() { t.undo(ctx, t.bench) }
	var making []string
	for _, f := range needed {
		making = append(making, f.Send)
	}
	t.bench.Look(ctx, append(making, slices.Collect(t.plan.Names())...))
	if err := t.bench.Make(ctx, needed); err != nil {
		return undo, err
	}
	if err := t.instead(ctx); err != nil {
		return undo, err
	}
	t.served()
	if t.plan, err = plan.New(t.opt.Document, t.configured(t.bench.Values)); err != nil {
		return undo, err
	}
	for _, w := range t.plan.Warnings {
		t.warn("%v; %s", w, w.Hint)
	}
	return undo, t.learn(t.bench.Values)
}

// instead gives up the fixtures that failed, and reads records that are there in their
// place. Those that were not tried for want of them are made then.
func (t *trial) instead(ctx context.Context) error {
	told := 0
	// forget tells of those that failed since the last time.
	forget := func(also func(fixture.Failure) bool) ([]config.Fixture, error) {
		var gone []config.Fixture
		for _, f := range t.bench.Failed[told:] {
			if !also(f) {
				continue
			}
			if err := t.unmade(f); err != nil {
				return nil, err
			}
			gone = append(gone, f.Fixture)
		}
		return t.conf.Forget(t.opt.Document, gone), nil
	}
	refused := func(f fixture.Failure) bool { return !f.Lacks }
	instead, err := forget(refused)
	if err != nil {
		return err
	}
	if len(instead) > 0 {
		told = len(t.bench.Failed)
		if err := t.bench.Make(ctx, instead); err != nil {
			return err
		}
		if _, err := forget(refused); err != nil { // the lists are empty
			return err
		}
	}
	if err := t.bench.Again(ctx); err != nil {
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

// served takes operations in again whose record could not be made, and that can do with
// one that is there, and tells of the fixtures that failed.
func (t *trial) served() {
	for _, o := range t.plan.Selected() {
		if _, without := t.without[o.Name()]; without && t.conf.Addressed(o.Name(), t.bench.Values) && t.conf.Foreign(o.Name()) == "" && !t.conf.Lacks(o.Name()) {
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

// fixturePlan plans a request of a fixture. What is undone (Nth is 0) is undone
// with the credentials of the run.
func (t *trial) fixturePlan(need fixture.Need) (*plan.Plan, error) {
	if need.Nth > 0 {
		if err := t.learn(need.Values); err != nil {
			return nil, err
		}
	}
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

// unmade leaves out the operations that need a fixture which failed. Where all need one
// of the file, there is nothing to go on with.
func (t *trial) unmade(f fixture.Failure) error {
	users := failure{Failure: f}
	for _, o := range t.plan.Selected() {
		reads := strings.HasPrefix(f.Fixture.Send, "GET ") && !t.conf.Mentions(o.Name(), f.Fixture) // what the description says is as good
		if !reads && t.conf.Requires(o.Name(), f.Fixture) {
			users.users = append(users.users, o.Name())
			t.without[o.Name()] = lacking(f)
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

// lacking says why an operation is left out for want of a fixture.
func lacking(f fixture.Failure) string {
	if f.Fixture.Implied {
		return fmt.Sprintf("it needs a record of %s, and %v", f.Fixture.Send, f.Err)
	}
	return fmt.Sprintf("it needs the fixture %q, which could not be made", f.Fixture.Name)
}

// How long taking records away may take: those of an operation, and all that there are
// after an interrupt; and of how many that stay each is told.
const (
	undoTime    = 30 * time.Second
	hurriedUndo = 10 * time.Second
	MaxListed   = 20
)

// undo takes away what a set of records holds and tells what is left.
func (t *trial) undo(ctx context.Context, records *fixture.Records) {
	ctx, cancel := t.undoing(ctx)
	defer cancel()
	t.tell(records.Undo(ctx))
}

// endKey is the key of the context that ends all.
type endKey struct{}

// WithEnd gives a context the one that ends even what is still done after the first has
// ended: taking records away.
func WithEnd(ctx, end context.Context) context.Context { return context.WithValue(ctx, endKey{}, end) }

// undoing is the context in which records are taken away. It goes on after an interrupt,
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

// undoDeadline is when taking away ends: a while after it was first asked.
func (t *trial) undoDeadline() time.Time {
	t.ending.Lock()
	defer t.ending.Unlock()
	if t.undoBy.IsZero() {
		t.undoBy = time.Now().Add(hurriedUndo)
	}
	return t.undoBy
}

// restore takes away what the requests of the operation that is being tried made.
func (t *trial) restore(ctx context.Context) {
	ctx, cancel := t.undoing(ctx)
	defer cancel()
	t.tell(t.own.records.UndoTried(ctx))
}

// tell tells of records that are left behind.
func (t *trial) tell(left []fixture.Left) {
	for _, l := range left {
		if l.Failed {
			t.out.Stuck++
		}
		if t.out.Left++; t.out.Left <= MaxListed && t.events.LeftBehind != nil {
			t.events.LeftBehind(t.opt.Secrets.Redact(l.Text))
		}
	}
}

// ownRecords are what the operation that is being tried has for itself.
type ownRecords struct {
	records *fixture.Records
	each    []config.Fixture // made anew for each case
	all     []config.Fixture // made for the operation
	makers  []string         // operations that made what its requests name
}

// forCase are the fixtures that are made anew for a case: what a DELETE with other
// credentials removes must still be there.
func (o *ownRecords) forCase(c exchange.Case) []config.Fixture {
	if len(o.each) == 0 && c.Request.Method == http.MethodDelete && plan.OfCredentials(c) {
		return o.all
	}
	return o.each
}

// ownRecords makes the records that an operation needs for itself, and plans it
// with them. After it, what it created is taken away too.
func (t *trial) ownRecords(ctx context.Context, op *plan.Operation) (*plan.Operation, func(), error) {
	list := t.conf.Own(op.Name())
	records := t.bench.Branch()
	t.own = &ownRecords{records: records, makers: t.conf.MakersOf(op.Name())}
	undo := func() { t.undo(ctx, records) }
	if err := t.learn(t.bench.Values); err != nil { // the one before may have had credentials of its own
		return op, undo, err
	}
	if len(list) == 0 {
		return op, undo, nil
	}
	if err := records.Make(ctx, list); err != nil {
		return op, undo, err
	}
	if len(records.Failed) > 0 {
		failed := records.Failed[0]
		opt := t.configured(records.Values)
		opt.Without = maps.Clone(opt.Without)
		if opt.Without[op.Name()] = lacking(failed); !failed.Fixture.Implied {
			t.out.Failed = append(t.out.Failed, failed.Fixture.Name)
			t.warn("%v", failed.Err)
		}
		return t.plan.Renewed(op, opt), undo, nil
	}
	t.own.all = list
	for _, f := range list {
		if t.conf.Often(f) == "case" {
			t.own.each = append(t.own.each, f)
		}
	}
	return t.plan.Renewed(op, t.configured(records.Values)), undo, t.learn(records.Values)
}

// one sends a case, on records of its own where it is to have them, and remembers
// the record that it makes.
func (t *trial) one(ctx context.Context, c exchange.Case) exchange.Exchange {
	own := t.own
	records := own.records
	if len(own.forCase(c)) > 0 {
		var err error
		c, records, err = t.fresh(ctx, own, c)
		defer t.release(ctx, records)
		if err != nil {
			return exchange.Exchange{Case: c, Response: exchange.Answer{Err: err.Error()}}
		}
	}
	c.MadeBy = own.makers
	noted := own.records.Sending(c)
	t.noteSent(c.ID)
	a := t.send(ctx, c)
	t.died(&a)
	t.handsOut(c, a)
	own.records.Adopt(ctx, c, a, noted)
	records.Removed(c, a)
	return exchange.Exchange{Case: c, Response: a}
}

// around sends a case to records of its own, which are read before and after it.
// False where cases have none.
func (t *trial) around(ctx context.Context, reader, c exchange.Case) (seen judge.Readings, ok bool) {
	own := t.own
	if len(own.each) == 0 {
		return seen, false
	}
	values := maps.Clone(own.records.Values)
	c, records, err := t.fresh(ctx, own, c)
	defer t.release(ctx, records)
	reader = own.records.Replace(reader, values, records.Values)
	read := func() (v any) {
		a := t.send(ctx, reader)
		if a.Status != http.StatusOK || a.Truncated {
			ok = false
			return nil
		}
		v, err := instance.Decode(a.Body)
		ok = ok && err == nil
		return t.opt.Secrets.Value(v)
	}
	if ok = err == nil; !ok {
		return seen, false
	}
	seen.First = read()
	seen.Second = read()
	seen.Before = seen.Second
	a := t.send(ctx, c)
	seen.After = read()
	if judge.IsReadOnly(c) { // what it is about is stored, if at all, where it is accepted
		return seen, ok && a.Success()
	}
	return seen, ok && a.Err == "" && a.Status >= http.StatusBadRequest
}

// fresh makes the records of one case, and puts their values into it. They have to be
// released.
func (t *trial) fresh(ctx context.Context, own *ownRecords, c exchange.Case) (exchange.Case, *fixture.Records, error) {
	t.making.Lock()
	records := own.records.Branch()
	records.Settled = true
	err := records.Make(ctx, own.forCase(c))
	t.making.Unlock()
	if err == nil && len(records.Failed) > 0 {
		err = records.Failed[0].Err
	}
	if err != nil {
		return c, records, err
	}
	return own.records.Replace(c, own.records.Values, records.Values), records, nil
}

// release takes the records of one case away.
func (t *trial) release(ctx context.Context, records *fixture.Records) {
	t.making.Lock()
	defer t.making.Unlock()
	t.undo(ctx, records)
}
