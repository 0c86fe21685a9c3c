package plan

import (
	"bytes"
	"encoding/json"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/wire"
	"obiter/internal/input/oad"
)

// usableMedia finds the first media type that can be written: JSON before forms, these
// before a JSON patch, text, files and XML. "*/*" takes JSON too.
func usableMedia(list []oad.Media) (m oad.Media, form string, ok bool) {
	for _, sort := range []func(t string) (string, bool){
		func(t string) (string, bool) { return "", IsJSON(t) },
		formOf,
		func(t string) (string, bool) { return "", t == jsonPatch },
		textOrFile,
		func(t string) (string, bool) {
			return wire.XML, t == "application/xml" || t == "text/xml" || strings.HasSuffix(t, "+xml")
		},
	} {
		for _, m := range list {
			if form, is := sort(exchange.MediaTypeOf(m.Type)); is {
				return m, form, true
			}
		}
	}
	return oad.Media{}, "", false
}

func formOf(t string) (form string, ok bool) {
	switch t {
	case "*/*", "application/*":
		return "", true
	case "application/x-www-form-urlencoded":
		return wire.URLEncoded, true
	case "multipart/form-data":
		return wire.Multipart, true
	}
	return "", false
}

func textOrFile(t string) (form string, ok bool) {
	_, known := wire.File(t)
	switch {
	case t == "text/plain" || t == "text/*":
		return wire.Plain, true
	case strings.HasPrefix(t, "text/") && t != "text/xml" || known:
		return wire.Bytes, true
	}
	return "", false
}

// jsonPatch is the media type of a list of changes (RFC 6902), which is JSON.
const jsonPatch = "application/json-patch+json"

// IsJSON reports whether a media type is JSON: application/json, or a type with
// the suffix +json (RFC 6839, section 3.1). JSON Patch (RFC 6902) is left out:
// its bodies are programs, not fields.
func IsJSON(mediaType string) bool {
	t := exchange.MediaTypeOf(mediaType)
	return t == "application/json" || t == "text/json" || strings.HasSuffix(t, "+json") && t != jsonPatch
}

// readsJSON reports whether the operation's body is read as JSON, whatever it means.
func (op *Operation) readsJSON() bool {
	return IsJSON(op.Media) || exchange.MediaTypeOf(op.Media) == jsonPatch
}

// sentAs is a media type that stands for others as it is sent.
func sentAs(mediaType, form string) string {
	switch {
	case form == wire.Plain && strings.Contains(mediaType, "*"):
		return "text/plain"
	case strings.Contains(mediaType, "*"):
		return "application/json"
	}
	return mediaType
}

func mediaNames(list []oad.Media) string {
	var out []string
	for _, m := range list {
		out = append(out, m.Type)
	}
	if len(out) == 0 {
		return "no media type is described"
	}
	return strings.Join(out, ", ")
}

// malformedXML sends what no XML reader may take (XML 1.0, section 2.1: well-formed
// documents; fatal errors are not passed over).
func (e *emitter) malformedXML(s sent) {
	part := e.op.part("body")
	if s.control == nil || part.Form != wire.XML {
		return
	}
	end := bytes.LastIndexByte(s.body, '<')
	open := bytes.LastIndexByte(s.body[:max(end, 0)], '>')
	if end < 0 || open < 0 {
		return
	}
	for _, m := range []struct {
		variant string
		at      flaw.Depth
		body    []byte
		reason  string
	}{
		{"cut-off", flaw.Quick, s.body[:len(s.body)-1], "the last character of the XML is cut off"},
		{"not-closed", flaw.Usual, s.body[:end], "the last element is not closed"},
		{"text-after-the-end", flaw.Usual, append(bytes.Clone(s.body), " ballast"...), "text follows the end of the XML"},
		{"undefined-entity", flaw.Usual, bytes.Join([][]byte{s.body[:open+1], []byte("&ballast;"), s.body[open+1:]}, nil), "an entity is not declared"},
	} {
		if e.at(m.at) {
			e.whole(s.control, "malformed-xml", m.variant, m.reason, s.again(e.op.Method, e.op.Media, m.body))
		}
	}
}

// patchOperations sends lists of changes that are wrong (RFC 6902, sections 4 and 5).
func (e *emitter) patchOperations(s sent) {
	if s.control == nil || exchange.MediaTypeOf(e.op.Media) != jsonPatch {
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
		if e.at(m.at) && json.Valid([]byte(m.body)) {
			e.whole(s.control, "patch-operation", m.variant, m.reason, s.again(e.op.Method, e.op.Media, []byte(m.body)))
		}
	}
}

// sampleOf is the value that a body has by its media type: the smallest file of it, and
// a list without changes for a patch. False where the schema alone says what it is.
func sampleOf(media, form string) (any, bool) {
	if form == wire.Bytes {
		if content, known := wire.File(media); known {
			return content, true
		}
	}
	return []any{}, media == jsonPatch
}

// rootOf is the name of the element that an XML body is: of the schema, where that has one.
func rootOf(address string) string {
	_, pointer, _ := strings.Cut(address, "#")
	if name, is := strings.CutPrefix(pointer, "/components/schemas/"); is && !strings.Contains(name, "/") {
		return instance.Last(pointer)
	}
	return "body"
}
