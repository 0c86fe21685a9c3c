// Package compare tells what is otherwise in one run than in another, case by case and
// cause by cause: what was fixed, what is newly wrong, what merely changed.
package compare

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"sync"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/core/rule"
	"obiter/internal/evaluate/judge"
	"obiter/internal/results/record"
)

// Outcome is what a case came to in one run.
type Outcome struct {
	Verdict  judge.Verdict `json:"verdict"`
	Status   string        `json:"status"` // 422 Unprocessable Content, or why there is no answer
	Findings []string      `json:"findings"`
	Words    string        `json:"words,omitempty"`  // the service's own
	Layout   string        `json:"layout,omitempty"` // media type and members

	about about
	words string // without what differs from run to run
	found []judge.Finding
}

// about is the case.
type about struct {
	name, operation, field, family string
	number                         int
}

// Run is one of the two runs, filled case by case.
type Run struct {
	cases map[string]*Outcome
	whole map[wholeKey]judge.RunFinding
}

// wholeKey is a finding of a whole run, without its figures.
type wholeKey struct{ code, operation, message string }

// New makes an empty Run.
func New() *Run {
	return &Run{cases: map[string]*Outcome{}, whole: map[wholeKey]judge.RunFinding{}}
}

// Len is the number of cases.
func (r *Run) Len() int { return len(r.cases) }

// Add takes in a judged case.
func (r *Run) Add(res record.Result, j judge.Judgement) {
	o := &Outcome{Verdict: res.Verdict, Status: res.Response.Err, Words: j.Said, Findings: []string{}, found: res.Findings}
	if res.Response.Err == "" {
		o.Status = judge.StatusText(res.Response.Status)
	}
	for _, f := range res.Findings {
		if f.Severity != judge.Note && !slices.Contains(o.Findings, f.Code) {
			o.Findings = append(o.Findings, f.Code)
		}
	}
	if f := j.Fingerprint; f != nil {
		o.Layout = strings.TrimSpace(f.Form + " " + strings.Join(membersOf(f), ", "))
	}
	o.words = settled(j.Said, res.Exchange)
	o.about = about{name: res.Name, operation: res.Operation, number: res.Number}
	flaws := res.Flaws
	if res.Edge != nil {
		flaws = []exchange.Flaw{*res.Edge}
	}
	o.about.family = rule.Family(flaws)
	if len(flaws) > 0 {
		o.about.field = instance.AnyIndex(flaws[0].Pointer)
	}
	r.cases[res.ID] = o
}

// AddRun takes in what only the whole run shows.
func (r *Run) AddRun(f judge.RunFinding) {
	if f.Finding.Severity != judge.Note {
		r.whole[wholeKey{f.Finding.Code, f.Operation, figures.ReplaceAllString(f.Finding.Message, "#")}] = f
	}
}

var (
	figures = regexp.MustCompile(`[0-9]+(?:[.,][0-9]+)*`)
	// passing is what is another one each time: UUIDs, dates, times, long numbers.
	passing = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`(?i)\b[0-9a-f]{8}-(?:[0-9a-f]{4}-){3}[0-9a-f]{12}\b|\b[0-9]{4}-[0-9]{2}-[0-9]{2}\b|\b[0-9]{1,2}:[0-9]{2}(?::[0-9]{2}(?:\.[0-9]+)?)?\b|\b[0-9]{7,}\b`)
	})
)

// settled are words without what differs from run to run, and without values of the
// request.
func settled(words string, e exchange.Exchange) string {
	const short = 3
	instance.Walk(e.Body, func(_ string, v any) bool {
		if text, is := v.(string); is && len(text) >= short && strings.Contains(words, text) {
			words = strings.ReplaceAll(words, text, "…")
		}
		return true
	})
	return passing().ReplaceAllString(words, "…")
}

// Kind is the sort of a change.
type Kind string

// The kinds, in the order in which they are told.
const (
	Wrong   Kind = "newly wrong"
	Right   Kind = "put right"
	Still   Kind = "still wrong"
	Changed Kind = "changed"
	Fresh   Kind = "new"  // a case that only the newer run has
	Gone    Kind = "gone" // one that only the older has
)

// Title is the kind as a heading.
func (k Kind) Title() string { return strings.ToUpper(string(k[:1])) + string(k[1:]) }

// Kinds are all kinds in their order.
var Kinds = []Kind{Wrong, Right, Still, Changed, Fresh, Gone}

// Case is a case that changed.
type Case struct {
	ID        string   `json:"case"`
	Name      string   `json:"name"`
	Operation string   `json:"operation"`
	Was       *Outcome `json:"was,omitempty"` // none: it was not there
	Is        *Outcome `json:"is,omitempty"`
	number    int
}

// Change is what cases have in common that changed alike.
type Change struct {
	Kind       Kind     `json:"kind"`
	Code       string   `json:"code,omitempty"`   // of the finding that came or went
	Family     string   `json:"family,omitempty"` // of the rules that were broken
	Says       string   `json:"says"`             // the finding's message, or what changed
	Operations []string `json:"operations"`
	Fields     []string `json:"fields"`
	Count      int      `json:"count"` // of cases
	Cases      []Case   `json:"cases"` // some of them, in the order of the plan
	number     int
}

