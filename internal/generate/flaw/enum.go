package flaw

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/big"
	"slices"
	"strings"
	"unicode"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
)

// plantEnum sends values outside a list, and near misses of those inside it.
func plantEnum(s *site) {
	if !s.shape.HasEnum {
		return
	}
	rule, listed := "enum", "not one of the listed values"
	if s.shape.Const {
		rule, listed = "const", "not the one value allowed"
	}
	switch now := s.value.(type) {
	case string:
		s.replace(rule, "unlisted", Usual, "unlisted", `"unlisted" is `+listed)
		s.replace(rule, "markup", Usual, exchange.Markup, `"`+exchange.Markup+`" is `+listed)
		s.replace(rule, "letter-case", Usual, swapCase(now), "the value is written in another letter case")
		s.replace(rule, "padded", Usual, " "+now+" ", "the value has spaces around it")
		s.replace(rule, "empty", Usual, "", "the string is empty, which is "+listed)
	case json.Number:
		top := new(big.Rat)
		for _, v := range s.shape.Enum {
			if n, ok := v.(json.Number); ok {
				if r, ok := instance.Rat(n); ok && r.Cmp(top) > 0 {
					top = r
				}
			}
		}
		next := instance.Number(new(big.Rat).Add(top, big.NewRat(1, 1)))
		s.replace(rule, "unlisted", Usual, next, string(next)+" is "+listed)
	case bool:
		s.replace(rule, "unlisted", Usual, !now, "the other boolean is "+listed)
		s.replace(rule, "no-truth-value", Usual, "unlisted", `"unlisted" is `+listed)
	case nil:
		s.replace(rule, "unlisted", Usual, "unlisted", `"unlisted" is `+listed)
	case map[string]any:
		more := maps.Clone(now)
		more["unexpected"] = "ballast"
		s.replace(rule, "one-more", Usual, more, "with a member more it is "+listed)
		if names := instance.Names(now); len(names) > 0 {
			other := maps.Clone(now)
			other[names[0]] = "unlisted"
			s.replace(rule, "one-changed", Usual, other, fmt.Sprintf("with another value in %q it is %s", names[0], listed))
		}
	case []any:
		s.replace(rule, "one-more", Usual, append(slices.Clone(now), "ballast"), "with an element more it is "+listed)
		if len(now) > 0 {
			other := slices.Clone(now)
			other[0] = "unlisted"
			s.replace(rule, "one-changed", Usual, other, "with another first element it is "+listed)
		}
	}
}

func swapCase(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsUpper(r) {
			return unicode.ToLower(r)
		}
		return unicode.ToUpper(r)
	}, s)
}
