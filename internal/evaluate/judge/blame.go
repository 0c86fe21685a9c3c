package judge

import (
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/core/rule"
	"obiter/internal/evaluate/layout"
	"obiter/internal/evaluate/problem"
)

func pointers(c exchange.Case) []string {
	var out []string
	for _, f := range c.Flaws {
		out = append(out, f.Pointer)
	}
	return out
}

// blame compares the fields that an answer names with those that were wrong.
func blame(c exchange.Case, ctx Context, doc problem.Document, reading layout.Reading) []Finding {
	if namesNothing(c, reading) {
		return []Finding{noFieldErrors(c, doc, len(reading.Fields) > 0)}
	}
	touched := make([]bool, len(reading.Fields))
	found, missing, reported := blameEach(c, reading, touched)
	found = append(found, notPointers(reading)...)
	var astray []layout.Named
	for i, n := range reading.Fields {
		if !touched[i] && !nearAlternative(c, n) && !mayBeBlamed(c, n) {
			astray = append(astray, n)
		}
	}
	found = append(found, misplaced(c, astray)...)
	missing = slices.DeleteFunc(missing, func(f exchange.Flaw) bool { // that is reported already, with the index that is wrong
		shifted := slices.ContainsFunc(astray, func(n layout.Named) bool { return n.Name.Fits(f.Pointer) == layout.WrongIndex })
		if shifted {
			reported = append(reported, f)
		}
		return shifted
	})
	if len(c.Flaws) > 1 { // only what is rejected and named by itself can be missed among others
		missing = slices.DeleteFunc(missing, func(f exchange.Flaw) bool {
			return !ctx.Knowledge.Told(c.Operation, f.In, f.Pointer, f.Rule+" "+f.Variant) || behindTag(c, f)
		})
	}
	if c.Captured && len(reported) > 0 { // flaws of several stages, which nobody put together on purpose
		missing = slices.DeleteFunc(missing, func(f exchange.Flaw) bool {
			return !slices.ContainsFunc(reported, func(r exchange.Flaw) bool { return rule.StageOf(r) == rule.StageOf(f) })
		})
	}
	if len(missing) > 0 && (len(reported) > 0 || !has(found, "broken-pointer")) { // which was probably meant for the missing field
		found = append(found, omitted(c, missing, reported, reading)...)
	}
	return found
}

func has(found []Finding, code string) bool {
	return slices.ContainsFunc(found, func(f Finding) bool { return f.Code == code })
}

// blameEach looks for each flaw of a field among the fields that an answer names, and marks those
// that fit one as touched: which flaws are missing, and which are reported.
func blameEach(c exchange.Case, reading layout.Reading, touched []bool) (found []Finding, missing, reported []exchange.Flaw) {
	owners := owners(c, reading)
	for at, f := range c.Flaws {
		if !f.OfField() {
			continue
		}
		best, by := rule.Missed, -1
		for i, n := range reading.Fields {
			if owners[i] >= 0 && owners[i] != at {
				continue
			}
			s := fit(f, n)
			if s < rule.Right && inAlternative(c, f, n) {
				s = rule.Right
			}
			touched[i] = touched[i] || s > rule.Missed
			if s > best {
				best, by = s, i
			}
		}
		if best == rule.Missed {
			missing = append(missing, f)
			continue
		}
		reported = append(reported, f)
		if reading.Fields[by].Message == "" && !has(found, "empty-message") {
			found = append(found, finding("empty-message", f.Pointer, reading.Fields[by].At, fmt.Sprintf("%s is named, and nothing says what is wrong with it", f.Where())))
		}
		if best == rule.Vague {
			found = append(found, vaguely(f, reading.Fields[by]))
		}
	}
	return found, missing, reported
}

// namesNothing reports whether an answer names no field: nothing at all, or the
// whole body alone, which is named for anything. It counts where the rule is one
// of the whole, or where its words speak of the field.
func namesNothing(c exchange.Case, reading layout.Reading) bool {
	return !slices.ContainsFunc(reading.Fields, func(n layout.Named) bool {
		return n.Name.Fits("") != layout.Exact || slices.ContainsFunc(c.Flaws, func(f exchange.Flaw) bool { return fit(f, n) > rule.Missed || ofBranches(c, f) })
	})
}

