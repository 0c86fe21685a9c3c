package run

import (
	"maps"
	"net/url"
	"slices"

	"obiter/internal/core/exchange"
	"obiter/internal/core/secret"
	"obiter/internal/learn/capture"
	"obiter/internal/learn/match"
	"obiter/internal/results/record"
)

// Captured tells what became of the exchanges of captures.
type Captured struct {
	Exchanges int          // that are judged
	Foreign   int          // of no operation of the description
	Left      capture.Left // out, by reason
	// Contradicted are operations of which many requests were accepted, and the
	// description calls none of them valid.
	Contradicted []string
}

// manyAccepted is how many accepted requests it takes to doubt a description.
const manyAccepted = 5

// Source gives out the exchanges of captures, from the beginning each time, counting in
// left what it leaves out.
type Source func(left capture.Left, yield func(capture.Exchange) bool) error

// Transcribe writes captured exchanges as the cases of a run, which is judged like any
// other: those that prove something first. Without a matcher nothing is known of what is
// valid. Credentials are not written. The error is one of the source or of writing.
func Transcribe(source Source, m *match.Matcher, secrets *secret.Set, w *record.Writer) (Captured, error) {
	out := Captured{Left: capture.Left{}}
	templates := capture.NewTemplates()
	err := source(capture.Left{}, func(x capture.Exchange) bool {
		LearnSecrets(secrets, x)
		if m != nil {
			m.Learn(x)
		} else if u, err := url.Parse(x.URL); err == nil && x.Answer.Success() {
			templates.See(x.Method, u.EscapedPath())
		}
		return true
	})
	if err != nil {
		return out, err
	}
	templates.Settle()
	number := 0
	one := func(x capture.Exchange) (exchange.Exchange, bool) {
		if m != nil {
			return m.Case(x)
		}
		number++
		return match.Bare(operationOf(templates, x), number, x), x.Answer.Success() || x.Answer.Status >= 400
	}
	if m != nil {
		for _, d := range m.Operations() {
			if err := w.Operation(d); err != nil {
				return out, err
			}
		}
	}
	valid, invalid := map[string]int{}, map[string]int{}
	write := func(first bool) error {
		var failed error
		left := capture.Left{}
		err := source(left, func(x capture.Exchange) bool {
			e, ok := one(x)
			switch proves := ok && e.Kind == exchange.Control && e.Response.Success(); {
			case !ok && first:
				out.Foreign++
			case ok && proves == first:
				out.Exchanges++
				if e.Response.Success() && proves {
					valid[e.Operation]++
				} else if e.Response.Success() && !e.Expect.Class.SuccessIsRight() {
					invalid[e.Operation]++
				}
				failed = w.Result(record.Result{Exchange: secrets.Exchange(withoutCredentials(e))})
			}
			return failed == nil
		})
		if first {
			out.Left = left
		}
		if failed != nil {
			return failed
		}
		return err
	}
	if err := write(true); err != nil {
		return out, err
	}
	number = 0
	if m != nil {
		m.Restart()
	}
	err = write(false)
	for _, operation := range slices.Sorted(maps.Keys(invalid)) {
		if valid[operation] == 0 && invalid[operation] >= manyAccepted {
			out.Contradicted = append(out.Contradicted, operation)
		}
	}
	return out, err
}

// operationOf names a request without a description: by its template, else its path.
func operationOf(t *capture.Templates, x capture.Exchange) string {
	u, err := url.Parse(x.URL)
	if err != nil || x.URL == capture.NoAddress {
		return "a problem document"
	}
	if template, _, known := t.Of(u.EscapedPath()); known {
		return x.Method + " " + template
	}
	return x.Method + " " + u.EscapedPath()
}

// LearnSecrets takes the values of an exchange's credentials for secrets, wherever they come back.
func LearnSecrets(secrets *secret.Set, x capture.Exchange) {
	for _, h := range x.Headers {
		if match.IsCredential(h[0]) {
			secrets.LearnHeader(h[0], h[1])
		}
	}
}

// withoutCredentials is an exchange without the headers that open a door.
func withoutCredentials(e exchange.Exchange) exchange.Exchange {
	var kept [][2]string
	for _, h := range e.Request.Headers {
		if !match.IsCredential(h[0]) {
			kept = append(kept, h)
		}
	}
	e.Request.Headers = kept
	e.Response.Header = e.Response.Header.Clone()
	for _, name := range match.Credentials {
		e.Response.Header.Del(name)
	}
	return e
}
