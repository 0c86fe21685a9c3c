package terminal

import (
	"strings"
	"testing"
	"time"
)

// TestProgressWithoutATerminal: a line every ten seconds, with what is known by then.
func TestProgressWithoutATerminal(t *testing.T) {
	t.Parallel()
	var b strings.Builder
	p := NewProgress(&b, 4)
	now := p.begun
	p.now = func() time.Time { return now }
	for i := range 61 { // seconds
		now = p.begun.Add(time.Duration(i) * time.Second)
		if p.Sent(i * 50); i == 15 {
			p.OperationDone(1_200)
		}
	}
	lines := strings.Split(strings.TrimSpace(b.String()), "\n")
	if len(lines) != 6 || lines[0] != "500 cases answered, 50 a second; 0 of 4 operations done" || lines[1] != "1,000 cases answered, 50 a second, 1,200 wrong so far, about 1m0s left; 1 of 4 operations done" {
		t.Errorf("%d lines: %q", len(lines), lines)
	}
	var none *Progress
	none.Sent(1)
	none.Clear()
	none.OperationDone(1)
}
