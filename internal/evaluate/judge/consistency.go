package judge

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/core/rule"
	"obiter/internal/evaluate/layout"
	"obiter/internal/evaluate/problem"
)

// Fingerprint is what a rejection has in common with others, or not.
type Fingerprint struct {
	Form     string   // the media type, and what the body is
	All      []string // members of a JSON object
	Members  []string // the same of one that is not a problem document
	Kinds    []string // what the members hold: text, list, object, or "" where that tells nothing
	Type     string   // of a problem document with a type of its own
	Title    string
	Where    string          // where fields are named, as a pattern; "" where none is
	Notation layout.Notation // how
	Asked    bool            // a field had to be named
	Named    bool            // and was, rightly
	Sentence bool            // it was only inside a sentence
	Nothing  bool            // no field was named in any way
	Foreign  string          // how names differ from paths into the request, all alike; "" where they do not
	Right    bool            // the status is one of those expected
	Status   int
	Usual    bool // it has the media type that rejections should have
}

// maxMembers bounds the members that are compared.
const maxMembers = 20

func fingerprint(c exchange.Case, a exchange.Answer, doc problem.Document) *Fingerprint {
	t := &Fingerprint{Form: doc.Media, Status: a.Status, Right: slices.Contains(c.Expect.Statuses, a.Status)}
	t.All = instance.Names(doc.Object)
	t.All = t.All[:min(len(t.All), maxMembers)]
	switch {
	case doc.Claimed:
		if doc.Specific() {
			t.Type, t.Title = doc.Type(), doc.Text("title")
		}
	case len(a.Body) == 0:
		t.Form = "no body"
	case doc.Object != nil:
		t.Members = t.All
		for _, name := range t.Members {
			t.Kinds = append(t.Kinds, kindOf(doc.Object[name]))
		}
	case t.Form == "":
		t.Form = "no media type"
	}
	return t
}

func (t *Fingerprint) fields(c exchange.Case, ctx Context, doc problem.Document, r layout.Reading, found []Finding) {
	t.Asked = true
	if r.Where == "/*" && t.Members != nil { // the fields themselves, which differ from request to request
		t.Members, t.Kinds = []string{fieldsAtTop}, []string{""}
	}
	if len(c.Flaws) != 1 {
		return
	}
	if namesNothing(c, r) {
		_, t.Sentence = layout.Mentions(doc.Value, c.Flaws[0].Pointer)
		t.Nothing = !t.Sentence
		return
	}
	t.Named = !slices.ContainsFunc(found, func(f Finding) bool { return f.Severity == Error })
	named := slices.IndexFunc(r.Fields, func(n layout.Named) bool { return n.Name.Fits("") != layout.Exact })
	if named < 0 {
		return // the whole body is named, which looks alike in any notation
	}
	if ctx.Knowledge.Agrees(r.Where) {
		t.Where, t.Notation = r.Where, family(r.Fields[named].Name.Notation)
		t.Foreign = foreign(ctx.Knowledge, r.Where, c.Operation)
	}
}

// foreign says in what all names at a place differ from paths into the request.
func foreign(k *layout.Knowledge, where, operation string) string {
	var said []string
	if prefix := k.Prefix(where, operation); prefix != "" {
		said = append(said, fmt.Sprintf("begin with %s, which is not in the request", prefix))
	}
	if k.FromOne(where) {
		said = append(said, "count the entries of lists from 1")
	}
	return strings.Join(said, " and ")
}

// kindOf is what a member holds, as far as that tells a layout: null may stand for
// anything, an empty list for an empty map.
func kindOf(v any) string {
	switch v := v.(type) {
	case string:
		return "text"
	case []any:
		if len(v) > 0 {
			return "list"
		}
	case map[string]any:
		if len(v) > 0 {
			return "object"
		}
	}
	return ""
}

// kind says in words what a member holds.
func (t *Fingerprint) kind(member string) string {
	return map[string]string{"text": "a text", "list": "a list", "object": "an object"}[t.Kinds[slices.Index(t.Members, member)]]
}

