// Package report arranges the findings of a run so that one cause is one
// entry: the same code over several fields of an operation, or over several
// operations, with counts and the cases that show it best. It holds counts and
// examples, not cases, so its size does not grow with the run.
package report

import (
	"cmp"
	"fmt"
	"iter"
	"slices"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/core/rule"
	"obiter/internal/evaluate/judge"
	"obiter/internal/results/record"
)

// MaxExamples is how many cases an entry names.
const MaxExamples = 8

// Example is a case that shows a finding.
type Example struct {
	Case    string `json:"case"`
	Name    string `json:"name"`
	Message string `json:"message"`
	number  int
	flaw    refusal
}

// Cause is one cause.
type Cause struct {
	Code       string         `json:"code"`
	Severity   judge.Severity `json:"severity"`
	Form       bool           `json:"form"`              // of how answers are written; else of what they say
	Family     string         `json:"family,omitempty"`  // what the flaws have in common (rule.Family)
	Summary    string         `json:"summary,omitempty"` // of all answers in a sentence, where the first example's message is not enough
	Operations []string       `json:"operations"`        // in the order of the run
	Fields     []string       `json:"fields"`            // pointers of the request's fields, * for indexes, in the order met
	Places     []string       `json:"-"`                 // the same in words, with the part of the request
	At         string         `json:"at,omitempty"`
	Cites      string         `json:"cites,omitempty"`
	Known      bool           `json:"known,omitempty"`  // the team knows it: it is counted apart
	Reason     string         `json:"reason,omitempty"` // of a known one, why it is accepted
	Count      int            `json:"count"`            // answers that show it
	Examples   []Example      `json:"examples"`         // the first in the plan's order

	group entryKey
	also  []entryKey // groups that were folded into it
}

// Operation is the first of the operations.
func (e *Cause) Operation() string { return e.Operations[0] }

// Line is one operation's outcome.
type Line struct {
	Operation                             string
	Cases, Passed, Failed, Form, Unproven int        // Form: wrong in form only
	Known                                 int        // wrong, and all of it is known
	Errors, Warnings                      int        // findings; notes and known ones are not counted
	Substance                             int        // errors that are not of how answers are written
	ControlWords                          string     // the first refused control's finding
	parts                                 []enforced // of which flawed requests were answered
	id                                    uint32     // its place in Report.made
}

// Counts are what the line's cases came to.
func (l *Line) Counts() [6]int {
	return [6]int{l.Cases, l.Passed, l.Failed, l.Form, l.Known, l.Unproven}
}

// Report is a run's outcome, filled case by case.
type Report struct {
	Lines     []*Line
	made      []*Line       // the same in the order in which they were made
	Layout    *judge.Layout // as learned; nil: nothing was
	Own       string        // the media type of the API's own layout, by configuration; "" for problem documents
	entries   map[entryKey]*Cause
	order     map[string]int
	messages  map[messageKey]*messageStats
	described map[string][]byte // by operation, as JSON: there are many, and they are seldom looked at
	last      exchange.Described
	cells     cells
	short     interner
	layouts   map[layoutKey]*Layout
	models    map[modelKey]*model
	known     []*knownCause
	whole     []judge.RunFinding
	refused   map[refusal]lines // operations that refuse a flaw, for those that take it
	proven    bool
	brief     bool
}

// entryKey is what findings have in common that are counted together, before
// causes are made of them.
type entryKey struct {
	operation, code, place, at, severity, family, part, cause string
	known                                                     bool
}

// refusal is a flaw without its operation.
type refusal struct{ pointer, rule, variant string }

// maxRefusals bounds what is remembered of refusals.
const maxRefusals = 100_000

// New makes an empty report.
func New() *Report {
	return &Report{entries: map[entryKey]*Cause{}, order: map[string]int{}, refused: map[refusal]lines{}, messages: map[messageKey]*messageStats{}, described: map[string][]byte{},
		cells: newCells(), short: newShort(), layouts: map[layoutKey]*Layout{}, models: map[modelKey]*model{}}
}

