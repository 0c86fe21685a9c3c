package report

import (
	"cmp"
	"slices"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/evaluate/judge"
)

// Layout is how rejections of one layer of the service are laid out.
type Layout struct {
	Layer      string   `json:"layer"`   // what rejects: router, decoder, validator, business, credentials
	Media      string   `json:"media"`   // the media type, or what the body is
	Members    []string `json:"members"` // of the answer's object
	Answers    int      `json:"answers"`
	Operations []string `json:"operations"`
	Departs    bool     `json:"departs,omitempty"` // from the usual one
	Usual      bool     `json:"usual,omitempty"`
	Case       string   `json:"case"` // the first that shows it

	Status int    `json:"-"` // of that case
	Body   []byte `json:"-"`
	about  *judge.Fingerprint
	number int
	has    map[string]bool // operations
}

type layoutKey struct{ layer, shape string }

// Bounds of the layouts that are kept, and of an answer that shows one.
const (
	maxLayouts = 200
	maxKept    = 8 << 10
)

// layers are what in a service rejects a request of a class.
var layers = map[exchange.Class]string{
	exchange.Method: "router", exchange.MediaType: "router", exchange.NotAcceptable: "router", exchange.ContentCoding: "router", exchange.NotFound: "router", exchange.TooLarge: "router",
	exchange.Syntax: "decoder", exchange.EmptyBody: "decoder", exchange.UntypedBody: "decoder",
	exchange.Type: "validator", exchange.Constraint: "validator", exchange.UnknownField: "validator", exchange.Parameter: "validator", exchange.PathParameter: "validator",
	exchange.Reference: "business", exchange.Duplicate: "business",
	exchange.Unauthorized: "credentials", exchange.Forbidden: "credentials", exchange.Malformed: "credentials",
}

// Layers are the layers in the order in which a request meets them.
var Layers = []string{"router", "credentials", "decoder", "validator", "business"}

// layer is what should reject a case; "" where that is open.
func layer(c *exchange.Case) string {
	if len(c.Flaws) > 0 && isBusiness(c.Flaws[0].Rule) {
		return "business"
	}
	return layers[c.Expect.Class]
}

// lay takes in a rejection.
func (r *Report) lay(e *exchange.Exchange, t *judge.Fingerprint) {
	of := layer(&e.Case)
	if t == nil || of == "" {
		return
	}
	members := t.Members
	if members == nil {
		members = t.All
	}
	k := layoutKey{of, t.Form + " " + strings.Join(members, " ")}
	l := r.layouts[k]
	if l == nil {
		if len(r.layouts) >= maxLayouts {
			return
		}
		l = &Layout{Layer: of, Media: t.Form, Members: append([]string{}, members...), number: e.Number + 1, has: map[string]bool{}}
		r.layouts[k] = l
	}
	l.Answers++
	if !l.has[e.Operation] {
		l.has[e.Operation] = true
		l.Operations = append(l.Operations, e.Operation)
	}
	if e.Number < l.number {
		l.number, l.Case, l.Status, l.about = e.Number, e.ID, e.Response.Status, t
		l.Body = slices.Clone(e.Response.Body[:min(len(e.Response.Body), maxKept)])
	}
}

// Layouts are how rejections are laid out, layer by layer; the usual one is that of most
// answers.
func (r *Report) Layouts() []*Layout {
	var out []*Layout
	for _, l := range r.layouts {
		slices.SortFunc(l.Operations, func(a, b string) int { return cmp.Compare(r.order[a], r.order[b]) })
		l.Usual, l.Departs = false, false
		out = append(out, l)
	}
	slices.SortFunc(out, func(a, b *Layout) int {
		return cmp.Or(cmp.Compare(slices.Index(Layers, a.Layer), slices.Index(Layers, b.Layer)), cmp.Compare(b.Answers, a.Answers), cmp.Compare(a.number, b.number))
	})
	if usual := mostUsual(out); usual != nil {
		usual.Usual = true
		for _, l := range out {
			l.Departs = !judge.Alike(usual.about, l.about) || len(l.Members) == 0 && len(usual.Members) > 0 // which is no problem document, whatever it says
		}
	}
	return out
}

// mostUsual is the layout that most answers are like.
func mostUsual(list []*Layout) (best *Layout) {
	most := 0
	for _, l := range list {
		n := 0
		for _, o := range list {
			if judge.Alike(l.about, o.about) {
				n += o.Answers
			}
		}
		if best == nil || n > most || n == most && l.Answers > best.Answers {
			best, most = l, n
		}
	}
	return best
}
