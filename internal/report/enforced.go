package report

import (
	"slices"

	"obiter/internal/judge"
	"obiter/internal/record"
)

// enforced is how many requests with flaws in one part were answered, and how many
// of them with success.
type enforced struct {
	in                 string
	answered, accepted int
}

// part is how a part of the request fared; that of no requests where there were none.
func (l *Line) part(in string) enforced {
	if i := slices.IndexFunc(l.parts, func(p enforced) bool { return p.in == in }); i >= 0 {
		return l.parts[i]
	}
	return enforced{in: in}
}

// unchecked reports whether hardly any rule of the part is enforced.
func (p enforced) unchecked() bool {
	const few = 10
	return p.accepted >= few && p.accepted*10 >= p.answered*9
}

// enforce counts a request with flaws in one part, and whether it was accepted.
func (l *Line) enforce(res *record.Result) {
	in := part(res)
	if in == "" || res.Verdict == judge.Unproven || res.Response.Err != "" || res.Expect.Class.SuccessIsRight() {
		return
	}
	at := slices.IndexFunc(l.parts, func(p enforced) bool { return p.in == in })
	if at < 0 {
		at = len(l.parts)
		l.parts = append(l.parts, enforced{in: in})
	}
	l.parts[at].answered++
	if res.Response.Success() {
		l.parts[at].accepted++
	}
}
