package whole

import (
	"slices"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/generate/flaw"
	"obiter/internal/input/oad"
)

// ContentHeaders sends the body under headers that do not tell what it is.
func ContentHeaders(r *Request) {
	if r.Control == nil {
		r.acceptAlone()
		return
	}
	control, body := r.Control, r.Bytes
	send := func(rule, variant, reason string, contentType string, body []byte, headers ...[2]string) {
		q := r.Again(r.Method, contentType, body)
		q.Headers = append(q.Headers, headers...)
		r.whole(control, rule, variant, reason, q)
	}
	switch {
	case r.Body.Required:
		send("empty-body", "no-bytes", "a body is required and none is sent", r.Media, nil)
	case r.Body.Optional:
		r.bodyless()
	case r.at(flaw.Usual): // OpenAPI's default, and many a description only forgot to say
		send("empty-body", "left-open", "no body is sent, and the description does not say whether one is required", r.Media, nil)
	}
	if other := r.otherMedia(); other != "" {
		send("wrong-content-type", strings.ReplaceAll(other, "/", "-"), "the body is sent as "+other+", which is not among the described media types", other, body)
	}
	if len(body) > 0 && r.at(flaw.Usual) {
		if r.otherMedia() != "" {
			send("wrong-content-type", "absent", "the body is sent without a Content-Type", "", body)
		}
		send("wrong-content-encoding", "unknown-coding", "the header Content-Encoding names a coding that does not exist", r.Media, body, [2]string{"Content-Encoding", "ballast"})
	}
	if !r.readsJSON() {
		return
	}
	if ballast := "application/ballast+json"; r.at(flaw.Deep) && !r.describesMedia(ballast) {
		send("wrong-content-type", "other-json", "the body is sent as "+ballast+", which is not among the described media types", ballast, body)
	}
	if r.at(flaw.Deep) {
		send("unusual-charset", "unknown", "the Content-Type has a charset that does not exist; JSON has no such parameter (RFC 8259, section 11)", exchange.MediaTypeOf(r.Media)+"; charset=ballast", body)
	}
	if len(body) > 1 && r.at(flaw.Usual) {
		for _, a := range [][3]string{{"image/png", "image-png", "only an image"}, {"*/*", "anything", "anything"}} {
			q := r.Again(r.Method, r.Media, body[:len(body)-1])
			q.Headers[0][1] = a[0]
			r.whole(control, "unusual-accept", a[1], a[2]+" is accepted as the answer, and the JSON is cut off", q)
		}
	}
}

// bodyless is an edge: no body, where the description says that it may be left out.
func (r *Request) bodyless() {
	f := exchange.Flaw{In: "request", Rule: "empty-body", Variant: "optional", Reason: "no body, which is optional"}
	r.GiveEdge(Case{Flaw: f, Request: r.Again(r.Method, "", nil), Control: r.Control})
}

// acceptAlone asks a GET for an image, where it is not described to give one: the
// service may say that it has none, or give what it has (RFC 9110, section 12.5.1).
func (r *Request) acceptAlone() {
	other := slices.ContainsFunc(r.Responses, func(a oad.Response) bool {
		return slices.ContainsFunc(a.Media, func(m oad.Media) bool { return !exchange.IsJSON(m.Type) })
	})
	if r.Method != "GET" || other || !r.at(flaw.Usual) {
		return
	}
	q := r.Again(r.Method, "", nil)
	q.Headers[0][1] = "image/png"
	r.whole(nil, "unusual-accept", "image-png-alone", "only an image is accepted as the answer", q)
}

// otherMedia is a media type that the operation does not describe; "" where it takes any.
func (r *Request) otherMedia() string {
	if r.Body == nil {
		return ""
	}
	for _, t := range []string{"text/plain", "application/octet-stream", "application/x-ndjson"} {
		if !r.describesMedia(t) {
			return t
		}
	}
	return ""
}

func (r *Request) describesMedia(t string) bool {
	return slices.ContainsFunc(r.Body.Media, func(m oad.Media) bool {
		return exchange.Covers(exchange.MediaTypeOf(m.Type), t)
	})
}
