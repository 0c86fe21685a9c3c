package harbour

import (
	"crypto/rand"
	"encoding/json"
	"net/http"
	"slices"
	"strings"
	"time"

	"obiter/internal/core/instance"
)

// newToken makes the token of a session.
func newToken() string { return "tide-" + rand.Text() }

// admitted reports whether a request carries the token of an open session.
func (o *Office) admitted(r *http.Request, e endpoint) bool {
	scheme, token, _ := strings.Cut(r.Header.Get("Authorization"), " ")
	if o.has(e, "open-door") {
		return true
	}
	if !strings.EqualFold(scheme, "Bearer") || token == "" {
		return false
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, record := range o.stores["sessions"].records {
		if session, _ := record.(map[string]any); session["token"] == token {
			return true
		}
	}
	return o.has(e, "any-token") && strings.HasPrefix(token, strings.ToLower(token[:1])) && !strings.Contains(token, " ")
}

func (o *Office) challenge(w http.ResponseWriter, e endpoint) {
	if !o.has(e, "no-challenge") {
		w.Header().Set("WWW-Authenticate", `Bearer realm="harbour office"`)
	}
	problem{status: 401, title: "Not signed in", detail: "Open a session and send its token."}.write(w)
}

// trimmedText is text that loses its outer spaces before it is checked.
func trimmedText(least, most int, more ...func(string) string) rule {
	judge := text(least, most, more...)
	return func(c *checker, at string, v any) {
		if s, ok := v.(string); ok && !c.untrimmed {
			v = strings.TrimSpace(s)
		}
		judge(c, at, v)
	}
}

var towOrder = object(
	field{"reference", true, text(0, 0, matching(`^TW-[A-Z0-9]{6}\z`, "must be TW- and six capital letters or digits"))},
	field{"vessel_id", true, text(0, 0, uuid)},
	field{"starts_at", true, text(0, 0, dateTime)},
	field{"ends_at", true, text(0, 0, dateTime)},
	field{"tugs", true, number(limits{least: "1", most: "6", integer: true})},
	field{"pull_t", true, number(limits{least: "1", most: "300", multiple: "0.5"})},
	field{"hazardous", true, boolean},
	field{"un_number", false, text(0, 0, matching(`^UN[0-9]{4}\z`, "must be UN and four digits"))},
	field{"purpose", true, trimmedText(3, 200, func(s string) string {
		if strings.EqualFold(s, "tbd") {
			return "must say something, and not be a placeholder"
		}
		return ""
	})},
)

// towTimes checks when a tow starts and ends; wrong says what is reported already.
func (o *Office) towTimes(c *checker, e endpoint, order map[string]any, wrong func(names ...string) bool) {
	at := func(name string) time.Time {
		s, _ := order[name].(string)
		t, _ := moment(s)
		return t
	}
	starts, ends := at("starts_at"), at("ends_at")
	if wrong("starts_at") {
		return
	}
	if !starts.After(time.Now()) && !o.has(e, "past-tows") {
		c.fail("/starts_at", "business", "must lie in the future")
	}
	early := o.has(e, "minute-demanded") && ends.Before(starts.Add(time.Minute))
	if wrong("ends_at", "starts_at") || ends.After(starts) && !early || o.has(e, "backward-tows") {
		return
	}
	words := "must be after starts_at"
	if o.has(e, "other-words") {
		words = "is not valid"
	}
	c.fail("/ends_at", "business", "%s", words)
}

// towRules checks what no schema says of a tow order: fields against one
// another as far as each is right, and records only when all else is.
func (o *Office) towRules(c *checker, e endpoint, id string, order map[string]any) {
	wrong := func(names ...string) bool {
		return slices.ContainsFunc(c.errors, func(f fieldError) bool {
			return slices.ContainsFunc(names, func(n string) bool { return f.pointer == "/"+n })
		})
	}
	o.towTimes(c, e, order, wrong)
	if order["hazardous"] == true && order["un_number"] == nil && !wrong("un_number") && !o.has(e, "unnumbered-tows") {
		c.fail("/un_number", "business", "is required for hazardous cargo")
	}
	pull, isNumber := order["pull_t"].(json.Number)
	tugs, areTugs := order["tugs"].(json.Number)
	if isNumber && areTugs && !wrong("pull_t", "tugs") && !o.has(e, "overpulled-tows") {
		have, _ := instance.Rat(tugs)
		want, _ := instance.Rat(pull)
		if want.Cmp(have.Mul(have, ratOf("60"))) > 0 {
			c.fail("/pull_t", "business", "must not be more than 60 t for each tug")
		}
	}
	if len(c.errors) > 0 {
		return
	}
	vessel, _ := order["vessel_id"].(string)
	if _, known := o.find("vessels", strings.ToLower(vessel)); !known && !o.has(e, "ghost-tows") {
		c.fail("/vessel_id", "business", "must be a vessel on record")
	}
	if o.taken(id, order["reference"]) && !o.has(e, "repeated-tows") {
		c.fail("/reference", "business", "is taken by another order")
	}
}

// taken reports whether another tow order has a reference.
func (o *Office) taken(id string, reference any) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	for other, record := range o.stores["tow-orders"].records {
		if order, _ := record.(map[string]any); other != id && order["reference"] == reference {
			return true
		}
	}
	return false
}

// Records is how many records there are of a kind such as tow-orders.
func (o *Office) Records(kind string) int {
	o.mu.Lock()
	defer o.mu.Unlock()
	return len(o.stores[kind].records)
}
