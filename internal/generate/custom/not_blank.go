package custom

import (
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/wire"
	"obiter/internal/input/config"
)

// notBlank: a string that may not be spaces alone.
var notBlank = Kind{
	Rule: "not-blank", Member: "not_blank",
	Field: func(r config.Rule) string { return r.NotBlank },
	Admit: func(r config.Rule, _ *wire.Place, p flaw.Planted) string { return ruledBlank(p, r.NotBlank) },
	Cases: func(r config.Rule, valid Request) []Case {
		f := exchange.Flaw{Rule: "not-blank", Variant: "blanks", Reason: "the string is only spaces"}
		return []Case{valid.with(blank(valid.Values["body"], r.NotBlank), f, r.NotBlank)}
	},
}

// ruledBlank drops a text of blanks at a field of which the configuration says what
// becomes of it.
func ruledBlank(p flaw.Planted, field string) string {
	if len(p.Flaws) == 1 && p.Flaws[0].Rule == "blank" && p.Flaws[0].Pointer == field {
		return RuledBlank
	}
	return ""
}

// RuledBlank is the reason for dropping such a text.
const RuledBlank = "a rule of the configuration is about blanks there"

// blank is the control with a string of spaces as long as the present one; nil
// where no text does.
func blank(control any, at string) any {
	now, _ := instance.Get(control, at)
	text, ok := now.(string)
	if !ok {
		return nil
	}
	body, _ := instance.Set(control, at, strings.Repeat(" ", max(len([]rune(text)), 1)))
	return body
}