// ofBranches reports whether a member is missing that only branches of the body's oneOf
// or anyOf may require: which of them is missing nobody can say, and the body is wrong.
func ofBranches(c exchange.Case, f exchange.Flaw) bool {
	return f.Rule == "required" && instance.Parent(f.Pointer) == "" && slices.Contains(c.Alternatives, "")
}

// owners are the flaws that names fit exactly, by their indexes, which uses a name
// up; -1 for a name that fits none.
func owners(c exchange.Case, reading layout.Reading) []int {
	out := make([]int, len(reading.Fields))
	for i, n := range reading.Fields {
		out[i] = slices.IndexFunc(c.Flaws, func(f exchange.Flaw) bool { return f.OfField() && n.Name.Fits(f.Pointer) == layout.Exact })
	}
	return out
}

// fit tells how well a name tells of a flaw. A name inside the field is the
// field's: rules of a whole list or object are often reported at an entry.
func fit(f exchange.Flaw, n layout.Named) rule.Blame {
	fit := n.Name.Fits(f.Pointer)
	switch fit {
	case layout.Exact, layout.Below:
		return rule.Right
	case layout.Spelling:
		if f.In == "header" {
			return rule.Right // names of header fields are the same in any case (RFC 9110, section 5.1)
		}
		return rule.Vague
	case layout.NoIndex, layout.NameOnly:
		if ofParameter(f, n) {
			return rule.Right
		}
		return rule.Vague
	case layout.None, layout.WrongIndex:
		return calledFor(f, n)
	}
	allowed := rule.Of(f)
	holder := instance.Parent(f.Pointer)
	parent := n.Name.Fits(holder) == layout.Exact || fit == layout.Root && holder == ""
	switch {
	case parent && allowed.Parent == rule.Right:
		return rule.Right
	case fit == layout.Root && allowed.Above == rule.Right:
		return rule.Right
	case fit == layout.Root: // the whole body is named for anything; it counts if it speaks of the field
		if parent && n.Speaks(f.Pointer) {
			return rule.Vague
		}
		return rule.Missed
	}
	return allowed.Above
}

// ofParameter reports whether a name is right as seen from the parameter that the
// field is part of: colour, for a parameter filter that is an object with colour.
func ofParameter(f exchange.Flaw, n layout.Named) bool {
	tokens, err := instance.Split(f.Pointer)
	return f.In != "body" && err == nil && len(tokens) > 1 && n.Name.Fits(instance.Join("", tokens[1:]...)) == layout.Exact
}

// calledFor accepts for dependentRequired the member that requires the missing one.
func calledFor(f exchange.Flaw, n layout.Named) rule.Blame {
	if f.RequiredBy != "" && n.Name.Fits(instance.Join(instance.Parent(f.Pointer), f.RequiredBy)) == layout.Exact {
		return rule.Right
	}
	return rule.Missed
}

// inAlternative reports whether a flaw lies inside a oneOf or anyOf and the name
// is of the place where that is: which branch was meant is open.
func inAlternative(c exchange.Case, f exchange.Flaw, n layout.Named) bool {
	return slices.ContainsFunc(c.Alternatives, func(at string) bool {
		fit := n.Name.Fits(at)
		return instance.Within(f.Pointer, at) && (fit == layout.Exact || at == "" && fit == layout.Root)
	})
}

// nearAlternative reports whether a name is of something inside a oneOf or
// anyOf that has a flaw inside: readers report what the other branches miss.
func nearAlternative(c exchange.Case, n layout.Named) bool {
	return slices.ContainsFunc(c.Alternatives, func(at string) bool {
		fit := n.Name.Fits(at)
		inside := fit == layout.Exact || fit == layout.Below || at == "" || isBare(c, n)
		return inside && slices.ContainsFunc(c.Flaws, func(f exchange.Flaw) bool { return instance.Within(f.Pointer, at) })
	})
}

// isBare reports whether a name is that of a member without what it is part of,
// and of no member at the top, which would be meant with it. Readers that go
// through branches often name their members so.
func isBare(c exchange.Case, n layout.Named) bool {
	path := n.Name.Path()
	if n.Name.IsPointer() || n.Name.Notation != layout.Plain {
		return false
	}
	_, sent := instance.Get(c.Body, path)
	_, usual := instance.Get(c.Control, path)
	return !sent && !usual
}

