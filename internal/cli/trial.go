package cli

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/urfave/cli/v3"

	"obiter/internal/config"
	"obiter/internal/exchange"
	"obiter/internal/fixture"
	"obiter/internal/oad"
	"obiter/internal/plan"
	"obiter/internal/report"
	"obiter/internal/run"
	"obiter/internal/send"
)

// trial is one run of try with everything it needs.
type trial struct {
	app    *app
	conf   *config.Config
	send   send.Options
	doc    *oad.Document
	plan   *plan.Plan
	opt    plan.Options
	base   *url.URL
	sender atomic.Pointer[send.Sender]
	depth  string
	wide   int
	save   string
	format string
	names  []string // of headers that are added

	bench    *fixture.Bench
	current  *owned
	making   sync.Mutex
	learning sync.Mutex
	known    []string          // what headers and credentials are made of
	failed   []string          // fixtures that could not be made
	without  map[string]string // operations that are left out for that, and why
	left     int               // records that could not be taken away
	redact   redactor
}

func (a *app) trialOf(c *cli.Command, conf *config.Config, doc *oad.Document) (*trial, error) {
	at := cmp.Or(c.String("at"), conf.At)
	if at == "" && len(doc.Servers) > 0 {
		at = doc.Servers[0]
	}
	if at == "" {
		return nil, usage("it is not said where the service is", "add --at http://localhost:8080")
	}
	base, err := address(at)
	if err != nil {
		return nil, err
	}
	opt, err := planOptions(c, strings.TrimSuffix(base.String(), "/"))
	if err != nil {
		return nil, err
	}
	if c.Int("parallel") < 1 || c.Int("parallel") > 1024 {
		return nil, usage(fmt.Sprintf("--parallel %d is out of range", c.Int("parallel")), "from 1 to 1024")
	}
	if f := c.String("format"); !slices.Contains([]string{"text", "json", "ndjson"}, f) {
		return nil, usage(fmt.Sprintf("--format %q is not known", f), "text, json and ndjson are")
	}
	if c.Duration("timeout") <= 0 {
		return nil, usage("--timeout must be longer than nothing", "for example --timeout 5s")
	}
	headers, err := headers(c.StringSlice("header"))
	if err != nil {
		return nil, err
	}
	t := &trial{app: a, conf: conf, doc: doc, opt: opt, base: base, depth: c.String("depth"), wide: c.Int("parallel"), save: c.String("save"), format: c.String("format"), without: map[string]string{}}
	trust, err := a.trust(c, conf)
	if err != nil {
		return nil, err
	}
	t.send = send.Options{Timeout: c.Duration("timeout"), AllowHosts: append(c.StringSlice("allow-host"), conf.AllowHosts...), Headers: headers, Agent: agent(), RunID: rand.Text(), TLS: trust}
	return t, t.ready()
}

// ready plans everything and makes the sender, as far as both are known before
// there are fixtures.
func (t *trial) ready() (err error) {
	for _, h := range append(slices.Clone(t.conf.Headers), t.send.Headers...) {
		if name := http.CanonicalHeaderKey(h[0]); !slices.Contains(t.names, name) {
			t.names = append(t.names, name)
		}
	}
	var salt [8]byte
	_, _ = rand.Read(salt[:])
	t.opt.Salt, t.opt.Authorise = binary.BigEndian.Uint64(salt[:]), true
	t.opt.Removable, t.opt.PerCase = removable(t.doc, t.conf)
	for _, h := range t.send.Headers {
		t.opt.Headers = append(t.opt.Headers, h[0])
	}
	if t.plan, err = plan.New(t.doc, settled(t.opt, t.doc, t.conf, nil)); err != nil {
		return err
	}
	t.app.streams.Out = t.redact.writer(t.app.streams.Out)
	return t.learn(nil)
}

// trust is what the command line or the configuration says of certificates.
func (a *app) trust(c *cli.Command, conf *config.Config) (*tls.Config, error) {
	ca, cert, key := cmp.Or(c.String("ca"), conf.Files.CA), cmp.Or(c.String("cert"), conf.Files.Cert), cmp.Or(c.String("key"), conf.Files.Key)
	if (cert == "") != (key == "") {
		return nil, usage("one of --cert and --key is missing", "a client certificate is both")
	}
	if ca == "" && cert == "" && !c.Bool("insecure") {
		return nil, nil
	}
	trust := &tls.Config{MinVersion: tls.VersionTLS12}
	if c.Bool("insecure") {
		fmt.Fprintln(a.streams.Err, "warning: --insecure: the service's certificate is not checked, so anyone in between can read and change what is sent")
		trust.InsecureSkipVerify = true
	}
	if ca != "" {
		pem, err := os.ReadFile(ca)
		if err != nil {
			return nil, usage(fmt.Sprintf("the certificates in %s cannot be read: %v", ca, errors.Unwrap(err)), "name a PEM file")
		}
		if trust.RootCAs, err = x509.SystemCertPool(); err != nil {
			trust.RootCAs = x509.NewCertPool()
		}
		if !trust.RootCAs.AppendCertsFromPEM(pem) {
			return nil, usage(ca+" holds no certificate", "name a PEM file, which begins with -----BEGIN CERTIFICATE-----")
		}
	}
	if cert != "" {
		pair, err := tls.LoadX509KeyPair(cert, key)
		if err != nil {
			return nil, usage(fmt.Sprintf("the client certificate %s with the key %s cannot be read: %v", cert, key, err), "name two PEM files that belong together")
		}
		trust.Certificates = []tls.Certificate{pair}
	}
	return trust, nil
}