// NewBrief makes an empty one that takes in no more than its lines, entries and totals need: its
// Matrix, Messages, Layouts and models of right answers are those of no answers.
func NewBrief() *Report {
	r := New()
	r.brief = true
	return r
}

// Line is the operation's line, made when first needed.
func (r *Report) Line(operation string) *Line {
	i, ok := r.order[operation]
	if !ok {
		i = len(r.Lines)
		r.order[operation] = i
		l := &Line{Operation: operation, id: uint32(len(r.made))}
		r.Lines, r.made = append(r.Lines, l), append(r.made, l)
	}
	return r.Lines[i]
}

// Restart sets the line of an operation back that is tried once more, and gives how many
// cases it had.
func (r *Report) Restart(operation string) (cases int) {
	l := r.Line(operation)
	cases = l.Cases
	*l = Line{Operation: operation, id: l.id}
	return cases
}

// Arrange puts the lines in the order of operations; those of others come last.
func (r *Report) Arrange(operations iter.Seq[string]) {
	place := map[string]int{}
	for name := range operations {
		place[name] = len(place)
	}
	of := func(l *Line) int {
		if at, has := place[l.Operation]; has {
			return at
		}
		return len(place)
	}
	slices.SortStableFunc(r.Lines, func(a, b *Line) int { return cmp.Compare(of(a), of(b)) })
	for i, l := range r.Lines {
		r.order[l.Operation] = i
	}
}

// Count takes in what a judged case does to the outcome of its operation, and nothing else.
func (r *Report) Count(res *record.Result) {
	r.take(res, func(entryKey, judge.Finding, *knownCause) {})
}

// Add takes in a judged case, and marks those of its findings that are known.
func (r *Report) Add(res *record.Result) {
	r.proven = r.proven || res.Kind == exchange.Control && res.Response.Success()
	r.Line(res.Operation).enforce(res)
	r.mark(res)
	key, single := flawOf(res)
	if single && res.Response.Status >= 400 && res.Response.Status < 500 && res.Verdict != judge.Unproven && len(r.refused) < maxRefusals {
		r.refused[key] = r.refused[key].with(r.Line(res.Operation).id)
	}
	r.take(res, func(k entryKey, f judge.Finding, as *knownCause) {
		r.add(k, f, as, Example{res.ID, res.Name, f.Message, res.Number, key})
	})
}

// take counts a case, and gives out its findings, each with what it has in common with others
// and the known cause that it is.
func (r *Report) take(res *record.Result, each func(entryKey, judge.Finding, *knownCause)) {
	l := r.Line(res.Operation)
	l.Cases++
	fresh, old := 0, 0
	for i, f := range res.Findings {
		if (f.Code == "control-rejected" || f.Code == "not-reached") && l.ControlWords == "" {
			l.ControlWords = f.Message
		}
		k := entryKey{operation: res.Operation, code: f.Code, place: place(res, f.Field), at: f.At, severity: string(f.Severity), part: part(res), cause: cause(res, f)}
		if judge.Has(f.Code, judge.PerFamily) {
			if k.family = rule.Family(res.Flaws); res.Edge != nil {
				k.family = rule.Family([]exchange.Flaw{*res.Edge})
			}
			if f.Code != "accepted" {
				k.family = rule.Broad(k.family)
			}
		}
		as := r.knownAs(k)
		if k.known = as != nil; k.known {
			res.Findings[i].Known = true
			old++
		} else {
			l.count(f)
			if f.Severity == judge.Error {
				fresh++
			}
		}
		each(k, f, as)
	}
	switch {
	case res.Verdict == judge.Pass:
		l.Passed++
	case res.Verdict == judge.Unproven:
		l.Unproven++
	case fresh == 0 && old > 0:
		l.Known++
	case res.Verdict == judge.Fail:
		l.Failed++
	default:
		l.Form++
	}
}

