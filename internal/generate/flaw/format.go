package flaw

import (
	"encoding/json"
	"fmt"
	"math/big"
	"strings"

	"obiter/internal/input/schema"
)

type formatVariant struct {
	variant string
	depth   Depth
	value   string
	words   string
}

// formatVariants are texts that a format forbids. Each is proved before it is
// sent; what is here only has to be worth trying.
var formatVariants = map[string][]formatVariant{
	"date": {
		{"thirtieth-of-february", Usual, "2031-02-30", "30 February does not exist"},
		{"month-thirteen", Usual, "2031-13-01", "month 13 does not exist"},
		{"slashes", Usual, "01/02/2031", "the date is written with slashes"},
		{"with-time", Usual, "2031-05-01T00:00:00Z", "a time of day is added"},
		{"no-date", Usual, "tomorrow", "a word, not a date"},
		{"two-digit-year", Usual, "31-05-01", "the year has two digits"},
		{"unpadded", Deep, "2031-5-1", "month and day lack their zeros"},
		{"leap-day-of-no-leap-year", Usual, "2031-02-29", "2031 is no leap year"},
		{"day-first", Deep, "31-12-2031", "the day comes first"},
		{"month-first", Deep, "12-31-2031", "the month comes first"},
		{"five-digit-year", Deep, "20311-05-01", "the year has five digits"},
	},
	"date-time": {
		{"no-offset", Usual, "2031-05-01T08:30:00", "the offset is missing (RFC 3339 requires Z or +hh:mm)"},
		{"thirtieth-of-february", Usual, "2031-02-30T08:30:00Z", "30 February does not exist"},
		{"hour-twenty-five", Usual, "2031-05-01T25:00:00Z", "hour 25 does not exist"},
		{"date-only", Usual, "2031-05-01", "the time of day is missing"},
		{"no-date-time", Usual, "soon", "a word, not a date and time"},
		{"decimal-comma", Deep, "2031-05-01T08:30:00,5Z", "the fraction follows a comma"},
		{"day-first", Deep, "31-12-2031T08:30:00Z", "the day comes first"},
		{"blank-between", Deep, "2031-05-01 08:30:00 +02:00", "spaces are between its parts"},
		{"offset-without-colon", Usual, "2031-05-01T08:30:00+0200", "the colon is missing in the offset"},
		{"zone-name", Deep, "2031-05-01T08:30:00 CET", "a name of a time zone, not an offset"},
		{"seconds-missing", Deep, "2031-05-01T08:30Z", "the seconds are missing"},
		{"epoch", Deep, "1935390600", "seconds since 1970, not an RFC 3339 time"},
	},
	"time": {
		{"hour-twenty-five", Usual, "25:00:00Z", "hour 25 does not exist"},
		{"no-offset", Usual, "08:30:00", "the offset is missing"},
		{"no-time", Usual, "noon", "a word, not a time"},
	},
	"duration": {
		{"no-duration", Usual, "two days", "words, not an ISO 8601 duration"},
		{"no-designator", Usual, "P2", "the unit is missing"},
	},
	"email": {
		{"no-at-sign", Usual, "clerk.example.com", "the @ is missing"},
		{"no-domain", Usual, "clerk@", "nothing follows the @"},
		{"no-local-part", Usual, "@example.com", "nothing comes before the @"},
		{"two-at-signs", Usual, "clerk@quay@example.com", "there are two @"},
		{"blank-inside", Usual, "cl erk@example.com", "it contains a space"},
		{"two-dots", Deep, "clerk..quay@example.com", "two dots follow one another"},
	},
	"uuid": {
		{"too-short", Usual, "3f2b8a1e-5c4d-4e6f-8a7b-9c0d1e2f3a4", "one digit is missing"},
		{"not-hexadecimal", Usual, "3f2b8a1e-5c4d-4e6f-8a7b-9c0d1e2f3g4h", "g and h are not hexadecimal digits"},
		{"no-uuid", Usual, "not-a-uuid", "a word, not a UUID"},
		{"no-hyphens", Usual, "3f2b8a1e5c4d4e6f8a7b9c0d1e2f3a4b", "the hyphens are missing"},
		{"braces", Deep, "{3f2b8a1e-5c4d-4e6f-8a7b-9c0d1e2f3a4b}", "it is in braces"},
	},
	"uri": {
		{"relative", Usual, "/berths/7", "the scheme is missing"},
		{"blank-inside", Usual, "https://harbour.example/ber th", "it contains a space"},
		{"no-uri", Usual, "berth seven", "words, not a URI"},
		{"bad-escape", Deep, "https://harbour.example/%zz", "%zz is not a valid escape"},
	},
	"uri-reference": {
		{"blank-inside", Usual, "/ber th", "it contains a space"},
		{"bad-escape", Usual, "/%zz", "%zz is not a valid escape"},
	},
	"hostname": {
		{"underscore", Usual, "quay_1.harbour.example", "an underscore is not allowed"},
		{"hyphen-first", Usual, "-quay.harbour.example", "a label begins with a hyphen"},
		{"blank-inside", Usual, "quay one", "it contains a space"},
	},
	"ipv4": {
		{"octet-256", Usual, "192.0.2.256", "256 is too large for an octet"},
		{"three-octets", Usual, "192.0.2", "the fourth octet is missing"},
		{"ipv6", Usual, "2001:db8::1", "this is an IPv6 address"},
	},
	"ipv6": {
		{"two-double-colons", Usual, "2001::db8::1", ":: appears twice"},
		{"ipv4", Usual, "192.0.2.1", "this is an IPv4 address"},
		{"no-hexadecimal", Usual, "2001:db8::g", "g is not a hexadecimal digit"},
	},
	"json-pointer": {
		{"no-slash", Usual, "crew/0", "it does not begin with /"},
		{"bad-escape", Usual, "/crew~2", "~2 is not a valid escape"},
	},
	"relative-json-pointer": {
		{"no-number", Usual, "/crew", "the number is missing"},
		{"leading-zero", Usual, "01/crew", "the number has a leading zero"},
	},
	"uri-template": {
		{"open-brace", Usual, "/berths/{berth", "the brace is not closed"},
	},
	"iri": {
		{"relative", Usual, "/berths/7", "the scheme is missing"},
		{"blank-inside", Usual, "https://harbour.example/ber th", "it contains a space"},
	},
	"iri-reference": {
		{"bad-escape", Usual, "/%zz", "%zz is not a valid escape"},
		{"back-slash", Usual, "\\\\quay\\7", "backslashes are not allowed"},
	},
	"idn-email": {
		{"no-at-sign", Usual, "clerk.example.com", "the @ is missing"},
		{"no-domain", Usual, "clerk@", "nothing follows the @"},
	},
	"idn-hostname": {
		{"hyphen-first", Usual, "-quay.harbour.example", "a label begins with a hyphen"},
	},
	"byte": {
		{"not-base64", Usual, "%%%%", "% is not a base64 character"},
		{"bad-length", Usual, "abcde", "five characters do not make whole bytes"},
	},
}

