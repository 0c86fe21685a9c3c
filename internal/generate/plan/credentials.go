package plan

import (
	"fmt"
	"net/http"
	"slices"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/rule"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/whole"
	"obiter/internal/input/oad"
)

// authorise finds what the operation's requests are authorised with. The error
// says which credentials are missing.
func (p *Plan) authorise(op *Operation) error {
	if len(op.Security) == 0 || p.opt.Anonymous[op.Name()] {
		return nil
	}
	own := p.opt.OwnCredentials[op.Name()]
	var asked []string
	for _, way := range op.Security {
		var out []exchange.Credential
		for _, name := range way {
			i := slices.IndexFunc(p.schemes, func(s oad.Scheme) bool { return s.Name == name })
			if i < 0 || !slices.Contains(own, name) && !p.provided(p.schemes[i]) {
				out = nil
				break
			}
			s := p.schemes[i]
			c := exchange.Credential{Scheme: s.Name, Kind: s.Kind, In: s.In, Name: s.Key}
			if slices.Contains(own, name) {
				c.For = op.Name()
			}
			out = append(out, c)
		}
		if len(out) > 0 {
			op.credentials = out
			return nil
		}
		asked = append(asked, strings.Join(way, " and "))
	}
	if p.opt.Authorise {
		return fmt.Errorf("it needs credentials (%s), and none are given: use credentials: in obiter.yaml, or --header", strings.Join(asked, " or "))
	}
	return nil
}

// lacking reports whether all credentials of the operation are known of somebody who
// lacks the right.
func (e *emitter) lacking() bool {
	opt := e.op.plan.opt
	return !opt.Permits[e.op.Name()] && !slices.ContainsFunc(e.op.credentials, func(c exchange.Credential) bool { return !slices.Contains(opt.Lesser, c.Scheme) })
}

// provided reports whether a value is known for a scheme: one of its own, or a
// header that every request carries.
func (p *Plan) provided(s oad.Scheme) bool {
	return s.Kind != "" && (slices.Contains(p.opt.Credentials, s.Name) ||
		s.In == "header" && slices.ContainsFunc(p.opt.Headers, func(h string) bool { return strings.EqualFold(h, s.Key) }))
}

// authorisation sends the fullest request without its credentials, with a
// malformed one, and with one that is well-formed and wrong.
func (e *emitter) authorisation(*whole.Request) {
	for i, credential := range e.op.credentials {
		for _, v := range []struct {
			variant string
			depth   flaw.Depth
			reason  string
		}{
			{"missing", flaw.Quick, "the credential is left out"},
			{"malformed", flaw.Usual, "the credential does not have the form of its scheme"},
			{"wrong", flaw.Usual, "the credential has the right form and is nobody's"},
			{exchange.Lesser, flaw.Quick, "the credential is valid and lacks the right"},
		} {
			if !e.at(v.depth) || v.variant == "malformed" && credential.Kind == "apiKey" { // a key has no form
				continue
			}
			if v.variant == exchange.Lesser && (i > 0 || !e.lacking()) {
				continue
			}
			flawed := slices.Clone(e.op.credentials)
			flawed[i].Flaw = v.variant
			for j := range flawed {
				if v.variant == exchange.Lesser {
					flawed[j].Flaw = v.variant // it is another person
				}
			}
			values := e.op.values(fullest)
			flaws := []exchange.Flaw{{In: "request", Rule: "credentials", Variant: v.variant, Reason: fmt.Sprintf("%s (%s)", v.reason, credential.Scheme)}}
			identity := []exchange.Flaw{{In: "request", Rule: "credentials", Variant: v.variant + " " + credential.Scheme}}
			c := exchange.Case{Name: "credentials " + v.variant + " " + credential.Scheme, Kind: exchange.Flawed, Request: e.op.compose(values), Flaws: flaws, Credentials: flawed,
				Control: values["body"], Base: fullest, Expect: exchange.Expect{Class: rule.ClassOf(flaws)}}
			if credential.Kind == "apiKey" && v.variant != exchange.Lesser { // no authentication scheme of HTTP rules it
				c.Expect.Statuses = []int{http.StatusUnauthorized, http.StatusForbidden}
			}
			e.give(c, identity)
		}
	}
}