// newSender makes a sender whose headers and credentials know the values of
// fixtures; those that are not kept yet are left out.
func (t *trial) newSender(values map[string]any) (*send.Sender, error) {
	opt := t.send
	opt.Headers, opt.Credentials = nil, map[string]string{}
	for _, h := range t.conf.Headers {
		if t.conf.Resolves(h[1], values) {
			opt.Headers = append(opt.Headers, [2]string{http.CanonicalHeaderKey(h[0]), t.conf.ExpandText(h[1], values)})
		}
	}
	for name, value := range t.conf.Credentials {
		if t.conf.Resolves(value, values) {
			opt.Credentials[name] = t.conf.ExpandText(value, values)
		}
	}
	t.redact.learn(t.conf.Secrets(values))
	for _, v := range opt.Credentials {
		t.redact.learn([]string{v, base64.StdEncoding.EncodeToString([]byte(v))})
	}
	opt.Headers = append(opt.Headers, t.send.Headers...)
	return send.New(t.base, opt)
}

// fixtures makes what must be there first. The plan and the sender are made anew
// with the values kept. What comes back takes it all away again.
func (t *trial) fixtures(ctx context.Context) (undo func(), err error) {
	var needed []config.Fixture
	for _, f := range t.conf.Needed(slices.Collect(t.plan.Names())) {
		if f.Each == "run" || f.Each == "" {
			needed = append(needed, f)
		}
	}
	t.bench = fixture.New(t.conf, func(bodies, values map[string]any, nth uint64) (*plan.Plan, error) {
		if nth > 0 { // what is undone is undone with the credentials of the run
			if err := t.learn(values); err != nil {
				return nil, err
			}
		}
		opt := settled(plan.Options{Base: t.opt.Base, Seed: t.opt.Seed, Salt: t.opt.Salt + nth<<32, Headers: t.opt.Headers, Authorise: true, Removable: t.opt.Removable, PerCase: t.opt.PerCase}, t.doc, t.conf, values)
		opt.Checked = true
		if opt.Bodies = bodies; nth == 0 {
			opt.Rules = nil
		}
		return plan.New(t.doc, opt)
	}, func(ctx context.Context, c exchange.Case) exchange.Answer { return t.sender.Load().Send(ctx, c) })
	undo = func() { t.undo(ctx, t.bench) }
	if err := t.bench.Make(ctx, needed); err != nil {
		return undo, err
	}
	if err := t.unmade(t.bench.Failed); err != nil {
		return undo, err
	}
	if t.plan, err = plan.New(t.doc, t.settled(t.bench.Values)); err != nil {
		return undo, err
	}
	return undo, t.learn(t.bench.Values)
}

// settled are the options of the plan when the fixtures are made.
func (t *trial) settled(values map[string]any) plan.Options {
	opt := settled(t.opt, t.doc, t.conf, values)
	opt.Without = t.without
	return opt
}

// unmade tells which fixtures failed, and leaves out the operations that need
// them. Where all need one, there is nothing to go on with.
func (t *trial) unmade(failed []fixture.Failure) error {
	for _, f := range failed {
		users := 0
		for name := range t.plan.Names() {
			if slices.ContainsFunc(t.conf.Needed([]string{name}), func(o config.Fixture) bool { return o.Name == f.Fixture.Name }) {
				users++
				t.without[name] = fmt.Sprintf("the fixture %q, which it needs, could not be made", f.Fixture.Name)
			}
		}
		if users == t.plan.Len() {
			var placed *oad.Error
			if errors.As(f.Err, &placed) {
				placed.Problem = t.redact.text(placed.Problem)
			}
			return f.Err
		}
		t.failed = append(t.failed, f.Fixture.Name)
		fmt.Fprintf(t.app.streams.Err, "warning: %s; %s left out\n", t.redact.text(clean(f.Err.Error())), plural(users, "operation"))
	}
	return nil
}

// undo takes away what a bench made and lists what is left. It works on after
// an interrupt, for a short while.
func (t *trial) undo(ctx context.Context, bench *fixture.Bench) {
	patience := undoTime
	if ctx.Err() != nil {
		patience = hurriedUndo
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), patience)
	defer cancel()
	for _, line := range bench.Undo(ctx) {
		if t.left++; t.left <= maxLeft {
			fmt.Fprintln(t.app.streams.Err, "left behind: "+t.redact.text(clean(line)))
		}
	}
}

// How long taking records away may take, in the end and after an interrupt, and
// how many that stay are listed.
const (
	undoTime    = 30 * time.Second
	hurriedUndo = 1500 * time.Millisecond
	maxLeft     = 20
)

