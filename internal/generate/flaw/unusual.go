package flaw

import (
	"encoding/json"
	"net/url"
	"slices"
	"strings"
	"time"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/input/schema"
)

// unusualForm is a form of a format's values that is right and that some readers do not
// take. Rare ones are seldom met, so that a refusal is worth a warning. Of gives it of a
// present value, so that what the value names stays the same; "" where it has none.
type unusualForm struct {
	variant string
	rare    bool
	words   string
	of      func(now string) string
}

// fixed is a form that does not depend on the present value.
func fixed(text string) func(string) string { return func(string) string { return text } }

// unusualForms are by format, common ones first.
var unusualForms = map[string][]unusualForm{
	"date-time": {
		{"with-offset", false, "the same moment with another offset (RFC 3339, section 5.6)", moment(func(t time.Time) string { return t.In(time.FixedZone("", 2*60*60)).Format(time.RFC3339Nano) })},
		{"with-fraction", false, "with a fraction of a second (RFC 3339, section 5.6)", moment(func(t time.Time) string {
			return t.Truncate(time.Second).Add(250 * time.Millisecond).Format("2006-01-02T15:04:05.000Z07:00")
		})},
		{"small-letters", true, "t and z in small letters (RFC 3339, section 5.6)", strings.ToLower},
		{"leap-second", true, "a leap second (RFC 3339, section 5.7)", fixed("2016-12-31T23:59:60Z")},
		{"long-fraction", true, "with nine digits of a second (RFC 3339, section 5.6)", moment(func(t time.Time) string { return t.Truncate(time.Second).Add(123456789).Format(time.RFC3339Nano) })},
	},
	"date": {{"leap-day", true, "29 February of a leap year", fixed("2032-02-29")}},
	"time": {
		{"with-offset", false, "with an offset (RFC 3339, section 5.6)", fixed("08:30:00+02:00")},
		{"with-fraction", true, "with a fraction of a second", fixed("08:30:00.250Z")},
	},
	"duration": {
		{"hours", false, "of hours and minutes (RFC 3339, appendix A)", fixed("PT1H30M")},
		{"weeks", true, "of weeks (RFC 3339, appendix A)", fixed("P2W")},
	},
	"email": {
		{"plus", false, "with a plus (RFC 5322, section 3.2.3)", before("@", "+tide")},
		{"dotted", false, "with a dot before the @ (RFC 5322, section 3.2.3)", before("@", ".quay")},
		{"no-dot", true, "of a domain without a dot (RFC 5321, section 2.3.5)", fixed("a@b")},
		{"apostrophe", true, "with an apostrophe (RFC 5322, section 3.2.3)", before("@", "'s")},
	},
	"uuid": {
		{"upper-case", false, "in capital letters (RFC 9562, section 4)", strings.ToUpper},
		{"version-1", true, "of version 1 (RFC 9562, section 5.1)", fixed("c232ab00-9414-11ec-b3c8-9f6bdeced846")},
		{"version-7", true, "of version 7 (RFC 9562, section 5.7)", fixed("017f22e2-79b0-7cc3-98c4-dc0c0c07398f")},
		{"nil", true, "the nil UUID (RFC 9562, section 5.9)", fixed("00000000-0000-0000-0000-000000000000")},
	},
	"uri": {
		{"port", false, "with a port (RFC 3986, section 3.2.3)", address(func(u *url.URL) { u.Host = u.Hostname() + ":8443" })},
		{"query", false, "with a query and a fragment (RFC 3986, sections 3.4 and 3.5)", address(func(u *url.URL) { u.RawQuery, u.Fragment = "tide=high", "quay" })},
		{"urn", true, "a URN (RFC 8141)", fixed("urn:ietf:rfc:3986")},
		{"upper-case", true, "with scheme and host in capital letters (RFC 3986, section 6.2.2.1)", address(func(u *url.URL) { u.Scheme, u.Host = strings.ToUpper(u.Scheme), strings.ToUpper(u.Host) })},
	},
	"hostname": {
		{"digit-first", false, "that begins with a digit (RFC 1123, section 2.1)", fixed("7quay.harbour.example")},
		{"one-label", true, "of one label", fixed("quay")},
		{"punycode", true, "with an internationalised label (RFC 5890, section 2.3.2.1)", fixed("xn--fhre-5qa.example")},
	},
	"ipv4": {{"broadcast", true, "the last address", fixed("255.255.255.255")}},
	"ipv6": {
		{"upper-case", false, "in capital letters (RFC 4291, section 2.2)", strings.ToUpper},
		{"loopback", false, "the shortest form (RFC 4291, section 2.2)", fixed("::1")},
		{"uncompressed", false, "with all groups (RFC 4291, section 2.2)", fixed("2001:db8:0:0:0:0:0:1")},
		{"embedded-ipv4", true, "with an IPv4 address at the end (RFC 4291, section 2.2)", fixed("::ffff:192.0.2.1")},
	},
	"json-pointer": {
		{"escaped", false, "with an escaped slash (RFC 6901, section 3)", fixed("/crew~1mate")},
		{"empty", true, "the whole document (RFC 6901, section 5)", fixed("")},
	},
	"byte": {{"padded", false, "with padding (RFC 4648, section 4)", fixed("YQ==")}},
}

