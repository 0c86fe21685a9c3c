package report

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/evaluate/judge"
	"obiter/internal/input/config"
)

// knownCause is a cause that is known, with what of it occurred.
type knownCause struct {
	config.Known
	expired bool
	met     map[string]bool // operations and fields
}

// Accept says which causes are known; the day is today, as 2027-01-31. It comes before any
// case.
func (r *Report) Accept(list []config.Known, day string) {
	for _, k := range list {
		r.known = append(r.known, &knownCause{Known: k, expired: k.Until != "" && k.Until < day, met: map[string]bool{}})
	}
}

// knownAs is the known cause that covers a finding; nil: it is new.
func (r *Report) knownAs(k entryKey) *knownCause {
	if k.severity == string(judge.Note) {
		return nil
	}
	field := knownField(k.place)
	for _, c := range r.known {
		if !c.expired && c.Covers(k.code, k.operation, field, k.family, k.at) {
			c.met[k.operation], c.met[field] = true, true
			return c
		}
	}
	return nil
}

// knownField is a field as a Known has it.
func knownField(place string) string {
	return cmp.Or(strings.TrimPrefix(place, "body "), config.WholeRequest)
}

// Stale says which known causes, or parts of them, no longer occur although their
// operations were tried, and which are past their day.
func (r *Report) Stale() []string {
	var out []string
	for _, c := range r.known {
		what := c.Code + " of " + strings.Join(c.Operations, ", ")
		if c.expired {
			out = append(out, fmt.Sprintf("line %d, %s: its day, %s, is past, so it counts again", c.Line, what, c.Until))
			continue
		}
		if slices.ContainsFunc(c.Operations, func(o string) bool {
			i, has := r.order[o]
			return !has || r.Lines[i].Cases == 0 || r.Lines[i].Unproven == r.Lines[i].Cases
		}) {
			continue // not all of it was tried
		}
		var gone []string
		for _, part := range slices.Concat(c.Operations, c.Fields) {
			if !c.met[part] && r.triedOf(c, part) {
				gone = append(gone, part)
			}
		}
		switch {
		case len(c.met) == 0 && len(gone) < len(c.Operations)+len(c.Fields): // not all of it was tried
		case len(c.met) == 0:
			out = append(out, fmt.Sprintf("line %d, %s: it no longer occurs; take it out", c.Line, what))
		case len(gone) > 0:
			out = append(out, fmt.Sprintf("line %d, %s: no longer at %s; take these out", c.Line, what, strings.Join(gone, ", ")))
		}
	}
	return out
}

// triedOf reports whether requests broke rules of a known cause at a field of it; of an
// operation, and of what is of no field, that is taken for granted.
func (r *Report) triedOf(c *knownCause, part string) bool {
	if !slices.Contains(c.Fields, part) || part == config.WholeRequest {
		return true
	}
	for s := range r.cells.at {
		k := r.cell(s)
		if slices.Contains(c.Operations, k.operation) && (k.field == part || k.in+" "+strings.TrimPrefix(k.field, "/") == part) &&
			(len(c.Families) == 0 || slices.ContainsFunc(c.Families, func(family string) bool { return cmp.Or(columnOf[family], "other") == k.column })) {
			return true
		}
	}
	return false
}

// Accepted are the causes as known ones, in the order of the entries. What is known already
// is not among them.
func (r *Report) Accepted(which func(*Cause) bool) []config.Known {
	parts := map[entryKey]*config.Known{}
	add := func(list *[]string, text string) {
		if text != "" && !slices.Contains(*list, text) {
			*list = append(*list, text)
		}
	}
	for key := range r.entries {
		if key.known || key.severity == string(judge.Note) {
			continue
		}
		g := r.group(key)
		k := parts[g]
		if k == nil {
			k = &config.Known{Code: key.code, At: g.at}
			parts[g] = k
		}
		add(&k.Operations, key.operation)
		add(&k.Fields, knownField(key.place))
		add(&k.Families, key.family)
	}
	var out []config.Known
	for _, e := range r.Entries() {
		if e.Known || e.Severity == judge.Note || which != nil && !which(e) {
			continue
		}
		k := parts[e.group]
		if k == nil {
			continue // folded into another
		}
		for _, also := range e.also {
			if o := parts[also]; o != nil {
				k.Operations, k.Fields, k.Families = union(k.Operations, o.Operations), union(k.Fields, o.Fields), union(k.Families, o.Families)
			}
		}
		k.Comment = instance.Shorten(instance.OneLine(cmp.Or(e.Summary, e.Examples[0].Message)), 200)
		slices.Sort(k.Operations)
		slices.Sort(k.Fields)
		slices.Sort(k.Families)
		out = append(out, *k)
	}
	return out
}
