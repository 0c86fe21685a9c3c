package harbour

import (
	"encoding/json"
	"fmt"
	"math/big"
	"net/mail"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"obiter/internal/core/instance"
)

// fieldError is one entry of a problem's errors.
type fieldError struct {
	pointer string // JSON Pointer into the request
	detail  string
	kind    string // what sort of rule: type, format, required, limit, unknown
}

// checker collects what is wrong with a body.
type checker struct {
	errors []fieldError
	bytes  bool // the fault bytes-counted
	coerce bool // the fault numbers-coerced
	below  bool // the fault maximum-exclusive

	untrimmed bool // the fault blanks-counted
}

func (c *checker) fail(at, kind, detail string, args ...any) {
	c.errors = append(c.errors, fieldError{at, fmt.Sprintf(detail, args...), kind})
}

// rule checks one value.
type rule func(c *checker, at string, v any)

type field struct {
	name     string
	required bool
	rule     rule
}

// object checks a closed object: its fields in order, then unknown members.
func object(fields ...field) rule {
	return func(c *checker, at string, v any) {
		m, ok := v.(map[string]any)
		if !ok {
			c.fail(at, "type", "must be an object")
			return
		}
		for _, f := range fields {
			value, has := m[f.name]
			switch {
			case has:
				f.rule(c, instance.Join(at, f.name), value)
			case f.required:
				c.fail(instance.Join(at, f.name), "required", "is required")
			}
		}
		for _, name := range instance.Names(m) {
			if !slices.ContainsFunc(fields, func(f field) bool { return f.name == name }) {
				c.fail(instance.Join(at, name), "unknown", "is not known here")
			}
		}
	}
}

// text checks a string: its length in characters, then the rest.
func text(least, most int, more ...func(string) string) rule {
	return func(c *checker, at string, v any) {
		s, ok := v.(string)
		if !ok {
			c.fail(at, "type", "must be text")
			return
		}
		n := utf8.RuneCountInString(s)
		if c.bytes {
			n = len(s)
		}
		if n < least {
			c.fail(at, "limit", "must have at least %d characters", least)
		} else if most > 0 && n > most {
			c.fail(at, "limit", "must have at most %d characters", most)
		}
		for _, m := range more {
			if words := m(s); words != "" {
				c.fail(at, "format", "%s", words)
			}
		}
	}
}

func matching(pattern, words string) func(string) string {
	re := regexp.MustCompile(pattern)
	return func(s string) string {
		if re.MatchString(s) {
			return ""
		}
		return words
	}
}

func oneOf(values ...string) rule {
	return text(0, 0, func(s string) string {
		if slices.Contains(values, s) {
			return ""
		}
		return "must be one of " + strings.Join(values, ", ")
	})
}

var (
	uuid     = matching(`^[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}\z`, "must be a UUID")
	fullDate = func(s string) string {
		if _, err := time.Parse(time.DateOnly, s); err != nil {
			return "must be a date such as 2031-05-04"
		}
		return ""
	}
	dateTime = func(s string) string {
		if _, ok := moment(s); !ok {
			return "must be a time such as 2031-05-04T06:00:00Z"
		}
		return ""
	}
	email = func(s string) string {
		a, err := mail.ParseAddress(s)
		if err != nil || a.Address != s {
			return "must be an e-mail address"
		}
		return ""
	}
	absoluteURI = func(s string) string {
		u, err := url.Parse(s)
		if err != nil || !u.IsAbs() || strings.ContainsAny(s, " <>\"") {
			return "must be an absolute URI"
		}
		return ""
	}
)

// limits of a number; empty texts say nothing.
type limits struct {
	least, above   string // at least; more than
	most, under    string // at most; less than
	multiple       string
	integer, int32 bool
}

func ratOf(s string) *big.Rat {
	r, _ := new(big.Rat).SetString(s)
	return r
}

func number(l limits) rule {
	return func(c *checker, at string, v any) {
		n, ok := v.(json.Number)
		if s, isText := v.(string); isText && c.coerce && ratOf(s) != nil {
			n, ok = json.Number(s), true
		}
		r := ratOf(string(n))
		if !ok || r == nil || l.integer && !r.IsInt() && !c.coerce {
			c.fail(at, "type", "must be a %s", map[bool]string{true: "whole number", false: "number"}[l.integer])
			return
		}
		l.check(c, at, r)
	}
}

// check holds a number against the limits.
func (l limits) check(c *checker, at string, r *big.Rat) {
	cmp := func(limit string) int { return r.Cmp(ratOf(limit)) }
	switch {
	case l.least != "" && cmp(l.least) < 0:
		c.fail(at, "limit", "must be at least %s", l.least)
	case l.above != "" && cmp(l.above) <= 0:
		c.fail(at, "limit", "must be more than %s", l.above)
	case l.most != "" && (cmp(l.most) > 0 || c.below && l.integer && cmp(l.most) == 0):
		c.fail(at, "limit", "must be at most %s", l.most)
	case l.under != "" && cmp(l.under) >= 0:
		c.fail(at, "limit", "must be less than %s", l.under)
	case l.int32 && cmp("2147483647") > 0:
		c.fail(at, "limit", "is too large")
	case l.multiple != "" && !new(big.Rat).Quo(r, ratOf(l.multiple)).IsInt() && !c.coerce:
		c.fail(at, "limit", "must be a multiple of %s", l.multiple)
	}
}