// mayBeBlamed reports whether a name is of a field that a business rule speaks of
// which the flaw breaks as well.
func mayBeBlamed(c exchange.Case, n layout.Named) bool {
	return slices.ContainsFunc(c.MayBlame, func(at string) bool {
		fit := n.Name.Fits(at)
		return fit != layout.None && fit != layout.Root
	})
}

func vaguely(f exchange.Flaw, n layout.Named) Finding {
	name := fmt.Sprintf("%q", n.Name.Raw)
	var message string
	how := n.Name.Fits(f.Pointer)
	ways := map[layout.Fit]string{layout.Spelling: "spelling", layout.NoIndex: "index", layout.NameOnly: "path"}
	if n.Name.IsPointer() && ways[how] != "" { // RFC 6901, section 4
		return inWay(ways[how], finding("broken-pointer", f.Pointer, n.At, fmt.Sprintf("%s is named as %s, which points to nothing in the request", f.Where(), name)))
	}
	switch how {
	case layout.Spelling:
		message = fmt.Sprintf("%s is named as %s, spelt differently from the request", f.Where(), name)
	case layout.NoIndex:
		message = fmt.Sprintf("%s is named as %s, without the index, so that a client cannot tell which element is meant", f.Where(), name)
	case layout.NameOnly:
		message = fmt.Sprintf("%s is named as %s, without what it is part of", f.Where(), name)
	default:
		message = fmt.Sprintf("%s is invalid, but %s is named, which contains it", f.Where(), name)
	}
	return inWay(ways[how], finding("vague-field", f.Pointer, n.At, message))
}

// inWay is a finding with what tells its cause from others of its code.
func inWay(way string, f Finding) Finding {
	f.Variant = way
	return f
}

// notPointers finds names in the member "pointer" of the RFC's layout that are
// none. A plain pointer without the "#" of a fragment is let pass.
func notPointers(r layout.Reading) []Finding {
	if !strings.HasSuffix(r.Where, "/pointer") {
		return nil
	}
	for _, n := range r.Fields {
		if !n.Name.IsPointer() {
			return []Finding{finding("broken-pointer", "", instance.Join(n.At, "pointer"), fmt.Sprintf("the member pointer holds %q, which is not a JSON Pointer", n.Name.Raw))}
		}
	}
	return nil
}

// misplaced judges names that tell of no flaw: fields that were right, or
// pointers to nothing.
func misplaced(c exchange.Case, astray []layout.Named) []Finding {
	var found []Finding
	for _, n := range astray {
		n.InRequest = n.InRequest || elsewhere(c, n.Name)
		switch {
		case n.InRequest && n.Name.Fits("") == layout.Exact:
			// The body as a whole, named in addition to the field.
		case n.InRequest:
			words := ""
			if n.Message != "" {
				words = ": “" + shorten(n.Message) + "”"
			}
			way := ""
			if slices.ContainsFunc(c.Flaws, func(f exchange.Flaw) bool { return n.Name.Fits(f.Pointer) == layout.WrongIndex }) {
				way = "index"
			}
			found = append(found, inWay(way, finding("wrong-field", fieldOf(c), n.At, fmt.Sprintf("%q is blamed%s, though only %s", n.Name.Raw, words, wrongOnes(c)))))
		case n.Name.IsPointer():
			found = append(found, finding("broken-pointer", fieldOf(c), n.At, fmt.Sprintf("%q does not lead to any field of the request; %s", n.Name.Raw, wrongOnes(c))))
		}
		if len(found) > 0 {
			break // one tells it
		}
	}
	return found
}

// behindTag reports whether another flaw of the case is in a member that selects
// the branch of an alternative which the field is in: which rules hold there is open.
func behindTag(c exchange.Case, f exchange.Flaw) bool {
	return slices.ContainsFunc(c.Alternatives, func(at string) bool {
		return instance.Within(f.Pointer, at) && slices.ContainsFunc(c.Flaws, func(tag exchange.Flaw) bool {
			selects := tag.Rule == "const" || tag.Rule == "enum" || tag.Rule == "required"
			return selects && tag.Pointer != f.Pointer && tag.Pointer != at && instance.Parent(tag.Pointer) == at
		})
	})
}

