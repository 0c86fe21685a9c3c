package sample

import (
	"encoding/json"
	"fmt"
	"math/big"
	"math/rand/v2"
	"strings"
	"unicode/utf8"

	"obiter/internal/core/instance"
	"obiter/internal/input/schema"
)

// freshTries bounds how many values are made until one is valid.
const freshTries = 16

// Fresh makes a value like v that has hardly been used before: the same salt and
// ordinal give the same one. Where same is set a text keeps its length. False
// where the schemas leave no choice.
func (m *Maker) Fresh(list []schema.Schema, v any, same bool, salt, ordinal uint64) (any, bool) {
	sh := schema.Merge(schema.Apply(list, v))
	rng := rand.New(rand.NewPCG(m.seed^salt, ordinal))
	for range freshTries {
		for _, c := range freshOf(sh, v, rng) {
			if !instance.Equal(c, v) && schema.Obeys(list, c) && (!same || sameLength(c, v)) {
				return c, true
			}
		}
	}
	return v, false
}

// Renewing gives a function that makes values like v which have hardly been used before,
// another one for each number; it is safe for concurrent use. False where the schemas leave no
// choice, or none of the first few tries gives one.
func (m *Maker) Renewing(list []schema.Schema, v any, salt uint64) (renew func(nth uint64) any, ok bool) {
	sh := schema.Merge(schema.Apply(list, v))
	seed := m.seed ^ salt
	made := func(nth uint64) (any, bool) {
		rng := rand.New(rand.NewPCG(seed, nth))
		for range freshTries {
			for _, c := range freshOf(sh, v, rng) {
				if !instance.Equal(c, v) && schema.Obeys(list, c) {
					return c, true
				}
			}
		}
		return v, false
	}
	for nth := range uint64(3) {
		if _, ok := made(nth); !ok {
			return nil, false
		}
	}
	return func(nth uint64) any {
		c, _ := made(nth)
		return c
	}, true
}

func freshOf(sh *schema.Shape, v any, rng *rand.Rand) []any {
	var out []any
	switch v := v.(type) {
	case string:
		least, most := lengths(sh)
		mark := fmt.Sprintf("%08x", rng.Uint32())
		for _, p := range sh.Patterns {
			for _, s := range matching(p, least, most, rng) {
				out = append(out, s)
			}
		}
		for _, f := range sh.Formats {
			switch f {
			case "uuid":
				out = append(out, fmt.Sprintf("%08x-%04x-4%03x-8%03x-%012x", rng.Uint32(), rng.Uint32()>>16, rng.Uint32()>>20, rng.Uint32()>>20, rng.Uint64()>>16))
			case "email":
				out = append(out, mark+"@example.com")
			case "uri", "uri-reference", "iri":
				out = append(out, "https://harbour.example/"+mark)
			case "hostname":
				out = append(out, mark+".example")
			}
		}
		if local, domain, is := strings.Cut(v, "@"); is && !strings.Contains(v, " ") {
			out = append(out, local+"-"+mark+"@"+domain, mark+"@"+domain)
		}
		kept := []rune(v)
		if over := len(kept) + 1 + len(mark) - most; over > 0 {
			kept = kept[:max(len(kept)-over, 0)]
		}
		between := " "
		if !strings.Contains(v, " ") { // a slug, a code, a word: it gets no blank
			between = "-"
			if strings.Contains(v, "_") {
				between = "_"
			}
		}
		out = append(out, strings.TrimLeft(strings.TrimSpace(string(kept)+between+mark), between), mark, mark[:min(len(mark), most)])
		out = append(out, strings.Map(func(r rune) rune { return alike(r, rng) }, v))
	case json.Number:
		step := Step(sh)
		low, high := big.NewRat(0, 1), big.NewRat(1_000_000_000, 1)
		if sh.Minimum != nil {
			low = sh.Minimum.Value
			high = new(big.Rat).Add(low, high)
		}
		if sh.Maximum != nil {
			high = sh.Maximum.Value
		}
		span := new(big.Rat).Sub(high, low)
		part := new(big.Rat).SetFrac64(rng.Int64N(1<<53), 1<<53)
		out = append(out, instance.Number(aligned(new(big.Rat).Add(low, span.Mul(span, part)), step, true)))
	}
	return out
}

func sameLength(a, b any) bool {
	x, ok := a.(string)
	y, isText := b.(string)
	return ok && isText && utf8.RuneCountInString(x) == utf8.RuneCountInString(y)
}

// alike is another character of the same class.
func alike(r rune, rng *rand.Rand) rune {
	switch {
	case r >= '0' && r <= '9':
		return '0' + rng.Int32N(10)
	case r >= 'A' && r <= 'Z':
		return 'A' + rng.Int32N(26)
	case r >= 'a' && r <= 'z':
		return 'a' + rng.Int32N(26)
	case r >= 0xdf && r <= 0xf6:
		return 0xdf + rng.Int32N(24)
	}
	return r
}
