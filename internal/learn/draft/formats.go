package draft

import (
	"net/mail"
	"net/netip"
	"net/url"
	"regexp"
	"strings"
	"sync"
	"time"
)

var uuid = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}$`)
})

// formats are those that texts are recognised by, the more particular first.
var formats = []struct {
	name string
	is   func(string) bool
}{
	{"uuid", func(s string) bool { return uuid().MatchString(s) }},
	{"date-time", func(s string) bool { _, err := time.Parse(time.RFC3339, strings.ToUpper(s)); return err == nil }},
	{"date", func(s string) bool { _, err := time.Parse(time.DateOnly, s); return err == nil }},
	{"email", func(s string) bool {
		a, err := mail.ParseAddress(s)
		return err == nil && a.Address == s && strings.Contains(s, ".")
	}},
	{"ipv4", func(s string) bool { a, err := netip.ParseAddr(s); return err == nil && a.Is4() }},
	{"ipv6", func(s string) bool { a, err := netip.ParseAddr(s); return err == nil && a.Is6() }},
	{"uri", func(s string) bool { u, err := url.Parse(s); return err == nil && u.Scheme != "" && u.Host != "" }},
}
