package judge

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
)

// Snapshot is what a resource shows, without what changes by itself.
type Snapshot struct {
	value    any
	volatile map[string]bool // pointers
	usable   bool
}

// NewSnapshot takes two readings, one right after the other.
func NewSnapshot(first, second any) Snapshot {
	s := Snapshot{value: second, volatile: map[string]bool{}, usable: true}
	differences("", first, second, func(at string, _, _ any) bool {
		s.volatile[at] = true
		s.usable = s.usable && at != "" && len(s.volatile) < 100
		return s.usable
	})
	return s
}

// Usable reports whether the readings have anything in common.
func (s Snapshot) Usable() bool { return s.usable }

// With is the snapshot at another reading.
func (s Snapshot) With(value any) Snapshot {
	s.value = value
	return s
}

// Change says what is different now; "" if nothing is.
func (s Snapshot) Change(now any) string {
	change := ""
	differences("", s.value, now, func(at string, was, is any) bool {
		for v := range s.volatile {
			if instance.Within(at, v) {
				return true
			}
		}
		change = fmt.Sprintf("%s was %s and is %s", shownPlace(at), worded(was), worded(is))
		if more := entriesMore(was, is); more != "" {
			change = shownPlace(at) + " " + more
		}
		return false
	})
	return change
}

type nothing struct{}

func worded(v any) string {
	if _, is := v.(nothing); is {
		return "not there"
	}
	return instance.Shown(v)
}

// entriesMore says of two long lists of different lengths what was added or taken
// away.
func entriesMore(was, is any) string {
	x, isList := was.([]any)
	y, both := is.([]any)
	if !isList || !both || len(x) == len(y) || len(x)+len(y) < 8 {
		return ""
	}
	text := fmt.Sprintf("had %d entries and has %d", len(x), len(y))
	for _, e := range y {
		if !slices.ContainsFunc(x, func(old any) bool { return sameEntries([]any{old}, []any{e}) }) {
			return text + ", such as " + instance.Shown(e)
		}
	}
	return text
}

// sameEntries reports whether two lists have the same entries, in any order: many
// services list their records in none.
func sameEntries(a, b any) bool {
	x, isList := a.([]any)
	y, both := b.([]any)
	if !isList || !both || len(x) != len(y) {
		return false
	}
	count := map[string]int{}
	for i := range x {
		count[string(instance.Encode(inOrder(x[i])))]++
		count[string(instance.Encode(inOrder(y[i])))]--
	}
	for _, n := range count {
		if n != 0 {
			return false
		}
	}
	return true
}

