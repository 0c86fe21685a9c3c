package plan

import (
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/generate/flaw"
	"obiter/internal/input/config"
)

// notBlankKind: a string that may not be spaces alone.
var notBlankKind = kind{
	rule: "not-blank", member: "not_blank",
	field: func(r config.Rule) string { return r.NotBlank },
	admit: func(r config.Rule, _ *Part, p flaw.Planted) string { return ruledBlank(p, r.NotBlank) },
	cases: func(e *emitter, r config.Rule, _ *Part, control any) {
		e.broken(r, control, blank(control, r.NotBlank), "not-blank", "blanks", "the string is only spaces", []string{r.NotBlank})
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