// plantFormat sends texts and numbers that the field's format forbids.
func plantFormat(s *site) {
	if s.shape.HasEnum {
		return
	}
	for _, format := range s.shape.Formats {
		switch s.value.(type) {
		case string:
			for _, v := range formatVariants[format] {
				s.replace("format", v.variant, v.depth, v.value, fmt.Sprintf("not %s: %s", withArticle(format), v.words))
			}
		case json.Number:
			s.plantSize(format)
		}
	}
}

// plantSize goes beyond int32 and int64, where no bound of the schema's own is nearer.
func (s *site) plantSize(format string) {
	bits := map[string]uint{"int32": 31, "int64": 63}[format]
	if bits == 0 {
		return
	}
	limit := new(big.Int).Lsh(big.NewInt(1), bits)
	above, below := new(big.Rat).SetInt(limit), new(big.Rat).SetInt(new(big.Int).Neg(limit))
	if beyond(s.shape.Maximum, above, 1) {
		s.replace("format", "above-"+format, Usual, json.Number(limit.String()), fmt.Sprintf("one more than the largest %s", format))
	}
	if beyond(s.shape.Minimum, below, -1) {
		under := new(big.Int).Sub(new(big.Int).Neg(limit), big.NewInt(1))
		s.replace("format", "below-"+format, Usual, json.Number(under.String()), fmt.Sprintf("one less than the smallest %s", format))
	}
}

// beyond reports whether no bound comes before the limit in that direction.
func beyond(b *schema.Bound, limit *big.Rat, direction int) bool {
	return b == nil || b.Value.Cmp(limit)*direction >= 0
}

// withArticle is the name of a format as a sentence has it: a date, an email.
func withArticle(format string) string {
	if strings.ContainsAny(format[:1], "aeio") {
		return "an " + format
	}
	return "a " + format
}