// inOrder is a value whose lists, at every depth, are in an order of their own.
func inOrder(v any) any {
	switch v := v.(type) {
	case map[string]any:
		out := make(map[string]any, len(v))
		for name, inner := range v {
			out[name] = inOrder(inner)
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i, e := range v {
			out[i] = inOrder(e)
		}
		slices.SortFunc(out, func(a, b any) int { return bytes.Compare(instance.Encode(a), instance.Encode(b)) })
		return out
	}
	return v
}

// differences calls visit for each place at which two values differ, until it
// says false.
func differences(at string, a, b any, visit func(at string, a, b any) bool) bool {
	x, isObject := a.(map[string]any)
	y, both := b.(map[string]any)
	if !isObject || !both {
		return sameEntries(a, b) || instance.Equal(a, b) || visit(at, a, b)
	}
	for _, name := range instance.Names(x) {
		other, has := y[name]
		if !has {
			other = nothing{}
		}
		if !differences(instance.Join(at, name), x[name], other, visit) {
			return false
		}
	}
	for _, name := range instance.Names(y) {
		if _, has := x[name]; !has && !visit(instance.Join(at, name), nothing{}, y[name]) {
			return false
		}
	}
	return true
}

// Readings are what a resource showed: First and Second one right after the other
// before anything was tried, Before and After around the request in question.
type Readings struct {
	First  any `json:"first"`
	Second any `json:"second"`
	Before any `json:"before"`
	After  any `json:"after"`
	// By is the operation that showed After, where that is the record of a creation that was
	// refused; the other readings are nothing then. Empty: they are of one resource.
	By string `json:"by,omitempty"`
}

// UnmarshalJSON keeps the digits of numbers.
func (r *Readings) UnmarshalJSON(data []byte) error {
	type plain Readings
	d := json.NewDecoder(bytes.NewReader(data))
	d.UseNumber()
	return d.Decode((*plain)(r))
}

// Change says what is different after the request; "" if nothing is,
// or where the readings have nothing in common.
func (r Readings) Change() string {
	s := NewSnapshot(r.First, r.Second)
	if !s.Usable() {
		return ""
	}
	return s.With(r.Before).Change(r.After)
}

func runFinding(c exchange.Case, f Finding) RunFinding {
	return RunFinding{Number: c.Number, Case: c.ID, Name: c.Name, Operation: c.Operation, Finding: f}
}

// changed is the finding for a rejected case that changed what was there.
func changed(c exchange.Case, change string) RunFinding {
	return runFinding(c, finding("changed-state", fieldOf(c), "", fmt.Sprintf("%s was rejected, and yet %s", describe(c), change)))
}

// storedAnyway is the finding for a refused creation whose record is there all the same.
func storedAnyway(c exchange.Case, by string) RunFinding {
	what := "a valid request"
	if len(c.Flaws) > 0 {
		what = describe(c)
	}
	return runFinding(c, finding("rejected-but-stored", fieldOf(c), "", fmt.Sprintf("%s was rejected, and yet %s shows its record", what, by)))
}

// unstable compares the second answer to a rejected case with the fingerprint of
// the first: its status, its form, its type, where fields are named.
func unstable(c exchange.Case, first *Fingerprint, a exchange.Answer, second Judgement) (RunFinding, bool) {
	if first == nil || a.Err != "" || a.Status == 429 || a.Status == 503 {
		return RunFinding{}, false
	}
	was, is := fmt.Sprint(first.Status, " ", first.Form), fmt.Sprint(a.Status)
	if t := second.Fingerprint; t != nil {
		is += " " + t.Form
		if was == is && (t.Type != first.Type || t.Where != first.Where || t.Named != first.Named) {
			return runFinding(c, finding("unstable", fieldOf(c), "", describe(c)+" was rejected twice, and the two answers differ in their type or in the fields they name")), true
		}
	}
	if was == is {
		return RunFinding{}, false
	}
	return runFinding(c, finding("unstable", fieldOf(c), "", fmt.Sprintf("%s was answered with %s, and the second time with %s", describe(c), was, is))), true
}

// refusedLater is the finding for a control that was accepted at first and is refused
// after the flawed requests. A second creation may be a conflict.
func refusedLater(c exchange.Case, a exchange.Answer) (RunFinding, bool) {
	switch {
	case a.Err != "" || a.Status < 400 || a.Status == 429 || a.Status == 503 || a.Status == 409: // what was made meanwhile may be in the way
		return RunFinding{}, false
	case c.Request.Method == "POST" && a.Status < 500:
		return RunFinding{}, false
	}
	return runFinding(c, finding("control-rejected", "", "", fmt.Sprintf("a valid request was accepted at first, and after the flawed ones it is refused with %s%s", StatusText(a.Status), quoted(a)))), true
}

// unrepeated is the finding for a case that the service failed at while other requests were in
// flight, and not when nothing else was.
func unrepeated(c exchange.Case, before, after exchange.Answer) Finding {
	what := "a valid request"
	if c.Kind == exchange.Flawed {
		what = describe(c)
	}
	then := after.Err
	if then == "" {
		then = StatusText(after.Status)
	}
	return finding("unstable", "", "", fmt.Sprintf("%s was answered with %s%s while other requests were in flight, and with %s when none was", what, StatusText(before.Status), quoted(before), then))
}