func boolean(c *checker, at string, v any) {
	if _, ok := v.(bool); !ok {
		c.fail(at, "type", "must be true or false")
	}
}

func mustBeTrue(c *checker, at string, v any) {
	if v != true {
		c.fail(at, "limit", "must be true")
	}
}

func nullable(r rule) rule {
	return func(c *checker, at string, v any) {
		if v != nil {
			r(c, at, v)
		}
	}
}

func list(least, most int, unique bool, each rule) rule {
	return func(c *checker, at string, v any) {
		l, ok := v.([]any)
		if !ok {
			c.fail(at, "type", "must be a list")
			return
		}
		if len(l) < least {
			c.fail(at, "limit", "must have at least %d entries", least)
		}
		if len(l) > most {
			c.fail(at, "limit", "must have at most %d entries", most)
		}
		for i, e := range l {
			each(c, fmt.Sprintf("%s/%d", at, i), e)
			if unique && slices.ContainsFunc(l[:i], func(o any) bool { return instance.Equal(o, e) }) {
				c.fail(fmt.Sprintf("%s/%d", at, i), "unique", "is in the list already")
			}
		}
	}
}

func vesselFields() []field {
	return []field{
		{"name", true, text(2, 80)},
		{"imo", true, text(0, 0, matching(`^IMO[0-9]{7}\z`, "must be IMO and seven digits"))},
		{"type", true, oneOf("cargo", "tanker", "ferry", "tug", "yacht")},
		{"length_m", true, number(limits{above: "0", most: "400", multiple: "0.01"})},
		{"draught_m", false, number(limits{least: "0.1", under: "30"})},
		{"crew_capacity", true, number(limits{least: "1", most: "5000", integer: true})},
		{"flag", true, text(0, 0, matching(`^[A-Z]{2}\z`, "must be two capital letters"))},
		{"call_sign", false, nullable(text(3, 7, matching(`^[A-Z0-9]+\z`, "must be capital letters and digits")))},
		{"built_on", false, text(0, 0, fullDate)},
		{"contact_email", false, text(0, 120, email)},
		{"homepage", false, text(0, 200, absoluteURI)},
		{"in_service", false, boolean},
		{"labels", false, list(0, 5, true, text(1, 20))},
	}
}

var (
	vessel       = object(vesselFields()...)
	vesselChange = object(func() []field {
		var out []field
		for _, f := range vesselFields() {
			switch f.name {
			case "name", "type", "length_m", "crew_capacity":
				out = append(out, field{f.name, false, f.rule})
			case "contact_email", "in_service":
				out = append(out, field{f.name, false, nullable(f.rule)}) // null takes it off the record
			}
		}
		return out
	}()...)
	crewMember = object(
		field{"name", true, text(1, 60)},
		field{"rank", true, oneOf("master", "mate", "engineer", "deckhand", "cook")},
		field{"email", false, text(0, 0, email)},
	)
	cargo = object(
		field{"description", true, text(3, 120)},
		field{"weight_t", true, number(limits{above: "0", most: "250000"})},
		field{"hazardous", true, boolean},
		field{"packages", false, number(limits{least: "1", multiple: "4", integer: true, int32: true})},
	)
	booking = object(
		field{"vessel_id", true, text(0, 0, uuid)},
		field{"berth", true, text(0, 0, matching(`^[A-F][0-9]{1,2}\z`, "must be a letter from A to F and a number"))},
		field{"arrives_at", true, text(0, 0, dateTime)},
		field{"departs_at", true, text(0, 0, dateTime)},
		field{"purpose", true, text(3, 200)},
		field{"accepts_dues", true, mustBeTrue},
		field{"services", false, list(1, 3, true, oneOf("water", "shore power", "waste", "bunkering"))},
		field{"crew", true, list(1, 30, false, crewMember)},
		field{"cargo", false, cargo},
	)
	pilotOrder = object(
		field{"vessel_id", true, text(0, 0, uuid)},
		field{"boarding", true, oneOf("north", "south", "outer roads")},
		field{"requested_for", true, text(0, 0, dateTime)},
		field{"pilots", true, number(limits{least: "1", most: "3", integer: true})},
		field{"fee_eur", false, number(limits{least: "0", most: "20000", multiple: "50", integer: true})},
		field{"note", false, text(0, 500)},
	)
	session = object(
		field{"guest_code", true, text(0, 0, matching(`^G-[0-9]{4}\z`, "must be G- and four digits"))},
		field{"pass_phrase", true, text(12, 64, func(s string) string {
			if !strings.ContainsAny(s, "0123456789") {
				return "must contain a digit"
			}
			return ""
		})},
		field{"minutes", false, number(limits{least: "5", most: "240", integer: true})},
	)
)
