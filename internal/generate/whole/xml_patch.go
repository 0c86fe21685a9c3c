package whole

import (
	"bytes"
	"encoding/json"

	"obiter/internal/core/exchange"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/wire"
)

// MalformedXML sends what no XML reader may take (XML 1.0, section 2.1: well-formed
// documents; fatal errors are not passed over).
func MalformedXML(r *Request) {
	if r.Control == nil || r.body().Form != wire.XML {
		return
	}
	end := bytes.LastIndexByte(r.Bytes, '<')
	open := bytes.LastIndexByte(r.Bytes[:max(end, 0)], '>')
	if end < 0 || open < 0 {
		return
	}
	for _, m := range []struct {
		variant string
		at      flaw.Depth
		body    []byte
		reason  string
	}{
		{"cut-off", flaw.Quick, r.Bytes[:len(r.Bytes)-1], "the last character of the XML is cut off"},
		{"not-closed", flaw.Usual, r.Bytes[:end], "the last element is not closed"},
		{"text-after-the-end", flaw.Usual, append(bytes.Clone(r.Bytes), " ballast"...), "text follows the end of the XML"},
		{"undefined-entity", flaw.Usual, bytes.Join([][]byte{r.Bytes[:open+1], []byte("&ballast;"), r.Bytes[open+1:]}, nil), "an entity is not declared"},
	} {
		if r.at(m.at) {
			r.whole(r.Control, "malformed-xml", m.variant, m.reason, r.Again(r.Method, r.Media, m.body))
		}
	}
}

// PatchOperations sends lists of changes that are wrong (RFC 6902, sections 4 and 5).
func PatchOperations(r *Request) {
	if r.Control == nil || exchange.MediaTypeOf(r.Media) != exchange.JSONPatch {
		return
	}
	for _, m := range []struct {
		variant string
		at      flaw.Depth
		body    string
		reason  string
	}{
		{"unknown-op", flaw.Quick, `[{"op":"ballast","path":"/name","value":"x"}]`, `there is no operation "ballast" (RFC 6902, section 4)`},
		{"no-op", flaw.Usual, `[{"path":"/name","value":"x"}]`, "the member op is missing (RFC 6902, section 4)"},
		{"no-path", flaw.Usual, `[{"op":"remove"}]`, "the member path is missing (RFC 6902, section 4)"},
		{"no-value", flaw.Usual, `[{"op":"add","path":"/name"}]`, "the member value is missing (RFC 6902, section 4.1)"},
		{"no-pointer", flaw.Usual, `[{"op":"remove","path":"name"}]`, "the path is no JSON Pointer (RFC 6901, section 3)"},
		{"path-to-nothing", flaw.Usual, `[{"op":"remove","path":"/no-such-member"}]`, "the path leads to nothing (RFC 6902, section 4.2)"},
		{"no-list", flaw.Usual, `{"op":"remove","path":"/name"}`, "the patch is not a list (RFC 6902, section 3)"},
	} {
		if r.at(m.at) && json.Valid([]byte(m.body)) {
			r.whole(r.Control, "patch-operation", m.variant, m.reason, r.Again(r.Method, r.Media, []byte(m.body)))
		}
	}
}