// clash is a member that holds something else in one answer than in another.
func clash(a, b *Fingerprint) string {
	for i, m := range a.Members {
		if j := slices.Index(b.Members, m); j >= 0 && a.Kinds[i] != "" && b.Kinds[j] != "" && a.Kinds[i] != b.Kinds[j] {
			return m
		}
	}
	return ""
}

func (t *Fingerprint) atTop() bool { return slices.Equal(t.Members, []string{fieldsAtTop}) }

// fieldsAtTop stands for the members of an answer that are the fields' names.
const fieldsAtTop = "a member for each field"

// family takes notations together that are told apart only by what they name: a
// plain name is dotted, bracketed or nested as well.
func family(n layout.Notation) layout.Notation {
	switch n {
	case layout.Dotted, layout.Bracketed, layout.Plain, layout.Nested:
		return layout.Dotted
	}
	return n
}

// RunFinding is a finding that only the whole run shows, at the first case that shows it.
type RunFinding struct {
	Number    int // of the case in the plan
	Case      string
	Name      string
	Operation string
	Finding   Finding
}

// Layout is how an API names fields, as learned from its answers.
type Layout struct {
	Where    string `json:"where"`    // a JSON Pointer with * for each index or name; empty: no place names fields
	Notation string `json:"notation"` // pointer, pointer-fragment, dotted, segments
	Answers  int    `json:"answers"`  // that have it
	Of       int    `json:"of"`       // that had to name one field

	Others    []Way `json:"others,omitempty"`    // how some name them in addition, the most usual first
	Sentences int   `json:"sentences,omitempty"` // how many name the field only inside a sentence
	Silent    int   `json:"silent,omitempty"`    // and not at all
}

// Way is one way to name fields.
type Way struct {
	Where    string `json:"where"`
	Notation string `json:"notation"`
	Answers  int    `json:"answers"`
}

// consistency collects what rejections have in common. Its size grows with what
// differs, not with the number of answers.
type consistency struct {
	forms    map[string]*counter // by form and members
	wheres   map[string]*counter // by body, path, query …, then where and notation
	statuses map[string]*counter // by class, then status
	types    map[string]*counter // by type, then title or status
	titles   map[string]*counter // by title, then type
	foreign  map[string]*counter // by place, then how names differ from paths

	asked, sentences, silent int
}

// counter counts what was seen under one key.
type counter struct {
	seen  map[string]*observation
	total int
}

// observation is one of the ways seen, with its first case and its operations.
type observation struct {
	count int
	first RunFinding
	ops   map[string]int
	rules map[string]int
	about *Fingerprint
}

// maxWays bounds the ways kept under one key: a type with a number in it would
// have as many as there are answers.
const maxWays = 200

func newConsistency() *consistency {
	return &consistency{forms: map[string]*counter{}, wheres: map[string]*counter{}, statuses: map[string]*counter{}, types: map[string]*counter{}, titles: map[string]*counter{}, foreign: map[string]*counter{}}
}

// tallied counts a way under a key.
func tallied(m map[string]*counter, key, way string, c *exchange.Case, t *Fingerprint) {
	if m[key] == nil {
		if len(m) >= maxWays {
			return
		}
		m[key] = &counter{seen: map[string]*observation{}}
	}
	ta := m[key]
	ta.total++
	s := ta.seen[way]
	if s == nil {
		if len(ta.seen) >= maxWays {
			return
		}
		s = &observation{ops: map[string]int{}, rules: map[string]int{}, about: t, first: RunFinding{Number: c.Number, Case: c.ID, Name: c.Name, Operation: c.Operation}}
		ta.seen[way] = s
	}
	s.count++
	if c.Number < s.first.Number {
		s.first = RunFinding{Number: c.Number, Case: c.ID, Name: c.Name, Operation: c.Operation}
		s.about = t
	}
	s.ops[c.Operation]++
	for _, f := range c.Flaws {
		s.rules[f.Rule]++
	}
}