// own makes the records that an operation needs for itself, and plans it with
// them. After it, what it created is taken away too.
func (t *trial) own(ctx context.Context, op *plan.Operation) (*plan.Operation, func(), error) {
	list := t.conf.Own(op.Name())
	bench := t.bench.Branch()
	t.current = &owned{bench: bench}
	undo := func() { t.undo(ctx, bench) }
	if err := t.learn(t.bench.Values); err != nil { // the one before may have had credentials of its own
		return op, undo, err
	}
	if len(list) == 0 {
		return op, undo, nil
	}
	if err := bench.Make(ctx, list); err != nil {
		return op, undo, err
	}
	if len(bench.Failed) > 0 {
		opt := t.settled(bench.Values)
		opt.Without = maps.Clone(opt.Without)
		opt.Without[op.Name()] = fmt.Sprintf("the fixture %q, which it needs, could not be made", bench.Failed[0].Fixture.Name)
		t.failed = append(t.failed, bench.Failed[0].Fixture.Name)
		fmt.Fprintln(t.app.streams.Err, "warning: "+t.redact.text(clean(bench.Failed[0].Err.Error())))
		return t.plan.Renewed(op, opt), undo, nil
	}
	for _, f := range list {
		if f.Each == "case" {
			t.current.each = append(t.current.each, f)
		}
	}
	return t.plan.Renewed(op, t.settled(bench.Values)), undo, t.learn(bench.Values)
}

// owned is what the operation that is being tried has for itself.
type owned struct {
	bench *fixture.Bench
	each  []config.Fixture // made anew for each case
}

// one sends a case, on records of its own where it is to have them, and
// remembers the record that it makes.
func (t *trial) one(ctx context.Context, c exchange.Case) exchange.Answer {
	o := t.current
	if len(o.each) == 0 {
		a := t.sender.Load().Send(ctx, c)
		o.bench.Adopt(c, a)
		return a
	}
	t.making.Lock() // planning is for one at a time
	bench := o.bench.Branch()
	err := bench.Make(ctx, o.each)
	t.making.Unlock()
	defer func() {
		t.making.Lock()
		defer t.making.Unlock()
		t.undo(ctx, bench)
	}()
	if err != nil {
		return exchange.Answer{Err: err.Error()}
	}
	if len(bench.Failed) > 0 {
		return exchange.Answer{Err: bench.Failed[0].Err.Error()}
	}
	c = fixture.Replace(c, o.bench.Values, bench.Values)
	a := t.sender.Load().Send(ctx, c)
	o.bench.Adopt(c, a)
	a.Sent = &c
	return a
}

// learn takes a sender that knows the values in place of the one there is, where
// they make a difference.
func (t *trial) learn(values map[string]any) error {
	var known []string
	for _, text := range t.conf.Everywhere() {
		if t.conf.Resolves(text, values) {
			text = t.conf.ExpandText(text, values)
		}
		known = append(known, text)
	}
	t.learning.Lock()
	defer t.learning.Unlock()
	if t.sender.Load() != nil && slices.Equal(known, t.known) {
		return nil
	}
	sender, err := t.newSender(values)
	if err != nil {
		return err
	}
	if old := t.sender.Swap(sender); old != nil {
		old.Close()
	}
	t.known = known
	return nil
}

// do sends everything, printing a line an operation.
func (t *trial) do(ctx context.Context) (*report.Report, error) {
	defer func() { t.sender.Load().Close() }()
	if err := t.sender.Load().Reach(ctx); err != nil {
		return nil, err
	}
	undo, err := t.fixtures(ctx)
	defer func() {
		undo()
		if t.left > maxLeft {
			fmt.Fprintf(t.app.streams.Err, "left behind: %s more\n", number(t.left-maxLeft))
		}
	}()
	if err != nil {
		return nil, err
	}
	w, closeFiles, err := t.runFile()
	if err != nil {
		return nil, err
	}
	a := t.app
	words := a.streams.Out
	if t.format == "json" || t.format == "ndjson" {
		words = io.Discard
	}
	fmt.Fprintln(words, a.heading(t.doc)+a.look.dim(", at "+clean(t.base.String())))
	fmt.Fprintln(words)
	width := t.nameWidth()
	bar := newProgress(a.streams.Err, t.plan.Len())
	rep, err := run.Do(ctx, t.plan, run.Options{
		Parallel: t.wide,
		Send:     t.one,
		Own:      t.own,
		Record:   w.Result,
		Late:     w.Late,
		Layout:   t.layout(),
		Progress: bar.sent,
		Finished: func(op *plan.Operation, l *report.Line) {
			bar.clear()
			fmt.Fprintln(words, "  "+a.operationLine(op, l, width))
			bar.operationDone()
		},
	})
	bar.clear()
	totals := rep.Totals()
	totals.Layout = rep.Layout
	totals.Interrupted = errors.Is(err, context.Canceled)
	if e := errors.Join(w.Close(totals), closeFiles()); e != nil && err == nil {
		err = e
	}
	return rep, err
}
