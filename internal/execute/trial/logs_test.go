package trial

import (
	"reflect"
	"strings"
	"testing"
)

func TestLinesOfACase(t *testing.T) {
	t.Parallel()
	const one, two, trace = "0123456789", "00000000ab", "0af7651916cd43dd8448eb211c80319c"
	long := strings.Repeat("x", 2*maxLogLine)
	for _, c := range []struct {
		name, log string
		want      map[string][]string
	}{
		{"by id and by trace id", "a case=" + one + " x\nb\nc " + two + "\nd 00-" + trace + "-00f067aa0ba902b7-01\n", map[string][]string{one: {"a case=" + one + " x", "d 00-" + trace + "-00f067aa0ba902b7-01"}, two: {"c " + two}}},
		{"twice in a line", one + " " + trace + "\n", map[string][]string{one: {one + " " + trace}}},
		{"of others, and in longer words", "9999999999\nx" + one + "\n" + one + "0\n", map[string][]string{}},
		{"with the trace behind it", "ERROR " + one + "\nTraceback (most recent call last):\n  File \"a.py\"\nValueError: x\nINFO next\n  indented\n", map[string][]string{one: {"ERROR " + one, "Traceback (most recent call last):", "  File \"a.py\"", "ValueError: x"}}},
		{"no end, and no text", "a " + one + "\xff", map[string][]string{one: {"a " + one + "\uFFFD"}}},
		{"a line without end", long + "\n" + one + "\n", map[string][]string{one: {one}}},
		{"what is too long is left out", one + " " + long + "\n" + two + "\n", map[string][]string{two: {two}}},
		{"nothing", "", map[string][]string{}},
	} {
		l := &serviceLog{ids: map[string]string{one: one, trace: one, two: two}}
		if got := l.read(strings.NewReader(c.log)); !reflect.DeepEqual(got, c.want) {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
	l := &serviceLog{ids: map[string]string{one: one}}
	if got := l.read(strings.NewReader(strings.Repeat(one+"\n", 5_000)))[one]; len(got) != maxCaseLines {
		t.Errorf("%d lines are kept", len(got))
	}
	if got := l.read(strings.NewReader(strings.Repeat(one+strings.Repeat(" y", 2_000)+"\n", 500)))[one]; len(strings.Join(got, "")) > maxCaseLog {
		t.Errorf("%d bytes are kept", len(strings.Join(got, "")))
	}
}