// uniform are the classes for which an API should have one status. For the
// others several are right side by side.
var uniform = []exchange.Class{exchange.Syntax, exchange.Type, exchange.Constraint, exchange.UnknownField, exchange.EmptyBody, exchange.Parameter}

// add takes in a judged case.
func (w *consistency) add(c *exchange.Case, a *exchange.Answer, j *Judgement) {
	t := j.Fingerprint
	if t == nil || c.Kind != exchange.Flawed {
		return
	}
	form := t.Form + "  "
	if len(t.Members) > 0 {
		form = t.Form + " " + strings.Join(t.Members, ",") + " " + strings.Join(t.Kinds, ",")
	}
	tallied(w.forms, "", form, c, t)
	// Where one status alone is right, as the configuration may have it for a rule,
	// none that is right can be odd.
	ofFields := slices.ContainsFunc(c.Flaws, func(f exchange.Flaw) bool { return f.In != "request" })
	if t.Right && len(c.Expect.Statuses) > 1 && slices.Contains(uniform, c.Expect.Class) && (ofFields || c.Expect.Class == exchange.Syntax || c.Expect.Class == exchange.EmptyBody) {
		tallied(w.statuses, string(c.Expect.Class), strconv.Itoa(a.Status), c, t)
	}
	if t.Type != "" && t.Right { // a wrong status is reported
		tallied(w.types, t.Type, strconv.Itoa(a.Status)+" "+t.Title, c, t)
		if t.Title != "" {
			tallied(w.titles, t.Title, t.Type, c, t)
		}
	}
	if t.Asked && len(c.Flaws) == 1 {
		w.addField(c, t)
	}
}

// addField takes in the answer to a case with one flaw that the answer should name.
func (w *consistency) addField(c *exchange.Case, t *Fingerprint) {
	if rule.Of(c.Flaws[0]).Parent != rule.Right {
		w.asked++
		switch {
		case t.Sentence:
			w.sentences++
		case t.Nothing:
			w.silent++
		}
	}
	if t.Foreign != "" {
		tallied(w.foreign, t.Where, t.Foreign, c, t)
	}
	if t.Where != "" && rule.Of(c.Flaws[0]).Parent != rule.Right { // such rules may be told in a member of their own
		tallied(w.wheres, c.Flaws[0].In, t.Where+" "+string(t.Notation), c, t)
	}
}

// most is the way seen most often; of equals the one seen first.
func (t *counter) most() *observation {
	var best *observation
	for _, s := range t.seen {
		if best == nil || s.count > best.count || s.count == best.count && s.first.Number < best.first.Number {
			best = s
		}
	}
	return best
}

// others lists the other ways, in the order of their first case.
func (t *counter) others(but *observation) []*observation {
	var out []*observation
	for _, s := range t.seen {
		if s != but {
			out = append(out, s)
		}
	}
	slices.SortFunc(out, func(a, b *observation) int { return cmp.Compare(a.first.Number, b.first.Number) })
	return out
}

// usual reports whether a way is seen so much more often than the rest that the
// rest is odd.
func (t *counter) usual(s *observation) bool { return s.count >= 5 && s.count*5 >= t.total*3 }

// learned is the layout that most answers have; false where none had to name a field.
func (w *consistency) learned() (Layout, bool) {
	counts := map[Way]int{}
	for _, t := range w.wheres {
		for _, s := range t.seen {
			counts[Way{Where: s.about.Where, Notation: string(s.about.Notation)}] += s.count
		}
	}
	ways := slices.SortedFunc(maps.Keys(counts), func(a, b Way) int {
		return cmp.Or(cmp.Compare(counts[b], counts[a]), cmp.Compare(a.Where, b.Where), cmp.Compare(a.Notation, b.Notation))
	})
	out := Layout{Of: w.asked, Sentences: w.sentences, Silent: w.silent}
	for i, way := range ways {
		if i == 0 {
			out.Where, out.Notation, out.Answers = way.Where, way.Notation, counts[way]
			continue
		}
		way.Answers = counts[way]
		out.Others = append(out.Others, way)
	}
	return out, w.asked > 0
}