// AddRun takes in a finding of the whole run.
func (r *Report) AddRun(f judge.RunFinding) {
	l := r.Line(f.Operation)
	k := entryKey{operation: f.Operation, code: f.Finding.Code, place: f.Finding.Field, severity: string(f.Finding.Severity), cause: f.Finding.Message}
	as := r.knownAs(k)
	if k.known = as != nil; !k.known {
		l.count(f.Finding)
	}
	f.Finding.Known = k.known
	r.whole = append(r.whole, f)
	r.add(k, f.Finding, as,
		Example{Case: f.Case, Name: f.Name, Message: f.Finding.Message, number: f.Number})
}

// RunFindings is what only the whole run shows, in the order of the plan.
func (r *Report) RunFindings() []judge.RunFinding { return r.whole }

func (l *Line) count(f judge.Finding) {
	switch f.Severity {
	case judge.Error:
		l.Errors++
		if !judge.Has(f.Code, judge.OfWriting) {
			l.Substance++
		}
	case judge.Warning:
		l.Warnings++
	}
}

// part is where a case's flaws are, all of which a schema rules out; "" for others.
func part(res *record.Result) string {
	if len(res.Flaws) == 0 || rule.Of(res.Flaws[0]).Business || !res.Flaws[0].OfField() && res.Flaws[0].In == "request" {
		return ""
	}
	return res.Flaws[0].In
}

// place says in words where a field of the request is, with * for the entries of lists.
func place(res *record.Result, field string) string {
	if field == "" {
		return ""
	}
	said := func(f exchange.Flaw) string {
		if f.Pointer = instance.AnyIndex(f.Pointer); f.In == "body" {
			return "body " + f.Pointer
		}
		return f.Where()
	}
	for _, f := range res.Flaws {
		if f.Pointer == field {
			return said(f)
		}
	}
	if res.Edge != nil && res.Edge.Pointer == field {
		return said(*res.Edge)
	}
	return instance.AnyIndex(field)
}

func flawOf(res *record.Result) (refusal, bool) {
	if len(res.Flaws) != 1 || res.Flaws[0].In != "body" {
		return refusal{}, false
	}
	f := res.Flaws[0]
	return refusal{instance.AnyIndex(f.Pointer), f.Rule, f.Variant}, true
}

func (r *Report) add(k entryKey, f judge.Finding, as *knownCause, x Example) {
	if f.Field != "" {
		k.at = "" // the place in the answer differs from case to case
	}
	e := r.entries[k]
	if e == nil {
		e = &Cause{Operations: []string{k.operation}, Fields: []string{}, Code: f.Code, Severity: f.Severity, Form: judge.Has(f.Code, judge.OfWriting), Family: k.family, At: k.at, Cites: f.Cites}
		if f.Field != "" {
			e.Fields, e.Places = append(e.Fields, instance.AnyIndex(f.Field)), append(e.Places, k.place)
		}
		if as != nil {
			e.Known, e.Reason = true, as.Reason
		}
		r.entries[k] = e
	}
	e.Count += max(f.Count, 1)
	e.show(x)
}

func (e *Cause) show(more ...Example) {
	for _, x := range more {
		if !slices.ContainsFunc(e.Examples, func(have Example) bool { return have.Case == x.Case }) {
			e.Examples = append(e.Examples, x)
		}
	}
	slices.SortStableFunc(e.Examples, func(a, b Example) int { return cmp.Compare(a.number, b.number) })
	if len(e.Examples) > MaxExamples {
		e.Examples = e.Examples[:MaxExamples]
	}
}

// cause tells apart findings of one code: those of the answer's form by what is
// wrong with it, those of blame by the way in which a name is wrong, those of the
// request as a whole by the rule that was broken. What a business rule lets through
// is told apart from all else.
func cause(res *record.Result, f judge.Finding) string {
	switch {
	case f.Variant != "":
		return f.Variant
	case f.Code == "accepted" && len(res.Flaws) > 0 && rule.Of(res.Flaws[0]).Business:
		return res.Flaws[0].Rule + " " + res.Flaws[0].Variant
	case f.Code == "not-problem":
		return f.Message
	case judge.Has(f.Code, judge.OfForm):
		return ""
	case f.Field != "" || f.At != "" || len(res.Flaws) != 1 || res.Flaws[0].In != "request":
		return ""
	}
	return res.Flaws[0].Rule
}

