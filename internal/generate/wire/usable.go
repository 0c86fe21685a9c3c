package wire

import (
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/input/oad"
)

// Usable finds the first media type that can be written: JSON before forms, these
// before a JSON patch, text, files and XML. "*/*" takes JSON too.
func Usable(list []oad.Media) (m oad.Media, form string, ok bool) {
	for _, sort := range []func(t string) (string, bool){
		func(t string) (string, bool) { return "", exchange.IsJSON(t) },
		formOf,
		func(t string) (string, bool) { return "", t == exchange.JSONPatch },
		textOrFile,
		func(t string) (string, bool) {
			return XML, t == "application/xml" || t == "text/xml" || strings.HasSuffix(t, "+xml")
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
		return URLEncoded, true
	case "multipart/form-data":
		return Multipart, true
	}
	return "", false
}

func textOrFile(t string) (form string, ok bool) {
	_, known := File(t)
	switch {
	case t == "text/plain" || t == "text/*":
		return Plain, true
	case strings.HasPrefix(t, "text/") && t != "text/xml" || known:
		return Bytes, true
	}
	return "", false
}

// SentAs is a media type that stands for others as it is sent.
func SentAs(mediaType, form string) string {
	switch {
	case form == Plain && strings.Contains(mediaType, "*"):
		return "text/plain"
	case strings.Contains(mediaType, "*"):
		return "application/json"
	}
	return mediaType
}

func MediaNames(list []oad.Media) string {
	var out []string
	for _, m := range list {
		out = append(out, m.Type)
	}
	if len(out) == 0 {
		return "no media type is described"
	}
	return strings.Join(out, ", ")
}

// SampleOf is the value that a body has by its media type: the smallest file of it, and
// a list without changes for a patch. False where the schema alone says what it is.
func SampleOf(media, form string) (any, bool) {
	if form == Bytes {
		if content, known := File(media); known {
			return content, true
		}
	}
	return []any{}, media == exchange.JSONPatch
}