// findings lists what the run as a whole shows, each at its first case.
func (w *consistency) findings() []RunFinding {
	var out []RunFinding
	add := func(s *observation, code, message string) *Finding {
		l := s.first
		l.Finding = finding(code, "", "", message)
		l.Finding.Count = s.count
		out = append(out, l)
		return &out[len(out)-1].Finding
	}
	w.oddForms(add)
	w.oddPlaces(add)
	for _, where := range slices.Sorted(maps.Keys(w.foreign)) {
		for _, s := range w.foreign[where].others(nil) {
			add(s, "foreign-path", fmt.Sprintf("the names of fields at %s %s: %s", ShownWhere(where), s.about.Foreign, places(s)))
		}
	}
	w.oddStatuses(add)
	w.drift(add)
	slices.SortStableFunc(out, byPlan)
	return out
}

func byPlan(a, b RunFinding) int {
	return cmp.Or(cmp.Compare(a.Number, b.Number), cmp.Compare(Rank(a.Finding.Code), Rank(b.Finding.Code)), cmp.Compare(a.Finding.Message, b.Finding.Message))
}

func (w *consistency) oddForms(add func(*observation, string, string) *Finding) {
	t := w.forms[""]
	if t == nil {
		return
	}
	best, n := t.mostAlike()
	if n < 5 || n*5 < t.total*3 {
		return
	}
	for _, s := range t.others(nil) {
		if !s.about.Usual && (best.about.Usual || s.about.Form != best.about.Form) {
			continue // that it is not the media type of rejections is reported, of each by itself
		}
		if m := clash(best.about, s.about); m != "" && best.about.Form == s.about.Form {
			add(s, "odd-layout", fmt.Sprintf("the member %s is %s here and %s in most rejections: %s", m, s.about.kind(m), best.about.kind(m), places(s)))
		} else if !Alike(best.about, s.about) {
			add(s, "odd-layout", fmt.Sprintf("%s, where %d of %d rejections are %s: %s", form(s.about), n, t.total, form(best.about), places(s)))
		}
	}
}

// mostAlike is the form that most others are like, with how many they are: an
// extra member is not another layout.
func (t *counter) mostAlike() (best *observation, count int) {
	list := t.others(nil)
	for _, s := range list {
		n := 0
		for _, o := range list {
			if Alike(s.about, o.about) {
				n += o.count
			}
		}
		if n > count {
			best, count = s, n
		}
	}
	return best, count
}

func form(t *Fingerprint) string {
	if t.Members == nil {
		return t.Form
	}
	return fmt.Sprintf("%s with %s", t.Form, strings.Join(t.Members, ", "))
}

// Alike reports whether two answers have one layout: the same media type, and of
// plain JSON at least half of the members.
func Alike(a, b *Fingerprint) bool {
	if a.Form != b.Form {
		return false
	}
	if len(a.Members)+len(b.Members) == 0 {
		return true
	}
	// Where fields are the members, what is of no field is said in another way.
	if a.atTop() && !b.Asked || b.atTop() && !a.Asked {
		return true
	}
	if clash(a, b) != "" {
		return false
	}
	shared := 0
	for _, m := range a.Members {
		if slices.Contains(b.Members, m) {
			shared++
		}
	}
	return shared*2 >= min(len(a.Members), len(b.Members)) && shared > 0
}

func (w *consistency) oddPlaces(add func(*observation, string, string) *Finding) {
	for _, in := range slices.Sorted(maps.Keys(w.wheres)) { // parameters may be named in a member of their own
		t := w.wheres[in]
		best := t.most()
		if !t.usual(best) {
			continue
		}
		for _, s := range t.others(best) {
			if !Alike(best.about, s.about) {
				continue // the answer as a whole is odd, and that is reported
			}
			add(s, "odd-layout", fmt.Sprintf("fields are named at %s, where %d of %d answers name them at %s: %s", placeOf(s.about), best.count, t.total, placeOf(best.about), places(s)))
		}
	}
}