// group is what findings of one cause have in common: the code, and the family of
// the rules, or the way in which answers are wrong; not the field, and seldom the
// operation.
func (r *Report) group(k entryKey) entryKey {
	g := entryKey{code: k.code, severity: k.severity, family: k.family, cause: k.cause, known: k.known}
	switch {
	case k.code == "accepted" && k.part != "" && r.Line(k.operation).part(k.part).unchecked():
		return entryKey{code: k.code, cause: "unchecked", part: k.part, known: k.known}
	case judge.Has(k.code, judge.OfForm):
		g.at = k.at
	case judge.Has(k.code, judge.PerOperation), k.code == "accepted" && isBusiness(k.cause):
		g.operation = k.operation
	}
	return g
}

// Entries lists what was found, the most serious first, and of equal ones in the order
// of the plan. What is of one cause is one entry, over fields and operations.
func (r *Report) Entries() []*Cause {
	keys := make([]entryKey, 0, len(r.entries))
	for k := range r.entries {
		keys = append(keys, k)
	}
	slices.SortFunc(keys, func(a, b entryKey) int { return r.compare(r.entries[a], r.entries[b]) })
	var out []*Cause
	var several []*Cause
	groups := map[entryKey]*Cause{}
	for _, k := range keys {
		e := r.entries[k].clone()
		r.sibling(e)
		g := r.group(k)
		if into := groups[g]; into != nil {
			into.fold(e)
			continue
		}
		groups[g] = e
		e.group = g
		switch {
		case g.cause == "unchecked":
			e.Family, e.Summary = "", g.part
			out = append(out, e)
		case rule.IsSeveral(g.family):
			several = append(several, e)
		default:
			out = append(out, e)
		}
	}
	// Where each field by itself is a cause, all of them at once are none of their own.
	for _, e := range several {
		if i := slices.IndexFunc(out, func(o *Cause) bool {
			return o.Code == e.Code && o.Known == e.Known && len(union(slices.Clone(o.Operations), e.Operations)) == len(o.Operations)
		}); i >= 0 {
			out[i].fold(e)
			out[i].also = append(out[i].also, e.group)
			continue
		}
		out = append(out, e)
	}
	for _, e := range out {
		r.summarise(e)
	}
	slices.SortStableFunc(out, func(a, b *Cause) int { return cmp.Or(mostSerious(a, b), r.compare(a, b)) })
	return out
}

// summarise says of an entry what no example says.
func (r *Report) summarise(e *Cause) {
	if e.Summary == "" {
		return
	}
	in := e.Summary
	answered, accepted := 0, 0
	for _, o := range e.Operations {
		p := r.Line(o).part(in)
		answered, accepted = answered+p.answered, accepted+p.accepted
	}
	e.Summary = fmt.Sprintf("nothing of the %s is checked: %d of %d requests with something wrong in it were accepted", in, accepted, answered)
}

// isBusiness reports whether a cause is a rule that no schema says, with the way in
// which it was broken: each is kept, or forgotten, in one operation.
func isBusiness(cause string) bool {
	name, _, _ := strings.Cut(cause, " ")
	r, known := rule.Find(name)
	return known && r.Business
}

var severities = []judge.Severity{judge.Error, judge.Warning, judge.Note}

// mostSerious compares two entries by how grave they are: what an answer says before
// how it is written, then the severity, the rank of the code, the number of answers.
func mostSerious(a, b *Cause) int {
	written := func(e *Cause) int {
		if e.Form {
			return 1
		}
		return 0
	}
	return cmp.Or(
		cmp.Compare(knownLast(a), knownLast(b)),
		cmp.Compare(written(a), written(b)),
		cmp.Compare(slices.Index(severities, a.Severity), slices.Index(severities, b.Severity)),
		cmp.Compare(judge.Rank(a.Code), judge.Rank(b.Code)),
		cmp.Compare(b.Count, a.Count))
}

