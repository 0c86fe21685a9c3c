package trial

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"obiter/internal/target/fixture"
)

// maxListed bounds the addresses that are told of one operation where no file has them.
const maxListed = 20

// The kinds of what remains, in the order in which an operation's are told.
const (
	notDeleted = iota
	earlier
	perhaps
	appeared
	changed
)

func kindOf(l fixture.Left) int {
	switch {
	case l.Perhaps > 0:
		return perhaps
	case l.Appeared:
		return appeared
	case l.Setting:
		return changed
	case l.Earlier:
		return earlier
	}
	return notDeleted
}

// remainders are lines that tell what remains, by the operations that created it: one for what was
// not deleted, one for what was perhaps created, one for what appeared. file has the addresses;
// empty: the lines do.
func remainders(left []fixture.Left, file string) []string {
	type group struct {
		operation string
		kind      int
	}
	groups := map[group][]fixture.Left{}
	for _, l := range left {
		g := group{l.Operation, kindOf(l)}
		groups[g] = append(groups[g], l)
	}
	var out []string
	for _, g := range slices.SortedFunc(maps.Keys(groups), func(a, b group) int {
		return cmp.Or(strings.Compare(a.operation, b.operation), a.kind-b.kind)
	}) {
		out = append(out, remainder(groups[g], g.operation, g.kind, file))
	}
	return out
}

// remainder is the line of what is left of one operation and kind.
func remainder(list []fixture.Left, operation string, kind int, file string) string {
	n := 0
	var addresses []string
	for _, l := range list {
		n += max(l.Unknown+l.Perhaps, 1)
		if l.Address != "" {
			addresses = append(addresses, l.Address)
		}
	}
	at := ""
	switch {
	case len(addresses) == 0:
	case file != "" && kind != appeared:
		at = "; addresses in " + file
	default:
		at = ": " + strings.Join(addresses[:min(len(addresses), maxListed)], ", ")
		if more := len(addresses) - maxListed; more > 0 {
			at += fmt.Sprintf(" and %d more", more)
		}
	}
	switch kind {
	case earlier:
		return fmt.Sprintf("not deleted: %s of %s, created by an earlier run (%s)%s", records(n), operation, reasons(list), at)
	case perhaps:
		by := ""
		if list[0].Earlier {
			by = " of an earlier run"
		}
		return fmt.Sprintf("perhaps created: %s of %s, for no answer came to as many requests%s", atMost(n), operation, by)
	case changed:
		return fmt.Sprintf("not restored: what %s changes (%s)", operation, reasons(list))
	case appeared:
		return fmt.Sprintf("appeared during the run: %s where %s creates some, which nothing shows to be of this run%s", records(n), operation, at)
	}
	return fmt.Sprintf("not deleted: %s of %s (%s)%s", records(n), operation, reasons(list), at)
}

// reasons are those why something is left, each with a number where there are several.
func reasons(list []fixture.Left) string {
	var out []string
	counts := map[string]int{}
	for _, l := range list {
		why := l.Why
		if l.Unknown > 0 {
			why = "no answer tells the address"
		}
		if counts[why] == 0 {
			out = append(out, why)
		}
		counts[why] += max(l.Unknown, 1)
	}
	if len(out) > 1 {
		for i, why := range out {
			out[i] = fmt.Sprintf("%s (%d)", why, counts[why])
		}
	}
	return strings.Join(out, "; ")
}

func records(n int) string {
	if n == 1 {
		return "1 record"
	}
	return fmt.Sprintf("%d records", n)
}

func atMost(n int) string {
	if n == 1 {
		return "1 record"
	}
	return fmt.Sprintf("at most %d records", n)
}