// moment gives a form of a date-time.
func moment(of func(time.Time) string) func(string) string {
	return func(now string) string {
		t, err := time.Parse(time.RFC3339Nano, now)
		if err != nil {
			return ""
		}
		return of(t)
	}
}

// before puts a text before the last mark of a value.
func before(mark, text string) func(string) string {
	return func(now string) string {
		i := strings.LastIndex(now, mark)
		if i < 1 {
			return ""
		}
		return now[:i] + text + now[i:]
	}
}

// address gives a form of a URL.
func address(change func(*url.URL)) func(string) string {
	return func(now string) string {
		u, err := url.Parse(now)
		if err != nil || u.Host == "" {
			return ""
		}
		change(u)
		return u.String()
	}
}

// formEdges are values of the field's format in other forms than the usual one.
func (s *site) formEdges(now string) {
	if s.p.depth == Quick {
		return
	}
	for _, format := range s.shape.Formats {
		for _, form := range unusualForms[format] {
			at := Usual
			if form.rare {
				at = Deep
			}
			if format == "uuid" && form.rare && refers(s.pointer) {
				continue // another value names no record
			}
			if v := form.of(now); v != now && (v != "" || form.variant == "empty") {
				s.rareEdge(form.rare, "format", form.variant, at, v, withArticle(format)+" "+form.words)
			}
		}
	}
}

// refers reports whether a field is named like one that refers to a record.
func refers(pointer string) bool {
	name := strings.ToLower(instance.Last(pointer))
	return strings.HasSuffix(name, "id") || strings.HasSuffix(name, "ids") || strings.HasSuffix(name, "ref") || strings.HasSuffix(name, "key")
}

// plantBlank sends text of blanks where something is wanted, though no rule says of what:
// a service may take it, trim it or refuse it.
func plantBlank(s *site) {
	now, ok := s.value.(string)
	if !ok || s.shape.HasEnum || s.shape.Binary || len(s.shape.Formats)+len(s.shape.Patterns)+len(s.shape.Unchecked) > 0 || s.p.readings != nil && s.p.in != "body" {
		return
	}
	n := 3
	if least := s.shape.MinLength; least != nil {
		n = max(n, *least)
	}
	if most := s.shape.MaxLength; most != nil {
		n = min(n, *most)
	}
	wanted := s.shape.MinLength != nil && *s.shape.MinLength > 0 || s.required()
	if wanted && n > 0 && n <= maxText && strings.TrimSpace(now) != "" {
		s.open("blank", "spaces", Usual, strings.Repeat(" ", n), characters(n)+", all of them spaces")
	}
	around, _ := instance.Get(s.p.control, instance.Parent(s.pointer))
	if _, inList := around.([]any); inList && !wanted {
		s.open("blank", "empty-element", Usual, "", "an element of the list is an empty string")
	}
}

