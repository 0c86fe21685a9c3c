package sample

import (
	"fmt"
	"math/rand/v2"
	"strconv"
	"strings"
	"unicode/utf8"

	"obiter/internal/core/instance"
	"obiter/internal/input/schema"
)

// text tries candidates in turn: what the format needs, what the patterns
// generate, words that fit the name; each cut or padded to length.
func (b *builder) text(at string, list []schema.Schema, sh *schema.Shape, ordinal int) (any, error) {
	least, most := lengths(sh)
	if least > maxText {
		return nil, fmt.Errorf("at %s minLength %d is larger than what Obiter builds", instance.Fragment(at), least)
	}
	rng := b.random(at, ordinal)
	tries := candidates(sh, instance.Last(at), least, most, rng, ordinal)
	if b.plain {
		tries = plainFirst(append(tries, fit(strings.ToLower(strings.ReplaceAll(named(instance.Last(at), rng, ordinal), " ", "")), least, most)))
	}
	for _, c := range tries {
		if schema.Obeys(list, c) {
			return c, nil
		}
	}
	var why []string
	for _, p := range sh.Patterns {
		part := "pattern " + p
		if in := obstacle(p, least, most, rng); in != "" && in != p {
			part += " (its part " + in + " stood in the way)"
		}
		why = append(why, part)
	}
	for _, f := range sh.Formats {
		why = append(why, "format "+f)
	}
	if len(why) == 0 {
		why = append(why, fmt.Sprintf("minLength %d and maxLength %d", least, most))
	}
	return nil, fmt.Errorf("at %s no string was found for %s", instance.Fragment(at), strings.Join(why, " and "))
}

// lengths are the allowed numbers of code points; most is maxText where unbounded.
func lengths(sh *schema.Shape) (least, most int) {
	most = maxText
	if sh.MinLength != nil {
		least = *sh.MinLength
	}
	if sh.MaxLength != nil {
		most = min(most, *sh.MaxLength)
	}
	return least, most
}

func candidates(sh *schema.Shape, name string, least, most int, rng *rand.Rand, ordinal int) []string {
	var out []string
	for _, f := range sh.Formats {
		out = append(out, formatted(f, rng, ordinal)...)
	}
	for _, p := range sh.Patterns {
		out = append(out, matching(p, least, most, rng)...)
	}
	words := named(name, rng, ordinal)
	out = append(out, fit(words, least, most))
	return append(out, fit(strings.ToLower(words), least, most), fit("A1", least, most), fit("1", least, most))
}

// fit cuts or pads a text to a number of code points.
func fit(s string, least, most int) string {
	runes := []rune(s)
	if len(runes) > most {
		runes = runes[:most]
		if trimmed := strings.TrimSpace(string(runes)); utf8.RuneCountInString(trimmed) >= least {
			return trimmed
		}
		return string(runes)
	}
	if len(runes) < least {
		return s + strings.Repeat("a", least-len(runes))
	}
	return s
}

// Exactly makes a text of exactly n code points that obeys sh, of the filler
// where nothing forbids it. False where none was found.
func (m *Maker) Exactly(sh *schema.Shape, n int, filler string) (string, bool) {
	if n > maxText {
		return "", false
	}
	tries := []string{strings.Repeat(filler, n)}
	if filler == "a" {
		b := builder{seed: m.seed}
		rng := b.random(sh.Sources[0].URL(), n)
		for _, p := range sh.Patterns {
			tries = append(tries, matching(p, n, n, rng)...)
		}
		for _, f := range sh.Formats {
			tries = append(tries, stretched(f, n)...)
		}
		tries = append(tries, strings.Repeat("A", n), strings.Repeat("1", n))
	}
	for _, t := range tries {
		if utf8.RuneCountInString(t) == n && sh.Valid(t) {
			return t, true
		}
	}
	return "", false
}

// stretched gives texts of a format at a length.
func stretched(format string, n int) []string {
	pad := func(before, after string) []string {
		if k := n - len(before) - len(after); k > 0 {
			return []string{before + strings.Repeat("a", k) + after}
		}
		return nil
	}
	switch format {
	case "email":
		// A local part holds at most 64 octets (RFC 5321, 4.5.3.1.1).
		local := min(n-len("@a.example.com"), 20)
		if local < 1 {
			return pad("", "@b.co")
		}
		return pad(strings.Repeat("a", local)+"@", ".example.com")
	case "uri", "uri-reference", "iri", "iri-reference":
		return pad("https://harbour.example/", "")
	case "hostname":
		return pad("", ".example")
	}
	return nil
}

