package flaw

import (
	"encoding/json"
	"math/big"
	"strings"
	"unicode"

	"obiter/internal/instance"
)

// Markup is sent to see whether it comes back in a page unescaped.
const Markup = "<tide-mark>"

// plantEnum sends values outside a list, and near misses of those inside it.
func plantEnum(s *site) {
	if !s.shape.HasEnum {
		return
	}
	rule, listed := "enum", "none of the listed values"
	if s.shape.Const {
		rule, listed = "const", "not the one value allowed"
	}
	switch now := s.value.(type) {
	case string:
		s.replace(rule, "unlisted", Usual, "unlisted", `"unlisted" is `+listed)
		s.replace(rule, "markup", Usual, Markup, `"`+Markup+`" is `+listed)
		s.replace(rule, "letter-case", Usual, swapCase(now), "the value is written in another letter case")
		s.replace(rule, "padded", Usual, " "+now+" ", "the value has blanks around it")
		s.replace(rule, "empty", Usual, "", "the text is empty, which is "+listed)
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
		s.replace(rule, "unlisted", Usual, !now, "the other truth value is "+listed)
		s.replace(rule, "no-truth-value", Usual, "unlisted", `"unlisted" is `+listed)
	case nil:
		s.replace(rule, "unlisted", Usual, "unlisted", `"unlisted" is `+listed)
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
