package custom

import (
	"encoding/json"
	"math"
	"strconv"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/wire"
	"obiter/internal/input/config"
	"obiter/internal/input/schema"
)

// exists: a field that refers to something that exists.
var exists = Kind{
	Rule: "exists", Member: "exists",
	Field: func(r config.Rule) string { return r.Exists },
	Cases: func(r config.Rule, valid Request) []Case {
		f := exchange.Flaw{Rule: "exists", Variant: "well-formed", Reason: "the value has the right form and names nothing that exists"}
		return []Case{valid.with(Elsewhere(valid.Body, valid.Values["body"], r.Exists, false), f, r.Exists)}
	},
}

// Elsewhere is a valid value of a place with another value of the same form at a pointer; nil where
// none is known. Only certain: one that nobody can have made.
func Elsewhere(place *wire.Place, control any, at string, certain bool) any {
	now, there := instance.Get(control, at)
	if !there {
		return nil
	}
	candidates := []any{"0b17e8d3-6c1f-4e57-9f0a-5d1f2a7c4e99", json.Number("2000000011")}
	switch now := now.(type) {
	case string:
		if certain {
			break
		}
		candidates = append(candidates, otherDigits(now), otherLetters(now), otherLetters(otherDigits(now)))
	case json.Number:
		if certain {
			break
		}
		candidates = append(candidates, farFrom(now)...)
	}
	for _, v := range candidates {
		body, ok := instance.Set(control, at, v)
		if seen, sendable := place.Seen(body); ok && sendable && schema.Obeys([]schema.Schema{place.Schema}, seen) && !instance.Equal(v, now) {
			return body
		}
	}
	return nil
}

// farFrom are numbers far from one that may be in use, the farthest first.
func farFrom(n json.Number) []any {
	i, err := n.Int64()
	if err != nil {
		return nil
	}
	var out []any
	for _, far := range []int64{1_000_003, 10_007} {
		if i < math.MaxInt64-far {
			out = append(out, json.Number(strconv.FormatInt(i+far, 10)))
		}
	}
	return out
}

// otherDigits replaces each digit by another one.
func otherDigits(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return '0' + (r-'0'+7)%10
		}
		return r
	}, s)
}

// otherLetters replaces the letters of a text by others of the same case, those of
// hexadecimal numbers by such.
func otherLetters(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'f':
			return 'a' + (r-'a'+3)%6
		case r >= 'A' && r <= 'F':
			return 'A' + (r-'A'+3)%6
		case r > 'f' && r <= 'z':
			return 'g' + (r-'g'+9)%20
		case r > 'F' && r <= 'Z':
			return 'G' + (r-'G'+9)%20
		}
		return r
	}, s)
}
