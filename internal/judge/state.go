package judge

import (
	"fmt"

	"obiter/internal/exchange"
	"obiter/internal/instance"
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

// Usable tells whether the readings have anything in common.
func (s Snapshot) Usable() bool { return s.usable }

// With is the snapshot at another reading.
func (s Snapshot) With(value any) Snapshot {
	s.value = value
	return s
}

// Change tells in words what is different now; "" where nothing is.
func (s Snapshot) Change(now any) string {
	change := ""
	differences("", s.value, now, func(at string, was, is any) bool {
		for v := range s.volatile {
			if instance.Within(at, v) {
				return true
			}
		}
		change = fmt.Sprintf("%s was %s and is %s", shownPlace(at), worded(was), worded(is))
		return false
	})
	return change
}

type nothing struct{}

func worded(v any) string {
	if _, is := v.(nothing); is {
		return "not there"
	}
	return shortValue(v)
}

// differences calls visit for each place at which two values differ, until it
// says false.
func differences(at string, a, b any, visit func(at string, a, b any) bool) bool {
	x, isObject := a.(map[string]any)
	y, both := b.(map[string]any)
	if !isObject || !both {
		return instance.Equal(a, b) || visit(at, a, b)
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

func late(c exchange.Case, f Finding) Late {
	return Late{Number: c.Number, Case: c.ID, Name: c.Name, Operation: c.Operation, Finding: f}
}

// Changed is the finding for a rejected case that changed what was there.
func Changed(c exchange.Case, change string) Late {
	return late(c, finding("changed-state", fieldOf(c), "", fmt.Sprintf("%s was rejected, and yet %s", said(c), change)))
}

// Unstable compares the second answer to a rejected case with the traits of the
// first: its status, its form, its type, where fields are named.
func Unstable(c exchange.Case, first *Traits, a exchange.Answer, second Judgement) (Late, bool) {
	if first == nil || a.Err != "" || a.Status == 429 || a.Status == 503 {
		return Late{}, false
	}
	was, is := fmt.Sprint(first.Status, " ", first.Form), fmt.Sprint(a.Status)
	if t := second.Traits; t != nil {
		is += " " + t.Form
		if was == is && (t.Type != first.Type || t.Where != first.Where || t.Named != first.Named) {
			return late(c, finding("unstable", fieldOf(c), "", said(c)+" was rejected twice, and the two answers differ in their type or in the fields they name")), true
		}
	}
	if was == is {
		return Late{}, false
	}
	return late(c, finding("unstable", fieldOf(c), "", fmt.Sprintf("%s was answered with %s, and the second time with %s", said(c), was, is))), true
}

// Spoilt is the finding for a control that was accepted at first and is refused
// after the flawed requests. A second creation may be a conflict.
func Spoilt(c exchange.Case, a exchange.Answer) (Late, bool) {
	switch {
	case a.Err != "" || a.Status < 400 || a.Status == 429:
		return Late{}, false
	case c.Request.Method == "POST" && a.Status < 500:
		return Late{}, false
	}
	return late(c, finding("control-rejected", "", "", fmt.Sprintf("a valid request was accepted at first, and after the flawed ones it is refused with %s%s", StatusText(a.Status), quoted(a)))), true
}
