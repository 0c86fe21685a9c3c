package record

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"slices"

	"golang.org/x/net/http/httpguts"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/evaluate/judge"
)

// The types of lines.
const (
	typeRun     = "run"       // the first: about the run
	typeOp      = "operation" // where the description has an operation and its rules
	typeCase    = "case"      // a case with its answer, and what is wrong with it
	typeRepeat  = "repeat"    // a rejected case that was sent again, with both answers
	typeClosing = "closing"   // a control that was sent again after the flawed requests
	typeState   = "state"     // a rejected case, with what a resource showed around it
	typeLog     = "log"       // what the service logged of a case
	typeFinding = "finding"   // what only the whole run shows, of a case
	typeEnd     = "end"       // the last: the totals
)

// caseLine is a case with all that judging it takes.
type caseLine struct {
	Type   string `json:"type"`
	Number int    `json:"number"` // place in the plan
	exchange.Case
	ProvenBy     string   `json:"provenBy,omitempty"` // the operation whose control proves it; empty: its own
	Base         string   `json:"base"`
	Alternatives []string `json:"alternatives,omitempty"`
	SecretFields []string `json:"secretFields,omitempty"`
	// Parts are a control's values by place; of the body only where the request's
	// body does not show it. Value is the flawed part of any other case, likewise.
	Parts map[string]json.RawMessage `json:"parts,omitempty"`
	Value json.RawMessage            `json:"value,omitempty"`

	Response   *exchange.Answer     `json:"response,omitempty"`
	Before     *exchange.Answer     `json:"before,omitempty"`   // a 5xx among other requests, which was not given again
	Again      *exchange.Answer     `json:"again,omitempty"`    // of a repeat: the second answer
	Readings   *judge.Readings      `json:"readings,omitempty"` // of a state
	Documented *exchange.Documented `json:"documented,omitempty"`
	Verdict    judge.Verdict        `json:"verdict,omitempty"`
	Findings   *[]judge.Finding     `json:"findings,omitempty"`
}

// readLine is a caseLine as it is read: its request and answers are read with it, and not
// each by itself, which takes twice as long.
type readLine struct {
	caseLine
	Request  exchange.RequestText `json:"request"`
	Response *exchange.AnswerText `json:"response"`
	Before   *exchange.AnswerText `json:"before"`
	Again    *exchange.AnswerText `json:"again"`
}

// line is the caseLine that was read.
func (l *readLine) line() (caseLine, error) {
	out := l.caseLine
	var err error
	answer := func(text *exchange.AnswerText) *exchange.Answer {
		if text == nil {
			return nil
		}
		a, e := text.Answer()
		err = cmp.Or(err, e)
		return &a
	}
	out.Case.Request, err = l.Request.Request()
	out.Response, out.Before, out.Again = answer(l.Response), answer(l.Before), answer(l.Again)
	return out, err
}

func lineOf(kind string, c exchange.Case) caseLine {
	l := caseLine{Type: kind, Number: c.Number, Case: c, Base: c.Base, Alternatives: c.Alternatives, SecretFields: c.SecretFields}
	if c.ProvenBy != c.Operation {
		l.ProvenBy = c.ProvenBy
	}
	shown := instance.IsEncoded(c.Request.Body, c.Body)
	if c.Kind == exchange.Control {
		for in, v := range c.Parts {
			if in == "body" && shown {
				continue
			}
			if l.Parts == nil {
				l.Parts = map[string]json.RawMessage{}
			}
			l.Parts[in] = instance.Encode(v)
		}
		return l
	}
	if c.Body != nil && !(c.Part() == "body" && shown) {
		l.Value = instance.Encode(c.Body)
	}
	return l
}

// open reads the values that the line holds as JSON texts.
func (l *caseLine) open() error {
	c := &l.Case
	c.Number, c.Base, c.Alternatives, c.SecretFields = l.Number, l.Base, l.Alternatives, l.SecretFields
	c.ProvenBy = cmp.Or(l.ProvenBy, c.Operation)
	body, err := instance.Decode(c.Request.Body)
	shown := err == nil && instance.IsEncoded(c.Request.Body, body)
	if c.Kind == exchange.Control {
		c.Parts = map[string]any{}
		for in, v := range l.Parts {
			if c.Parts[in], err = instance.Decode(v); err != nil {
				return fmt.Errorf("its part %s: %w", in, err)
			}
		}
		if _, has := c.Parts["body"]; !has && shown {
			c.Parts["body"] = body
		}
		c.Body = c.Parts["body"]
	} else if c.Body = nil; l.Value != nil {
		if c.Body, err = instance.Decode(l.Value); err != nil {
			return fmt.Errorf("its value: %w", err)
		}
	} else if c.Part() == "body" && shown {
		c.Body = body
	}
	switch {
	case l.Number < 0:
		return fmt.Errorf("its number is %d, and the first is 1", l.Number)
	case c.Kind == exchange.Flawed && len(c.Flaws) == 0:
		return errors.New("it is a flawed request and has no flaws")
	}
	return sound(*c, l.Verdict)
}

// restore gives the line's case the control that it shares with others.
func (l *caseLine) restore(controls map[string]map[string]any) exchange.Case {
	c := l.Case
	if c.Kind == exchange.Control {
		fullest := controls[c.Operation]
		if fullest == nil && len(c.LeavesOut) == 0 {
			fullest = c.Parts
			controls[c.Operation] = fullest
		}
		controls[c.Operation+" "+c.Base] = c.Parts
		c.Control = fullest["body"]
		return c
	}
	control := controls[c.ProvenBy+" "+c.Base]
	if control == nil {
		control = controls[c.ProvenBy]
	}
	part := c.Part()
	if part == "request" {
		part = "body"
	}
	c.Control = exchange.Renew(control[part], c.Body, c.Renews)
	return c
}

// caseID is what the id of a case looks like.
var caseID = regexp.MustCompile(`^[0-9a-f]{10}$`)

// sound refuses what no run writes: what is read is shown, and made a command line of.
func sound(c exchange.Case, v judge.Verdict) error {
	u, err := url.Parse(c.Request.URL)
	switch {
	case !caseID.MatchString(c.ID):
		return fmt.Errorf("the case %q is not ten hexadecimal digits", c.ID)
	case !slices.Contains([]exchange.Kind{exchange.Control, exchange.Edge, exchange.Flawed}, c.Kind):
		return fmt.Errorf("the kind %q is not control, edge or flawed", c.Kind)
	case !slices.Contains([]judge.Verdict{"", judge.Pass, judge.Fail, judge.Form, judge.Unproven}, v):
		return fmt.Errorf("the verdict %q is not pass, fail, form or unproven", v)
	case !httpguts.ValidHeaderFieldName(c.Request.Method):
		return fmt.Errorf("%q is not a method", c.Request.Method)
	case err != nil || u.Scheme != "http" && u.Scheme != "https":
		return fmt.Errorf("%q is not an address", c.Request.URL)
	}
	for _, h := range c.Request.Headers {
		if !httpguts.ValidHeaderFieldName(h[0]) {
			return fmt.Errorf("%q is not the name of a header", h[0])
		}
	}
	for _, o := range c.Credentials {
		if !slices.Contains([]string{"header", "query", "cookie"}, o.In) || o.In != "query" && !httpguts.ValidHeaderFieldName(o.Name) {
			return fmt.Errorf("the credential %q is not in a header, the query or a cookie", o.Name)
		}
	}
	return nil
}
