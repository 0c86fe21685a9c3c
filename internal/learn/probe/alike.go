package probe

import (
	"encoding/json"
	"math/big"
	"strings"
	"unicode/utf8"

	"obiter/internal/core/instance"
)

// another is a value of the same form that was hardly used before.
func (p *prober) another(v any) any {
	p.number++
	switch v := v.(type) {
	case string:
		return alike(v, p.number)
	case json.Number:
		if r, ok := instance.Rat(v); ok {
			return instance.Number(new(big.Rat).Add(r, new(big.Rat).SetInt64(int64(p.number))))
		}
	}
	return v
}

// alike is a text with other letters and digits in the places of its own, the first and
// the signs kept. What has a form is changed in its last digits alone.
func alike(text string, n int) string {
	out := []rune(text)
	left := n
	for i := len(out) - 1; i > 0 && left > 0; i-- {
		switch c := out[i]; {
		case c >= '0' && c <= '9':
			out[i] = '0' + (c-'0'+rune(left%10))%10
			left /= 10
		case formed(text):
		case c >= 'a' && c <= 'z':
			out[i] = 'a' + (c-'a'+rune(left%26))%26
			left /= 26
		case c >= 'A' && c <= 'Z':
			out[i] = 'A' + (c-'A'+rune(left%26))%26
			left /= 26
		}
	}
	return string(out)
}

// formed reports whether a text has a form that letters would break: a date, an address.
func formed(text string) bool {
	return len(text) > 7 && strings.Count(text, "-")+strings.Count(text, ":")+strings.Count(text, "@")+strings.Count(text, "//") >= 1 && !strings.Contains(text, " ")
}

// resized is a text of n characters made of its own.
func resized(text string, n int) string {
	all := []rune(text)
	if n <= len(all) {
		return string(all[:n])
	}
	out := make([]rune, 0, n)
	for len(out) < n {
		c := all[len(out)%len(all)]
		if c == ' ' && len(out) == n-1 {
			c = all[0]
		}
		out = append(out, c)
	}
	return string(out)
}

func length(text string) int { return utf8.RuneCountInString(text) }
