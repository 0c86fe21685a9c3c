// Package trial tries a service: it makes the records that a plan needs, carries
// the plan out, keeps the run in files, and takes everything away again. It is
// what connects the configuration and a run; its caller turns arguments
// into Options and Events into words.
package trial

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"obiter/internal/core/exchange"
	"obiter/internal/core/secret"
	"obiter/internal/evaluate/layout"
	"obiter/internal/execute/run"
	"obiter/internal/generate/plan"
	"obiter/internal/input/config"
	"obiter/internal/input/oad"
	"obiter/internal/input/sources"
	"obiter/internal/results/record"
	"obiter/internal/results/report"
	"obiter/internal/target/fixture"
	"obiter/internal/target/send"
	"obiter/internal/target/service"
)

// Options say what is tried and how.
type Options struct {
	Config   *sources.Sources
	Document *oad.Document
	Plan     plan.Options // what the command line selects
	Base     *url.URL     // of the service
	Send     send.Options // Headers are those of the command line
	Parallel int          // requests in flight
	Running  bool         // the service runs: it is not started, and has no log
	Secrets  *secret.Set  // what nothing is written with; may be nil
	Head     record.Head  // of the run file; the trial adds what it knows
	Files    []string     // where the run is kept; may be empty
	Folder   string       // where the records that are made are noted, and one run at a time is; empty: nowhere
	// KeepBodies says that all of an answer that is read is kept and judged, and not only its
	// beginning.
	KeepBodies bool
	Copy       io.Writer // takes the run file, too; may be nil
	Known      run.Known // what is counted apart
	Brief      bool      // the report need tell no more than its lines and entries
	Alone      bool      // one case is in flight at a time: if the service ends, it was that one
}

// Events are told as they happen, by one goroutine at a time. Each may be nil.
type Events struct {
	Begun    func(p *plan.Plan)                          // everything that is needed is there
	Warning  func(text string)                           // something could not be made, and what follows
	Progress func(done int)                              // after each case
	Finished func(op *plan.Operation, line *report.Line) // after each operation
	Revised  func(lines []*report.Line)                  // in the end: operations whose outcome is not what it was when they were finished
	Remains  func(text string)                           // what remains after the run, in the end: a line for each operation
	Service  func(text string)                           // what becomes of a service that is started
}

// Outcome is what a trial came to.
type Outcome struct {
	Report *report.Report // nil: nothing was sent
	Failed []string       // names of fixtures that could not be made
	Left   int            // records that stay
	Stuck  int            // of those: records that should have been deleted
}

// FileError is a file or folder that the run cannot be kept in.
type FileError struct {
	Name  string
	Cause error
}

func (e *FileError) Error() string {
	return fmt.Sprintf("cannot write the run file %s: %v", e.Name, e.Cause)
}

func (e *FileError) Unwrap() error { return e.Cause }

// trial is one run with everything it needs.
type trial struct {
	opt    Options
	conf   *sources.Sources
	plan   *plan.Plan
	events Events
	out    Outcome

	records  *fixture.Records  // of the run
	renewal  renewal           // of values that are new in each request
	sender   *send.Sender      // knows no values
	failures []failure         // fixtures of the file that could not be made
	without  map[string]string // operations that are left out because a fixture failed, and why

	log         *serviceLog      // of the service; nil: it is not known
	ended       sync.Once        // of what is told when it ends by itself
	dead        atomic.Bool      // it did, and the run is over
	revived     sync.Once        // it was started again, to delete records
	stopRevived func()           // ends that one; nil: there is none
	process     *service.Process // that Obiter started; nil: the service runs by itself
	kept        keeping
	left        []fixture.Left // what remains, so far
	undoBy      time.Time      // when deleting ends, after an interrupt
	ending      sync.Mutex     // for undoBy
	telling     sync.Mutex     // for events and what they count
	learning    sync.Mutex     // for senders
	senders     []cachedSender // the last ones
}

// cachedSender is a sender that knows values, with what its headers and credentials are made of.
type cachedSender struct {
	sender   *send.Sender
	expanded []string
}

// maxSenders bounds how many are kept: operations that are tried side by side may each have
// credentials of their own.
const maxSenders = 64

// Run tries the service. The error is that of an interrupt, of a file, of an
// address that nothing answers at, or of what the configuration cannot be tried
// with; what was found until then is in the outcome all the same.
func Run(ctx context.Context, opt Options, events Events) (*Outcome, error) {
	t := newTrial(opt, events)
	if err := t.ready(); err != nil {
		return &t.out, err
	}
	defer t.sender.Close()
	if err := t.keep(); err != nil {
		return &t.out, err
	}
	err := t.do(ctx)
	t.remains()
	return &t.out, errors.Join(err, t.releaseFolder())
}