// maxCases bounds the cases that a change names.
const maxCases = 12

// Difference is what is otherwise.
type Difference struct {
	Right   int      `json:"right"`            // cases that were wrong and are right now
	Better  int      `json:"rightInSubstance"` // that are wrong only in form now
	Wrong   int      `json:"newlyWrong"`       // that were not wrong, or only in form
	Still   int      `json:"stillWrong"`
	Changed int      `json:"changed"` // otherwise
	Fresh   int      `json:"new"`
	Gone    int      `json:"gone"`
	Changes []Change `json:"changes"`
}

// Of compares two runs.
func Of(older, newer *Run) Difference {
	c := comparison{byKey: map[changeKey]*Change{}}
	ids := map[string]bool{}
	for _, r := range []*Run{older, newer} {
		for id := range r.cases {
			ids[id] = true
		}
	}
	for id := range ids {
		c.compare(id, older.cases[id], newer.cases[id])
	}
	c.compareWhole(older, newer)
	return c.difference()
}

// changeKey is what is one change.
type changeKey struct {
	kind                          Kind
	code, family, says, operation string
}

type comparison struct {
	out   Difference
	byKey map[changeKey]*Change
}

func isWrong(o *Outcome) bool {
	return o != nil && (o.Verdict == judge.Fail || o.Verdict == judge.Form)
}

func (c *comparison) compare(id string, was, is *Outcome) {
	at := cmp.Or(is, was)
	x := Case{ID: id, Name: at.about.name, Operation: at.about.operation, Was: was, Is: is, number: at.about.number}
	switch {
	case is == nil:
		c.out.Gone++
		c.add(x, at, changeKey{kind: Gone, says: "not in the newer run"})
	case is.Verdict == judge.Fail && (was == nil || was.Verdict != judge.Fail), isWrong(is) && !isWrong(was):
		c.out.Wrong++
		for _, f := range errorsOf(is, was) {
			c.add(x, at, changeKey{kind: Wrong, code: f.Code, family: at.about.family, says: f.Message})
		}
	case was == nil:
		c.out.Fresh++
		c.add(x, at, changeKey{kind: Fresh, says: "not in the older run"})
	case isWrong(was) && is.Verdict == judge.Pass:
		c.out.Right++
		for _, f := range errorsOf(was, is) {
			c.add(x, at, changeKey{kind: Right, code: f.Code, family: at.about.family, says: f.Message})
		}
	case was.Verdict == judge.Fail && is.Verdict == judge.Form:
		c.out.Better++
		for _, f := range errorsOf(was, is) {
			c.add(x, at, changeKey{kind: Right, code: f.Code, family: at.about.family, says: f.Message})
		}
		for _, f := range errorsOf(is, nil) {
			c.add(x, at, changeKey{kind: Still, code: f.Code, family: at.about.family, says: f.Message})
		}
	default:
		if isWrong(was) && isWrong(is) {
			c.out.Still++
			for _, f := range errorsOf(is, nil) {
				c.add(x, at, changeKey{kind: Still, code: f.Code, family: at.about.family, says: f.Message})
			}
		}
		c.changed(x, at, was, is)
	}
}

// errorsOf are the errors of one outcome that the other does not have.
func errorsOf(o, other *Outcome) []judge.Finding {
	var out []judge.Finding
	for _, f := range o.found {
		if f.Severity == judge.Error && (other == nil || !slices.Contains(other.Findings, f.Code)) {
			out = append(out, f)
		}
	}
	return out
}

// changed tells in what an outcome differs from one that is as right or as wrong.
func (c *comparison) changed(x Case, at, was, is *Outcome) {
	var said []string
	differ := func(what, a, b string) {
		if a != b {
			said = append(said, fmt.Sprintf("%s: %s, was %s", what, shown(b), shown(a)))
		}
	}
	differ("verdict", string(was.Verdict), string(is.Verdict))
	differ("status", was.Status, is.Status)
	differ("findings", strings.Join(was.Findings, ", "), strings.Join(is.Findings, ", "))
	differ("layout", was.Layout, is.Layout)
	if was.words != is.words {
		differ("message", was.Words, is.Words)
	}
	if len(said) == 0 {
		return
	}
	c.out.Changed++
	c.add(x, at, changeKey{kind: Changed, says: strings.Join(said, "; ")})
}

func shown(text string) string {
	if text == "" {
		return "none"
	}
	return "“" + instance.Shorten(instance.OneLine(text), 200) + "”"
}