func placeOf(t *Fingerprint) string {
	return fmt.Sprintf("%s as %s", ShownWhere(t.Where), notationWords[t.Notation])
}

var notationWords = map[layout.Notation]string{layout.Pointer: "JSON Pointers", layout.Fragment: "JSON Pointers in fragments", layout.Dotted: "names", layout.Segments: "lists of segments"}

// NotationWords says a notation of a Layout in words.
func NotationWords(notation string) string { return notationWords[layout.Notation(notation)] }

// ShownWhere writes a place for people: errors[*].pointer for /errors/*/pointer.
func ShownWhere(where string) string {
	text := strings.ReplaceAll(strings.TrimPrefix(where, "/"), "/*", "[*]")
	text = strings.ReplaceAll(text, "/", ".")
	if text == "" || text == "*" {
		return "the top"
	}
	return text
}

func (w *consistency) oddStatuses(add func(*observation, string, string) *Finding) {
	// Several classes that one operation answers otherwise are one finding.
	type odd struct {
		classes []string
		sight   observation
		message string
	}
	var list []*odd
	by := map[string]*odd{}
	for _, class := range slices.Sorted(maps.Keys(w.statuses)) {
		t := w.statuses[class]
		best := t.most()
		if !t.usual(best) {
			continue
		}
		for _, s := range t.others(best) {
			key := way(t, s) + " " + topThree(s.ops)
			o := by[key]
			if o == nil {
				o = &odd{sight: *s, message: fmt.Sprintf("violations usually get %s here (%d of %d); these got %s: %s", way(t, best), best.count, t.total, way(t, s), places(s))}
				o.sight.count = 0
				by[key] = o
				list = append(list, o)
			}
			o.classes = append(o.classes, class)
			o.sight.count += s.count
		}
	}
	for _, o := range list {
		add(&o.sight, "odd-status", strings.Join(o.classes, ", ")+" "+o.message)
	}
}

func way(t *counter, s *observation) string {
	for name, other := range t.seen {
		if other == s {
			return name
		}
	}
	return ""
}

// places says where a way was seen: its operations and rules, a few of each.
func places(s *observation) string {
	return topThree(s.ops) + " (" + topThree(s.rules) + ")"
}

func topThree(counts map[string]int) string {
	names := slices.Sorted(maps.Keys(counts))
	slices.SortStableFunc(names, func(a, b string) int { return cmp.Compare(counts[b], counts[a]) })
	text := strings.Join(names[:min(3, len(names))], ", ")
	if more := len(names) - 3; more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

func (w *consistency) drift(add func(*observation, string, string) *Finding) {
	for _, kind := range slices.Sorted(maps.Keys(w.types)) {
		t := w.types[kind]
		best := t.most()
		status, title, _ := strings.Cut(way(t, best), " ")
		for _, s := range t.others(best) {
			otherStatus, otherTitle, _ := strings.Cut(way(t, s), " ")
			switch {
			case otherTitle != title:
				add(s, "title-drift", fmt.Sprintf("the type %s has the title %q here and %q in %d of %d answers", kind, otherTitle, title, best.count, t.total))
			case otherStatus != status:
				add(s, "title-drift", fmt.Sprintf("the type %s comes with %s here and with %s in %d of %d answers", kind, otherStatus, status, best.count, t.total))
			}
		}
	}
	for _, title := range slices.Sorted(maps.Keys(w.titles)) {
		t := w.titles[title]
		best := t.most()
		for _, s := range t.others(best) {
			f := add(s, "title-drift", fmt.Sprintf("the title %q belongs to the type %s here and to %s in %d of %d answers", title, way(t, s), way(t, best), best.count, t.total))
			f.Severity = Note // types may share their words
		}
	}
}