func newTrial(opt Options, events Events) *trial {
	t := &trial{opt: opt, conf: opt.Config, events: events, without: map[string]string{}}
	t.opt.Send.Service, t.opt.Send.Parallel = &send.Service{}, max(opt.Parallel, 1)
	t.opt.Send.Slower = func(text string) { t.warn("%s", text) }
	if t.opt.Secrets == nil {
		t.opt.Secrets = &secret.Set{}
	}
	return t
}

// sendIn sends cases in a lane, with headers and credentials that know the values.
func (t *trial) sendIn(lane *send.Lane) fixture.Send {
	return func(ctx context.Context, values map[string]any, c exchange.Case, target fixture.Target) exchange.Exchange {
		sender := t.senderFor(values).In(lane)
		records := t.records.With(values)
		records.SendBy(t.sendIn(lane))
		return t.renewal.deliver(ctx, c, func(e exchange.Exchange) exchange.Exchange {
			if target == nil {
				defer t.change(ctx, lane, records, &e)()
				if why := records.Withhold(ctx, &e, func() (bool, bool) { return false, false }); why != "" {
					e.Response = exchange.Answer{Err: why, NotSent: true}
					return e
				}
			}
			e.Response = t.dispatch(ctx, sender, records, &e.Case, target)
			return e
		})
	}
}

// change waits until no other request changes the record that an exchange is to change, and puts
// its address as it is then into it. It has to be done with before the next one may.
func (t *trial) change(ctx context.Context, lane *send.Lane, records *fixture.Records, e *exchange.Exchange) (done func()) {
	e.Case = records.Current(e.Case)
	if m := e.Request.Method; m != http.MethodPut && m != http.MethodPatch && m != http.MethodDelete { // RFC 9110, section 9.3; RFC 5789
		return func() {}
	}
	for {
		address, _, _ := strings.Cut(e.Request.URL, "?")
		done, err := lane.Change(ctx, address)
		if err != nil {
			return func() {}
		}
		now := records.Current(e.Case)
		if now.Request.URL == e.Request.URL {
			return done
		}
		done() // it was renamed meanwhile
		e.Case = now
	}
}

// dispatch is the only way to the service. What changes or deletes something is sent where it is
// known to be of this run, or named by the configuration, and nowhere else.
func (t *trial) dispatch(ctx context.Context, sender *send.Sender, records *fixture.Records, c *exchange.Case, target fixture.Target) exchange.Answer {
	var err error
	if target == nil {
		target, err = records.Target(c)
	}
	if err == nil {
		err = fixture.Permit(c, target)
	}
	if err != nil {
		return exchange.Answer{Err: err.Error(), NotSent: true}
	}
	return sender.Send(ctx, *c)
}

// ready plans everything and makes the sender, as far as both are known before
// there are fixtures.
func (t *trial) ready() (err error) {
	var salt [8]byte
	_, _ = rand.Read(salt[:])
	opt := &t.opt.Plan
	opt.Salt, opt.Authorise = binary.BigEndian.Uint64(salt[:]), true
	opt.PerCase, opt.Replaced = perCase(t.opt.Document, t.conf)
	for _, h := range t.opt.Send.Headers {
		t.opt.Secrets.LearnHeader(h[0], h[1])
		opt.Headers = append(opt.Headers, h[0])
	}
	for _, h := range append(slices.Clone(t.conf.Headers), t.opt.Send.Headers...) {
		if name := http.CanonicalHeaderKey(h[0]); !slices.Contains(t.opt.Head.Headers, name) {
			t.opt.Head.Headers = append(t.opt.Head.Headers, name)
		}
	}
	t.opt.Head.Variables, t.opt.Head.Kept = t.conf.Variables(func(scheme, operation string, lesser bool) string {
		c := exchange.Credential{Scheme: scheme, For: operation}
		if lesser {
			c.Flaw = exchange.Lesser
		}
		return c.Key()
	})
	if t.plan, err = plan.New(t.opt.Document, Configured(*opt, t.opt.Document, t.conf, nil)); err != nil {
		return err
	}
	if t.sender, err = send.New(t.opt.Base, t.opt.Send); err != nil {
		return err
	}
	t.senderFor(nil)
	if short := t.opt.Secrets.Short(); len(short) > 0 {
		t.warn("of fewer than six characters, and taken out of what is written only where it is a whole value: %s", strings.Join(short, ", "))
	}
	return nil
}

