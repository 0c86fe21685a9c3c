package report

import (
	"obiter/internal/evaluate/judge"
	"obiter/internal/results/record"
)

// enforced is how many requests with flaws in one part were answered, and how many
// of them with success.
type enforced struct {
	in                 string
	answered, accepted int
}

// part is how a part of the request fared; nil where there were no requests.
func (l *Line) part(in string) *enforced {
	for i := range l.parts {
		if l.parts[i].in == in {
			return &l.parts[i]
		}
	}
	return nil
}

// unchecked reports whether hardly any rule of the part is enforced.
func (p *enforced) unchecked() bool {
	const few = 10
	return p != nil && p.accepted >= few && p.accepted*10 >= p.answered*9
}

// enforce counts a request with flaws in one part, and whether it was accepted.
func (l *Line) enforce(res *record.Result) {
	in := part(res)
	if in == "" || res.Verdict == judge.Unproven || res.Response.Err != "" || res.Expect.Class.SuccessIsRight() {
		return
	}
	p := l.part(in)
	if p == nil {
		l.parts = append(l.parts, enforced{in: in})
		p = &l.parts[len(l.parts)-1]
	}
	p.answered++
	if res.Response.Success() {
		p.accepted++
	}
}
