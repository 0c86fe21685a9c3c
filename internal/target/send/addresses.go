package send

import (
	"hash/maphash"
	"net/url"
	"sync/atomic"
)

// addresses are URLs that were read before: most requests of an operation have the same.
// It is safe for concurrent use.
type addresses struct {
	seed maphash.Seed
	last [64]atomic.Pointer[address] // by a hash of their texts
}

type address struct {
	text string
	url  *url.URL // is not written to
}

func newAddresses() *addresses { return &addresses{seed: maphash.MakeSeed()} }

func (a *addresses) at(text string) *atomic.Pointer[address] {
	return &a.last[maphash.String(a.seed, text)%uint64(len(a.last))]
}

// of is what a text was read as; nil where that is not known.
func (a *addresses) of(text string) *url.URL {
	if known := a.at(text).Load(); known != nil && known.text == text {
		return known.url
	}
	return nil
}

func (a *addresses) keep(text string, read *url.URL) { a.at(text).Store(&address{text, read}) }