// elsewhere reports whether a pointer leads to something in another part of the
// request than the flawed one: a member of the body, a parameter.
func elsewhere(c exchange.Case, n layout.Name) bool {
	tokens, err := instance.Split(n.Path())
	if !n.IsPointer() || err != nil || len(tokens) == 0 {
		return false
	}
	if c.Part() != "body" {
		body, err := instance.Decode(c.Request.Body)
		if _, there := instance.Get(body, n.Path()); err == nil && there {
			return true
		}
	}
	if len(tokens) > 1 {
		return false
	}
	u, err := url.Parse(c.Request.URL)
	return err == nil && u.Query().Has(tokens[0]) || c.Request.Header(tokens[0]) != "" || strings.Contains(c.Operation, "{"+tokens[0]+"}")
}

func wrongOnes(c exchange.Case) string {
	if len(c.Flaws) == 1 {
		return c.Flaws[0].Where() + " is invalid"
	}
	return fmt.Sprintf("%d other fields are invalid", len(c.Flaws))
}

func noFieldErrors(c exchange.Case, doc problem.Document, ofAll bool) Finding {
	where := fieldOf(c)
	subject := c.Flaws[0].Where() + " is invalid"
	if len(c.Flaws) > 1 {
		subject = fmt.Sprintf("%d fields are invalid", len(c.Flaws))
	}
	for _, f := range c.Flaws {
		if sentence, ok := layout.Mentions(doc.Value, f.Pointer); ok {
			return inWay("sentence", finding("no-field-errors", where, "", fmt.Sprintf("%s, and it is named only inside a sentence: “%s”", subject, shorten(sentence))))
		}
	}
	if ofAll {
		return finding("no-field-errors", where, "", subject+", and the answer names only the whole body")
	}
	return finding("no-field-errors", where, "", subject+", and the answer names no field at all")
}

// omitted judges flaws that are not reported. Where only some of several are,
// the rest may rightly come later: what a decoder stops at is reported before
// limits are looked at.
func omitted(c exchange.Case, missing, reported []exchange.Flaw, r layout.Reading) []Finding {
	if len(reported) == 0 {
		var named []string
		for _, n := range r.Fields[:min(3, len(r.Fields))] {
			named = append(named, fmt.Sprintf("%q", n.Name.Raw))
		}
		if len(c.Flaws) > 1 {
			return []Finding{finding("missed-field", "", r.Where, fmt.Sprintf("none of the %d invalid fields is reported, only %s", len(c.Flaws), strings.Join(named, ", ")))}
		}
		return []Finding{finding("missed-field", fieldOf(c), r.Where, c.Flaws[0].Where()+" is invalid, but only "+strings.Join(named, ", ")+" is reported")}
	}
	last := rule.Decoding
	for _, f := range reported {
		last = max(last, rule.StageOf(f))
	}
	if !slices.ContainsFunc(missing, func(f exchange.Flaw) bool { return rule.StageOf(f) <= last }) {
		return nil
	}
	return []Finding{finding("one-at-a-time", "", r.Where, fmt.Sprintf("%d fields are invalid and %s reported; not reported: %s", len(missing)+len(reported), count(len(reported)), list(missing)))}
}

func count(n int) string {
	if n == 1 {
		return "only 1 is"
	}
	return fmt.Sprintf("only %d are", n)
}

func list(flaws []exchange.Flaw) string {
	var out []string
	for i, f := range flaws {
		if i == 5 && len(flaws) > 6 {
			out = append(out, fmt.Sprintf("and %d more", len(flaws)-i))
			break
		}
		out = append(out, f.Where())
	}
	return strings.Join(out, ", ")
}

// lesson is what a rejection can teach of how fields are named; false where it
// teaches nothing.
func (l *look) lesson() (layout.Lesson, bool) {
	c, a := *l.c, *l.a
	if c.Kind != exchange.Flawed || len(c.Flaws) != 1 || a.Err != "" || a.Status < 400 || a.Status >= 500 || l.doc.Value == nil {
		return layout.Lesson{}, false
	}
	f := c.Flaws[0]
	out := layout.Lesson{Operation: c.Operation, In: f.In}
	switch {
	case slices.Contains(c.Expect.Statuses, a.Status) && a.Status != http.StatusNotFound && asksForField(c, a.Status):
		out.Pointer, out.Flaw = f.Pointer, f.Rule+" "+f.Variant
	case f.OfField():
		return out, false // another layer, which looks at no field
	}
	out.Places = l.places()
	out.Tells = func(n layout.Named) bool {
		fits := n.Name.Fits(f.Pointer)
		return fits != layout.None && fits != layout.Root || calledFor(f, n) > rule.Missed
	}
	return out, true
}