// do makes the fixtures, sends everything, and deletes what was made.
func (t *trial) do(ctx context.Context) error {
	files, err := t.open() // before anything is sent
	if err != nil {
		return err
	}
	t.followLog()
	stop, err := t.startService(ctx)
	defer stop()
	defer func() {
		if t.stopRevived != nil {
			t.stopRevived()
		}
	}()
	if err == nil {
		err = t.sender.Reach(ctx)
	}
	if err != nil {
		return errors.Join(err, files.discard())
	}
	undo, err := t.fixtures(ctx)
	defer undo()
	if err != nil {
		return errors.Join(err, files.discard())
	}
	if t.events.Begun != nil {
		t.events.Begun(t.plan)
	}
	rep, err := run.Do(ctx, t.plan, run.Options{
		Parallel: t.opt.Parallel, Begin: t.begin, Makers: t.makers, ByItself: t.byItself, SideBySide: true, Unique: func(operation, pointer string) { t.conf.LearnUnique(operation, pointer) }, Redact: t.opt.Secrets.Exchange, RedactText: t.opt.Secrets.Redact,
		Record: files.record, Reopen: files.reopen, Tidy: t.records.Tidy, Drop: files.drop, Final: files.final, Brief: t.opt.Brief, Layout: t.layout(), Logs: t.logged, ResendForLog: t.logAlone(), Known: t.opt.Known, MaxBody: t.maxBody(), Alive: t.alive,
		Progress: serial(&t.telling, t.events.Progress), Finished: t.finished(), Revised: serial(&t.telling, t.events.Revised),
	})
	t.out.Report = rep
	totals := rep.Totals()
	totals.Layout = rep.Layout
	var gone *run.GoneError
	var broken *run.BrokenError
	totals.Interrupted = errors.Is(err, context.Canceled) || errors.As(err, &gone) || errors.As(err, &broken)
	if e := files.close(totals, err == nil || totals.Interrupted); e != nil && err == nil {
		err = e
	}
	return err
}

// keptBody is how much is kept of an answer, in bytes, where nothing else is asked for.
const keptBody = 64 << 10

func (t *trial) maxBody() int {
	if t.opt.KeepBodies {
		return 0
	}
	return keptBody
}

// layout is the configured one; nil where nothing of it is.
func (t *trial) layout() *layout.Layout { return Layout(t.conf) }

// Layout is how a configuration says that fields are named; nil where it says nothing.
func Layout(conf *sources.Sources) *layout.Layout {
	e := conf.Errors
	if e == nil {
		return nil
	}
	return &layout.Layout{Kind: layout.Kind(e.Kind), List: e.In, Prefix: e.Prefix, OneBased: e.FromOne, Field: e.Field, Message: e.Message, Notation: layout.Notation(e.Notation), MediaType: e.MediaType, Learned: e.Learned}
}

// senderFor is a sender whose headers and credentials know values of fixtures; those that are
// not kept yet are left out. What they come to is not written anywhere from then on.
func (t *trial) senderFor(values map[string]any) *send.Sender {
	var expanded []string
	for _, text := range t.conf.Everywhere() {
		if t.conf.Resolves(text, values) {
			text = t.conf.ExpandText(text, values)
		}
		expanded = append(expanded, text)
	}
	t.learning.Lock()
	defer t.learning.Unlock()
	for _, k := range t.senders {
		if slices.Equal(k.expanded, expanded) {
			return k.sender
		}
	}
	if len(t.senders) == maxSenders {
		t.senders = t.senders[1:]
	}
	k := cachedSender{t.newSender(values), expanded}
	t.senders = append(t.senders, k)
	return k.sender
}

func (t *trial) newSender(values map[string]any) *send.Sender {
	var headers [][2]string
	credentials := map[string]string{}
	for _, h := range t.conf.Headers {
		if t.conf.Resolves(h[1], values) {
			headers = append(headers, [2]string{http.CanonicalHeaderKey(h[0]), t.conf.ExpandText(h[1], values)})
		}
	}
	add := func(c exchange.Credential, value string) {
		if t.conf.Resolves(value, values) {
			credentials[c.Key()] = t.conf.ExpandText(value, values)
			t.opt.Secrets.LearnCredential(c.Scheme, credentials[c.Key()])
		}
	}
	for name, value := range t.conf.Credentials {
		add(exchange.Credential{Scheme: name}, value)
	}
	for operation, o := range t.conf.Operations {
		for name, value := range o.Credentials {
			add(exchange.Credential{Scheme: name, For: operation}, value)
		}
	}
	for name, value := range t.conf.Lesser {
		add(exchange.Credential{Scheme: name, Flaw: exchange.Lesser}, value)
	}
	for name, value := range t.conf.Secrets(values) {
		t.opt.Secrets.LearnKept(name, value)
	}
	return t.sender.With(append(headers, t.opt.Send.Headers...), credentials)
}