// required reports whether the object around a field requires it.
func (s *site) required() bool {
	return s.holder != nil && slices.Contains(s.holder.Required, instance.Last(s.pointer))
}

// plantNumberText sends, where numbers travel as text, what some readers take for one and
// others do not. No standard settles which they are.
func plantNumberText(s *site) {
	now, ok := s.value.(json.Number)
	if !ok || !s.arrivesAsText() || s.shape.HasEnum {
		return
	}
	text := string(now)
	for _, v := range []struct {
		variant, value string
		at             Depth
		words          string
	}{
		{"plus-sign", "+" + strings.TrimPrefix(text, "-"), Usual, "the number with a plus sign"},
		{"leading-space", " " + text, Usual, "a space before the number"},
		{"hexadecimal", "0x10", Usual, "a hexadecimal number"},
		{"trailing-point", text + ".", Deep, "the number with a full stop after it"},
		{"exponent", "1e3", Deep, "a number with an exponent"},
		{"other-digits", digitsOf(text, '٠'), Deep, "the number in Arabic-Indic digits"},
		{"decimal-comma", "1,5", Deep, "a number with a decimal comma"},
	} {
		if s.p.in == "path" && v.value != "+"+strings.TrimPrefix(text, "-") && v.value != " "+text && v.variant != "trailing-point" && v.variant != "other-digits" {
			continue // another number names another record
		}
		s.open("number-text", v.variant, v.at, v.value, v.words)
	}
}

// arrivesAsText reports whether the service gets the field's value as text.
func (s *site) arrivesAsText() bool {
	tokens, err := instance.Split(s.pointer)
	return s.p.readings != nil && err == nil && !(len(tokens) > 0 && s.p.keeps != nil && s.p.keeps(tokens[0]))
}

// digitsOf is a number in another script's digits.
func digitsOf(text string, zero rune) string {
	return strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return zero + r - '0'
		}
		return r
	}, text)
}

// plantHuge sends a number that no usual type holds, where no bound forbids it.
func plantHuge(s *site) {
	if _, ok := s.value.(json.Number); !ok || s.p.readings != nil || s.shape.HasEnum || !s.shape.Typed || s.shape.Types&(schema.Integer|schema.Number) == 0 {
		return
	}
	s.open("unusual-number", "huge-exponent", Deep, json.Number("1e400"), "a number beyond double precision, which JSON allows (RFC 8259, section 6)")
}

// plantFarDates sends dates that are right and centuries off: calendars and databases have
// limits of their own.
func plantFarDates(s *site) {
	if _, ok := s.value.(string); !ok || s.shape.HasEnum {
		return
	}
	for _, format := range s.shape.Formats {
		after, is := map[string]string{"date": "", "date-time": "T00:00:00Z"}[format]
		if !is {
			continue
		}
		s.open("unusual-date", "year-1", Deep, "0001-01-01"+after, "the first year of the calendar")
		s.open("unusual-date", "year-9999", Deep, "9999-12-31"+after, "the last year with four digits")
	}
}

// open gives out a value that the schema allows, or of which no standard says whether it
// does: success is right, and so is a rejection.
func (s *site) open(rule, variant string, at Depth, value any, reason string) {
	f := s.flaw(rule, variant, reason)
	if s.p.depth == Quick || !s.wants(f, at) || s.tooMuch(f) {
		return
	}
	body, ok := instance.Set(s.p.control, s.pointer, value)
	if !ok || instance.Equal(body, s.p.control) {
		return
	}
	seen, ok := s.p.seen(body)
	if !ok || s.p.readings == nil && !s.anchor.valid(seen) {
		return
	}
	s.p.give(Planted{Flaws: []exchange.Flaw{f}, Undecided: true, Value: body})
}
