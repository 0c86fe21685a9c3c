package report

import (
	"cmp"
	"math"
	"slices"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/core/rule"
	"obiter/internal/evaluate/judge"
	"obiter/internal/results/record"
)

// Mark says how a rule of a field fared.
type Mark string

// The marks, the most serious first. Told wrongly: the request was rejected, and the answer is
// not what it should be.
const (
	NotKept   Mark = "not kept"
	Crash     Mark = "crash"
	TooStrict Mark = "too strict"
	Mistold   Mark = "wrongly told"
	NotProven Mark = "unproven"
	Kept      Mark = "kept"
	NotTried  Mark = "not tried"
)

// Marks are all marks, the most serious first.
var Marks = []Mark{NotKept, Crash, TooStrict, Mistold, NotProven, Kept, NotTried}

// Columns of the matrix: what families of rules have in common that a person checks at
// once. What is in none of them has no column.
var Columns = []string{"left out", "wrong type", "null", "size", "pattern or format", "not listed", "unknown", "blank", "business", "other"}

var columnOf = map[string]string{
	"left out": "left out", "wrong type": "wrong type", "of a readable type": "wrong type", "null": "null", "empty": "null",
	"length": "size", "bounds": "size", "lists": "size", "number of members": "size", "pattern": "pattern or format", "format": "pattern or format",
	"not listed": "not listed", "unknown members": "unknown", "blanks": "blank", "rules of your own": "business", "taken values": "business", "references": "business",
}

// Cell is how the rules of one column fared at one field.
type Cell struct {
	Mark    Mark         `json:"mark"`  // the most serious
	Cases   int          `json:"cases"` // that tried it
	Marks   map[Mark]int `json:"marks"` // how many came to each
	Shows   []string     `json:"shows"` // cases, the most serious first
	Differs bool         `json:"differs,omitempty"`
}

// Row is a field of an operation; of the request as a whole, whose columns are families of
// rules, one of those.
type Row struct {
	Operation string           `json:"operation"`
	In        string           `json:"in"`
	Field     string           `json:"field"` // a JSON Pointer with * for the entries of lists
	Cells     map[string]*Cell `json:"cells"` // by column; none: no such rule
}

// Resource are the operations of one collection, such as /vessels and
// /vessels/{vessel_id}, with what was tried of them.
type Resource struct {
	Name       string   `json:"name"`
	Operations []string `json:"operations"`
	Rows       []*Row   `json:"rows"` // field by field, of each the operations in their order
}

// Request is the In of a row about the request as a whole.
const Request = "request"

type cellKey struct{ operation, in, field, column string }

// mark takes in a judged case.
func (r *Report) mark(res *record.Result) {
	if r.brief && len(r.known) == 0 { // of known causes it tells what was tried
		return
	}
	f := res.Edge
	if f == nil && len(res.Flaws) == 1 {
		f = &res.Flaws[0]
	}
	if f == nil || res.Edge == nil && res.Expect.Class.SuccessIsRight() && res.Verdict == judge.Pass { // where both are right, no rule is kept
		return
	}
	field, family := instance.AnyIndex(f.Pointer), rule.Family([]exchange.Flaw{*f})
	column := cmp.Or(columnOf[family], "other")
	if f.In == Request {
		field, column = "", cmp.Or(family, f.Rule)
	}
	at := spot{r.Line(res.Operation).id, r.short.kinds.place(kind{f.In, column}), r.short.texts.place(field)}
	r.cells.of(at).add(shown(res.Number, slices.Index(Marks, markOf(res)), r.short.name(res.ID)))
}

// cell says in words where a cell is.
func (r *Report) cell(at spot) cellKey {
	k := r.short.kinds.values[at.kind]
	return cellKey{r.made[at.line].Operation, k.in, r.short.texts.values[at.field], k.what}
}

func markOf(res *record.Result) Mark {
	has := func(codes ...string) bool {
		return slices.ContainsFunc(res.Findings, func(f judge.Finding) bool {
			return f.Severity == judge.Error && slices.Contains(codes, f.Code)
		})
	}
	switch {
	case res.Verdict == judge.Unproven:
		return NotProven
	case has("crashed", "no-answer"):
		return Crash
	case res.Kind == exchange.Edge && has("edge-rejected"):
		return TooStrict
	case has("accepted", "changed-state", "rejected-but-stored", "read-only-stored"):
		return NotKept
	case res.Verdict != judge.Pass:
		return Mistold
	}
	return Kept
}