// serial is an event that is told while no other one is.
func serial[T any](telling *sync.Mutex, event func(T)) func(T) {
	if event == nil {
		return nil
	}
	return func(v T) {
		telling.Lock()
		defer telling.Unlock()
		event(v)
	}
}

func (t *trial) finished() func(op *plan.Operation, line *report.Line) {
	if t.events.Finished == nil {
		return nil
	}
	return func(op *plan.Operation, line *report.Line) {
		t.telling.Lock()
		defer t.telling.Unlock()
		t.events.Finished(op, line)
	}
}

func (t *trial) warn(format string, args ...any) {
	t.telling.Lock()
	defer t.telling.Unlock()
	if t.events.Warning != nil {
		t.events.Warning(t.opt.Secrets.Redact(fmt.Sprintf(format, args...)))
	}
}

// knownNames are the names of the texts whose values are known; all, as long as no values are.
func knownNames(conf *sources.Sources, texts map[string]string, values map[string]any) []string {
	var out []string
	for name, text := range texts {
		if values == nil || conf.Resolves(text, values) {
			out = append(out, name)
		}
	}
	return out
}

// Configured are the options of a plan with what the configuration says, given
// the values of fixtures; nil where there are none yet.
func Configured(opt plan.Options, doc *oad.Document, conf *sources.Sources, values map[string]any) plan.Options {
	if opt.PerCase == nil {
		opt.PerCase, opt.Replaced = perCase(doc, conf)
	}
	opt.Statuses, opt.Messages, opt.Bodies, opt.Rules = conf.Statuses, conf.Messages, map[string]any{}, map[string][]config.Rule{}
	opt.Given = func(operation string) config.Parameters { return conf.Given(operation, nil, values) }
	opt.Without = maps.Clone(opt.Without)
	if opt.Without == nil {
		opt.Without = map[string]string{}
	}
	opt.Foreign, opt.Reach = conf.Foreign, conf.Reach
	opt.Retires = map[string]bool{}
	for _, o := range doc.Operations {
		if f, ok := conf.FixtureOf(conf.TargetOf(o.Name())); ok && fixture.Changes(o.Method) {
			opt.Retires[o.Name()] = f.Undo != "" && f.Send != o.Name() // which creates a record there
		}
	}
	opt.Now = time.Now()
	for _, name := range conf.Ruled() {
		for _, r := range conf.RulesOf(name) {
			if r, ok := conf.Decided(r, values); ok {
				opt.Rules[name] = append(opt.Rules[name], r)
			}
		}
	}
	opt.OwnCredentials, opt.Anonymous, opt.Permits = map[string][]string{}, map[string]bool{}, map[string]bool{}
	for name, o := range conf.Operations {
		opt.Anonymous[name], opt.Permits[name] = o.Anonymous, o.Permits
		if o.Body != nil {
			opt.Bodies[name] = conf.Expand(conf.Resolved(o.Body, values), values)
		}
		if known := knownNames(conf, o.Credentials, values); known != nil {
			opt.OwnCredentials[name] = known
		}
	}
	opt.Lesser, opt.Credentials = knownNames(conf, conf.Lesser, values), knownNames(conf, conf.Credentials, values)
	for _, h := range conf.Headers {
		if values == nil || conf.Resolves(h[1], values) {
			opt.Headers = append(slices.Clone(opt.Headers), h[0])
		}
	}
	return opt
}

// perCase are the operations that have new records for each case, and those that can
// have one for a single case.
func perCase(doc *oad.Document, conf *sources.Sources) (each, once map[string]bool) {
	each, once = map[string]bool{}, map[string]bool{}
	for _, o := range doc.Operations {
		own := conf.Own(o.Name())
		each[o.Name()] = slices.ContainsFunc(own, func(f config.Fixture) bool { return conf.Scope(f) == "case" })
		once[o.Name()] = o.Method == "DELETE" && len(own) > 0
	}
	return each, once
}

// learnTokens learns a credential that an answer holds, where a fixture keeps one
// from the same place of the same operation's answers.
func (t *trial) learnTokens(c *exchange.Case, a *exchange.Answer) {
	for _, f := range t.conf.Fixtures {
		if f.Send != c.Operation {
			continue
		}
		for name, expression := range f.Keep {
			if v, ok := fixture.Evaluate(expression, *c, *a); ok && t.conf.IsCredential(name) {
				t.opt.Secrets.LearnKept(name, fmt.Sprint(v))
			}
		}
	}
}