var vesselNames = []string{"Aurora", "Borealis", "Calypso", "Dorado", "Estrela", "Fulmar", "Gannet", "Halcyon"}

// named is a text that looks like what a property of that name holds.
func named(name string, rng *rand.Rand, ordinal int) string {
	name = strings.ToLower(name)
	has := func(parts ...string) bool {
		for _, p := range parts {
			if strings.Contains(name, p) {
				return true
			}
		}
		return false
	}
	pick := func(list ...string) string { return list[(rng.IntN(len(list))+ordinal)%len(list)] }
	switch {
	case has("mail"):
		return fmt.Sprintf("clerk%d@example.com", 1+ordinal)
	case has("url", "uri", "link", "website", "href"):
		return fmt.Sprintf("https://harbour.example/%d", 1+ordinal)
	case has("phone", "mobile", "fax"):
		return fmt.Sprintf("+4940%07d", 5550100+ordinal)
	case has("password", "secret", "phrase"):
		return fmt.Sprintf("Quay-Side-%d%d", 4+ordinal, rng.IntN(90)+10)
	case has("description", "comment", "note", "remark", "text", "summary", "reason"):
		return pick("Arrives on the morning tide.", "Moored alongside the north quay.", "Waits at the outer roads.") + suffix(ordinal)
	case has("city", "town", "port"):
		return pick("Hamburg", "Rotterdam", "Bergen", "Gdynia")
	case has("country"):
		return pick("DE", "NL", "NO", "PL")
	case has("currency"):
		return pick("EUR", "NOK", "PLN")
	case has("lang", "locale"):
		return pick("de", "nl", "en")
	case has("code", "number", "ref", "key", "token"), strings.HasSuffix(name, "id"):
		return fmt.Sprintf("A%d%d", 100+rng.IntN(800), ordinal)
	}
	return pick(vesselNames...) + suffix(ordinal)
}

func suffix(ordinal int) string {
	if ordinal == 0 {
		return ""
	}
	return fmt.Sprintf(" %d", ordinal+1)
}

// formatted gives realistic values of a format; the caller checks them.
func formatted(format string, rng *rand.Rand, ordinal int) []string {
	day := 1 + (rng.IntN(20)+ordinal)%28
	hex := func() string {
		return fmt.Sprintf("%08x-%04x-4%03x-a%03x-%012x", rng.Uint32(), rng.IntN(1<<16), rng.IntN(1<<12), rng.IntN(1<<12), rng.Uint64()&(1<<48-1))
	}
	switch format {
	case "date":
		return []string{fmt.Sprintf("2031-05-%02d", day)}
	case "date-time":
		return []string{fmt.Sprintf("2031-05-%02dT08:30:00Z", day)}
	case "time":
		return []string{fmt.Sprintf("%02d:30:00Z", day%24)}
	case "duration":
		return []string{fmt.Sprintf("P%dD", day)}
	case "email", "idn-email":
		return []string{fmt.Sprintf("clerk%d@example.com", 1+ordinal)}
	case "hostname", "idn-hostname":
		return []string{fmt.Sprintf("quay%d.harbour.example", 1+ordinal)}
	case "ipv4":
		return []string{fmt.Sprintf("192.0.2.%d", 1+ordinal%250)}
	case "ipv6":
		return []string{fmt.Sprintf("2001:db8::%x", 1+ordinal)}
	case "uuid":
		return []string{hex()}
	case "uri", "iri":
		return []string{fmt.Sprintf("https://harbour.example/berths/%d", 1+ordinal)}
	case "uri-reference", "iri-reference":
		return []string{fmt.Sprintf("/berths/%d", 1+ordinal)}
	case "uri-template":
		return []string{"/berths/{berth}" + strings.Repeat("x", ordinal)}
	case "json-pointer":
		return []string{fmt.Sprintf("/crew/%d", ordinal)}
	case "relative-json-pointer":
		return []string{fmt.Sprintf("%d/crew", ordinal)}
	case "regex":
		return []string{"^[a-z]+$" + strings.Repeat("|x", ordinal)}
	case "byte":
		return []string{[]string{"aGFyYm91cg==", "cXVheQ==", "YmVydGg="}[ordinal%3]}
	}
	return nil
}

// Part is eight letters and digits that hardly any other request has.
func Part(salt, ordinal uint64) string {
	rng := rand.New(rand.NewPCG(salt, ordinal))
	return strconv.FormatUint(36*36*36*36*36*36*36+rng.Uint64N(35*36*36*36*36*36*36*36), 36)
}
