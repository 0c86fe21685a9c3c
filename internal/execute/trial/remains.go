package trial

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"obiter/internal/target/fixture"
)

// maxListed bounds the addresses that are told of one operation where no file has them.
const maxListed = 20

// remainders are lines that tell what remains, by the operations that created it: one for what was
// not deleted, one for what was perhaps created, one for what appeared. file has the addresses;
// empty: the lines do.
func remainders(left []fixture.Left, file string) []string {
	type group struct {
		operation string
		kind      int
	}
	const (
		notDeleted = iota
		earlier
		perhaps
		appeared
		changed
	)
	sorts := map[group][]fixture.Left{}
	for _, l := range left {
		kind := notDeleted
		switch {
		case l.Perhaps > 0:
			kind = perhaps
		case l.Appeared:
			kind = appeared
		case l.Setting:
			kind = changed
		case l.Earlier:
			kind = earlier
		}
		g := group{l.Operation, kind}
		sorts[g] = append(sorts[g], l)
	}
	groups := slices.SortedFunc(maps.Keys(sorts), func(a, b group) int {
		if a.operation != b.operation {
			return strings.Compare(a.operation, b.operation)
		}
		return a.kind - b.kind
	})
	var out []string
	for _, g := range groups {
		list := sorts[g]
		n := 0
		var reasons, addresses []string
		whys := map[string]int{}
		for _, l := range list {
			n += max(l.Unknown+l.Perhaps, 1)
			why := l.Why
			if l.Unknown > 0 {
				why = "no answer tells the address"
			}
			if whys[why] == 0 {
				reasons = append(reasons, why)
			}
			whys[why] += max(l.Unknown, 1)
			if l.Address != "" {
				addresses = append(addresses, l.Address)
			}
		}
		at := ""
		switch {
		case len(addresses) == 0:
		case file != "" && g.kind != appeared:
			at = "; addresses in " + file
		default:
			at = ": " + strings.Join(addresses[:min(len(addresses), maxListed)], ", ")
			if more := len(addresses) - maxListed; more > 0 {
				at += fmt.Sprintf(" and %d more", more)
			}
		}
		if len(reasons) > 1 {
			for i, why := range reasons {
				reasons[i] = fmt.Sprintf("%s (%d)", why, whys[why])
			}
		}
		why := strings.Join(reasons, "; ")
		switch g.kind {
		case notDeleted:
			out = append(out, fmt.Sprintf("not deleted: %s of %s (%s)%s", records(n), g.operation, why, at))
		case earlier:
			out = append(out, fmt.Sprintf("not deleted: %s of %s, created by an earlier run (%s)%s", records(n), g.operation, why, at))
		case perhaps:
			by := ""
			if list[0].Earlier {
				by = " of an earlier run"
			}
			out = append(out, fmt.Sprintf("perhaps created: %s of %s, for no answer came to as many requests%s", atMost(n), g.operation, by))
		case changed:
			out = append(out, fmt.Sprintf("not restored: what %s changes (%s)", g.operation, why))
		case appeared:
			out = append(out, fmt.Sprintf("appeared during the run: %s where %s creates some, which nothing shows to be of this run%s", records(n), g.operation, at))
		}
	}
	return out
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
