package harbour

import (
	"strings"
	"time"
)

// moment reads a date-time of RFC 3339: t and z may be small, a leap second counts as the
// one before it, and a fraction follows a full stop. False for anything else.
func moment(s string) (time.Time, bool) {
	if strings.Contains(s, ",") { // package time takes it for a full stop
		return time.Time{}, false
	}
	s = strings.Replace(strings.ToUpper(s), ":59:60", ":59:59", 1)
	t, err := time.Parse(time.RFC3339, s)
	return t, err == nil
}