// Matrix is how each rule of each field fared, resource by resource, in the order of the
// plan.
func (r *Report) Matrix() []*Resource {
	cells := r.filled()
	byRow := map[cellKey]*Row{}
	var rows []*Row
	for k, c := range cells {
		at := cellKey{operation: k.operation, in: k.in, field: k.field}
		row := byRow[at]
		if row == nil {
			row = &Row{Operation: k.operation, In: k.in, Field: k.field, Cells: map[string]*Cell{}}
			byRow[at] = row
			rows = append(rows, row)
		}
		row.Cells[k.column] = c
	}
	places := r.fieldOrder()
	for _, row := range rows { // what is not described comes last
		if k := (fieldKey{row.In, row.Field}); places[k] == 0 {
			places[k] = math.MaxInt
		}
	}
	ins := []string{"path", "query", "header", "cookie", "body", Request}
	slices.SortFunc(rows, func(a, b *Row) int {
		return cmp.Or(cmp.Compare(slices.Index(ins, a.In), slices.Index(ins, b.In)),
			cmp.Compare(places[fieldKey{a.In, a.Field}], places[fieldKey{b.In, b.Field}]), cmp.Compare(a.Field, b.Field), cmp.Compare(r.order[a.Operation], r.order[b.Operation]))
	})
	var out []*Resource
	byName := map[string]*Resource{}
	for _, l := range r.Lines {
		name := resourceOf(l.Operation)
		res := byName[name]
		if res == nil {
			res = &Resource{Name: name}
			byName[name] = res
			out = append(out, res)
		}
		res.Operations = append(res.Operations, l.Operation)
	}
	for _, row := range rows {
		res := byName[resourceOf(row.Operation)]
		res.Rows = append(res.Rows, row)
	}
	out = slices.DeleteFunc(out, func(res *Resource) bool { return len(res.Rows) == 0 })
	for _, res := range out {
		res.compare()
	}
	return out
}

// filled are the cells, with those of rules that the description has and nothing tried.
func (r *Report) filled() map[cellKey]*Cell {
	out := map[cellKey]*Cell{}
	for at := range r.cells.at {
		t := r.cells.of(at)
		c := &Cell{Mark: Marks[t.shown[0].mark()], Marks: map[Mark]int{}}
		for i, n := range t.marks {
			if n > 0 {
				c.Cases += int(n)
				c.Marks[Marks[i]] = int(n)
			}
		}
		for _, s := range t.shown {
			c.Shows = append(c.Shows, r.short.id(s.name))
		}
		out[r.cell(at)] = c
	}
	for name := range r.described {
		if r.Line(name).Cases == 0 {
			continue
		}
		for _, f := range r.Described(name).Fields {
			for keyword := range f.Rules {
				column := columnOf[rule.Family([]exchange.Flaw{{In: f.In, Rule: keyword}})]
				k := cellKey{name, f.In, f.Pointer, column}
				if f.In != "body" && keyword == "type" { // text may be of that type
					continue
				}
				if column == "" || keyword == "required" || keyword == "additionalProperties" || keyword == "unevaluatedProperties" || out[k] != nil {
					continue // these are tried at the members
				}
				out[k] = &Cell{Mark: NotTried, Marks: map[Mark]int{}, Shows: []string{}}
			}
		}
	}
	return out
}

type fieldKey struct{ in, field string }

// fieldOrder is the order of fields in the description, else in the run.
func (r *Report) fieldOrder() map[fieldKey]int {
	out := map[fieldKey]int{}
	for _, l := range r.Lines {
		for _, f := range r.Described(l.Operation).Fields {
			k := fieldKey{f.In, f.Pointer}
			if _, has := out[k]; !has {
				out[k] = len(out) + 1
			}
		}
	}
	return out
}

// resourceOf is the path of an operation without the parameters that it ends with.
func resourceOf(operation string) string {
	_, path, ok := strings.Cut(operation, " ")
	if !ok || !strings.HasPrefix(path, "/") {
		return operation
	}
	for strings.HasSuffix(path, "}") {
		i := strings.LastIndexByte(path, '/')
		if i <= 0 {
			break
		}
		path = path[:i]
	}
	return path
}

// compare marks what fares otherwise in one operation of a resource than in another.
func (res *Resource) compare() {
	first := map[cellKey]*Cell{}
	differ := map[cellKey]bool{}
	each := func(do func(k cellKey, c *Cell)) {
		for _, row := range res.Rows {
			if row.In == Request {
				continue
			}
			for column, c := range row.Cells {
				if c.Mark != NotTried && c.Mark != NotProven {
					do(cellKey{"", row.In, row.Field, column}, c)
				}
			}
		}
	}
	each(func(k cellKey, c *Cell) {
		if was := first[k]; was == nil {
			first[k] = c
		} else if was.Mark != c.Mark {
			differ[k] = true
		}
	})
	each(func(k cellKey, c *Cell) { c.Differs = differ[k] })
}
