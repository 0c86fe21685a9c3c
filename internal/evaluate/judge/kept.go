package judge

import (
	"fmt"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
)

// kept is what a success shows of a value of which no standard says whether it may be
// taken: that a member which only the service sets was stored, and what becomes of blanks.
func kept(c exchange.Case, a exchange.Answer) []Finding {
	if !IsReadOnly(c) && !isBlankText(c) {
		return nil
	}
	answer, err := a.JSON()
	if err != nil {
		answer = nil
	}
	shown, is := instance.Get(answer, c.Flaws[0].Pointer)
	switch {
	case IsReadOnly(c) && Shows(c, answer):
		return []Finding{readOnlyStored(c, "the answer")}
	case IsReadOnly(c):
		return nil
	case !is:
		return []Finding{ofBlanks(c, "accepted", "is accepted; the answer does not show what is stored")}
	case Shows(c, answer):
		return []Finding{ofBlanks(c, "stored", "is stored as it is")}
	}
	if text, isText := shown.(string); isText && strings.TrimSpace(text) == "" {
		return []Finding{ofBlanks(c, "trimmed", "is trimmed, and then stored with nothing in it")}
	}
	return []Finding{ofBlanks(c, "replaced", "is accepted, and "+instance.Shown(shown)+" is stored in its place")}
}

// IsReadOnly reports whether a case sends a member that only the service sets.
func IsReadOnly(c exchange.Case) bool { return len(c.Flaws) == 1 && c.Flaws[0].Rule == "read-only" }

// Shows reports whether a value, as a resource is shown, has what a case sent at the
// field that it is about.
func Shows(c exchange.Case, value any) bool {
	sent, was := instance.Get(c.Body, c.Flaws[0].Pointer)
	shown, is := instance.Get(value, c.Flaws[0].Pointer)
	return was && is && instance.Equal(sent, shown)
}

// readOnlyStored is the finding for a member that was taken from the request, and what
// shows it.
func readOnlyStored(c exchange.Case, by string) Finding {
	f := c.Flaws[0]
	sent, _ := instance.Get(c.Body, f.Pointer)
	out := finding("read-only-stored", f.Pointer, "", fmt.Sprintf("%s (%s) was taken from the request: %s shows %s", f.Where(), f.Reason, by, instance.Shown(sent)))
	if f.Variant != "sent" {
		out.Severity = Warning
	}
	return out
}

func isBlankText(c exchange.Case) bool { return len(c.Flaws) == 1 && c.Flaws[0].Rule == "blank" }

// ofBlanks is the note on what a service does with blanks.
func ofBlanks(c exchange.Case, way, does string) Finding {
	f := finding("blank-text", c.Flaws[0].Pointer, "", fmt.Sprintf("%s (%s) %s", c.Flaws[0].Where(), c.Flaws[0].Reason, does))
	f.Variant = way
	return f
}