func (c *comparison) add(x Case, at *Outcome, k changeKey) {
	says := k.says
	if k.kind == Wrong || k.kind == Right || k.kind == Still {
		k.says = "" // it differs from case to case
	}
	if !judge.Has(k.code, judge.PerFamily) {
		k.family = ""
	}
	k.operation = x.Operation
	ch := c.byKey[k]
	if ch == nil {
		ch = &Change{Kind: k.kind, Code: k.code, Family: k.family, Operations: []string{}, Fields: []string{}, number: x.number + 1}
		c.byKey[k] = ch
	}
	ch.Count++
	if !slices.Contains(ch.Operations, x.Operation) {
		ch.Operations = append(ch.Operations, x.Operation)
	}
	if f := at.about.field; f != "" && !slices.Contains(ch.Fields, f) {
		ch.Fields = append(ch.Fields, f)
	}
	if x.number < ch.number {
		ch.number, ch.Says = x.number, says
	}
	ch.show(x)
}

func (ch *Change) show(x Case) {
	i, _ := slices.BinarySearchFunc(ch.Cases, x, func(a, b Case) int { return cmp.Compare(a.number, b.number) })
	if i < maxCases {
		ch.Cases = slices.Insert(ch.Cases, i, x)
		ch.Cases = ch.Cases[:min(len(ch.Cases), maxCases)]
	}
}

// fold takes another change into one.
func (ch *Change) fold(o *Change) {
	ch.Count += o.Count
	if o.number < ch.number {
		ch.number, ch.Says = o.number, o.Says
	}
	for _, name := range o.Operations {
		if !slices.Contains(ch.Operations, name) {
			ch.Operations = append(ch.Operations, name)
		}
	}
	for _, f := range o.Fields {
		if !slices.Contains(ch.Fields, f) {
			ch.Fields = append(ch.Fields, f)
		}
	}
	for _, x := range o.Cases {
		ch.show(x)
	}
}

// manyFamilies is from how many families of rules on they are one change of an operation.
const manyFamilies = 4

// folded takes together what is of one cause: in an operation many families of rules, and
// the same family in several operations.
func (c *comparison) folded() map[changeKey]*Change {
	families := map[changeKey]int{}
	for k := range c.byKey {
		k.family = ""
		families[k]++
	}
	out := map[changeKey]*Change{}
	for k, ch := range c.byKey {
		whole := k
		whole.family = ""
		if families[whole] >= manyFamilies {
			k, ch.Family = whole, ""
		}
		k.operation = ""
		if have := out[k]; have != nil {
			have.fold(ch)
			continue
		}
		out[k] = ch
	}
	return out
}

// compareWhole compares what only the runs as a whole show.
func (c *comparison) compareWhole(older, newer *Run) {
	one := func(kind Kind, k wholeKey, f judge.RunFinding) {
		ch := &Change{Kind: kind, Code: k.code, Says: f.Finding.Message, Operations: []string{f.Operation}, Fields: []string{}, Cases: []Case{{ID: f.Case, Name: f.Name, Operation: f.Operation}}, number: f.Number}
		if f.Finding.Severity != judge.Error {
			ch.Kind, ch.Says = Changed, string(kind)+": "+f.Finding.Message
			c.out.Changed++
		} else if kind == Wrong {
			c.out.Wrong++
		} else {
			c.out.Right++
		}
		ch.Count = 1
		c.byKey[changeKey{kind, k.code, "", k.message, k.operation}] = ch
	}
	for k, f := range newer.whole {
		if _, has := older.whole[k]; !has {
			one(Wrong, k, f)
		}
	}
	for k, f := range older.whole {
		if _, has := newer.whole[k]; !has && newer.tried(f.Operation) {
			one(Right, k, f)
		}
	}
}

// tried reports whether a run has cases of an operation.
func (r *Run) tried(operation string) bool {
	for _, o := range r.cases {
		if o.about.operation == operation {
			return true
		}
	}
	return false
}

func (c *comparison) difference() Difference {
	out := c.out
	out.Changes = []Change{}
	for _, ch := range slices.SortedFunc(maps.Values(c.folded()), func(a, b *Change) int {
		return cmp.Or(cmp.Compare(slices.Index(Kinds, a.Kind), slices.Index(Kinds, b.Kind)), cmp.Compare(judge.Rank(a.Code), judge.Rank(b.Code)), cmp.Compare(a.number, b.number), cmp.Compare(a.Says, b.Says))
	}) {
		slices.Sort(ch.Operations)
		slices.Sort(ch.Fields)
		out.Changes = append(out.Changes, *ch)
	}
	return out
}

// Sentence says in a few words what is otherwise.
func (d Difference) Sentence() string {
	var out []string
	for _, part := range []struct {
		n    int
		what string
	}{{d.Right, "right now"}, {d.Better, "right in substance now"}, {d.Still, "still wrong"}, {d.Wrong, "newly wrong"}, {d.Changed, "changed"}, {d.Fresh, "new"}, {d.Gone, "gone"}} {
		if part.n > 0 {
			out = append(out, fmt.Sprintf("%d %s", part.n, part.what))
		}
	}
	if len(out) == 0 {
		return "nothing has changed"
	}
	return strings.Join(out, ", ")
}

func membersOf(f *judge.Fingerprint) []string {
	if f.Members != nil {
		return f.Members
	}
	return f.All
}