func knownLast(e *Cause) int {
	if e.Known {
		return 1
	}
	return 0
}

func (r *Report) compare(a, b *Cause) int {
	first := func(list []string) string {
		if len(list) == 0 {
			return ""
		}
		return list[0]
	}
	return cmp.Or(
		cmp.Compare(min(len(b.Operations), 2), min(len(a.Operations), 2)), // what concerns several operations comes first
		cmp.Compare(r.order[a.Operation()], r.order[b.Operation()]),
		cmp.Compare(slices.Index(severities, a.Severity), slices.Index(severities, b.Severity)),
		cmp.Compare(judge.Rank(a.Code), judge.Rank(b.Code)),
		cmp.Compare(a.Examples[0].number, b.Examples[0].number),
		cmp.Compare(first(a.Fields), first(b.Fields)), cmp.Compare(a.At, b.At),
		cmp.Compare(a.Examples[0].Message, b.Examples[0].Message),
	)
}

func (e *Cause) clone() *Cause {
	c := *e
	c.Operations, c.Fields, c.Places, c.Examples = slices.Clone(e.Operations), slices.Clone(e.Fields), slices.Clone(e.Places), slices.Clone(e.Examples)
	return &c
}

func (e *Cause) fold(other *Cause) {
	e.Count += other.Count
	e.Fields, e.Places, e.Operations = union(e.Fields, other.Fields), union(e.Places, other.Places), union(e.Operations, other.Operations)
	e.show(other.Examples...)
}

// union is a list with what another has in addition, in the order met.
func union(list, other []string) []string {
	for _, text := range other {
		if !slices.Contains(list, text) {
			list = append(list, text)
		}
	}
	return list
}

// sibling says of what was accepted which other operation refuses it.
func (r *Report) sibling(e *Cause) {
	if e.Code != "accepted" || len(e.Fields) == 0 {
		return
	}
	if found := r.refuses(e.Examples[0].flaw, e.Operation()); found != "" {
		e.Examples[0].Message += "; " + found + " rejects the same"
	}
}

// Refuses is another operation of the same collection that refuses a flaw of a body; ""
// where there is none.
func (r *Report) Refuses(operation string, f exchange.Flaw) string {
	return r.refuses(refusal{f.Pointer, f.Rule, f.Variant}, operation)
}

func (r *Report) refuses(flaw refusal, operation string) string {
	found := ""
	for id := range r.refused[flaw].all() {
		if o := r.made[id].Operation; o != operation && related(o, operation) && (found == "" || o < found) {
			found = o
		}
	}
	return found
}

// Totals adds up the lines.
func (r *Report) Totals() record.Totals {
	var t record.Totals
	for _, l := range r.Lines {
		t.Cases += l.Cases
		t.Passed += l.Passed
		t.Failed += l.Failed
		t.Form += l.Form
		t.Known += l.Known
		t.Unproven += l.Unproven
	}
	return t
}

// Errors counts findings that fail a run.
func (r *Report) Errors() int {
	n := 0
	for _, l := range r.Lines {
		n += l.Errors
	}
	return n
}

// Warnings counts findings that are only warned of.
func (r *Report) Warnings() int {
	n := 0
	for _, l := range r.Lines {
		n += l.Warnings
	}
	return n
}

// Substance counts the errors that are not of how answers are written.
func (r *Report) Substance() int {
	n := 0
	for _, l := range r.Lines {
		n += l.Substance
	}
	return n
}

// Proven reports whether any control was accepted; without one a run proves nothing.
func (r *Report) Proven() bool { return r.proven }

// related reports whether two operations are of one collection: POST /vessels and
// PUT /vessels/{id}.
func related(a, b string) bool {
	_, x, _ := strings.Cut(a, " ")
	_, y, _ := strings.Cut(b, " ")
	return x == instance.Parent(y) || y == instance.Parent(x) || x == y
}
