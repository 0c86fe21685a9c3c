package wire

import (
	"bytes"
	"fmt"
	"mime/multipart"
	"net/textproto"
	"strings"

	"obiter/internal/core/instance"
)

// encodeForm writes an object as application/x-www-form-urlencoded: a list is
// its name repeated (OpenAPI's default style form, exploded).
func encodeForm(object map[string]any) []byte {
	var out []string
	for _, name := range instance.Names(object) {
		list, ok := object[name].([]any)
		if !ok {
			list = []any{object[name]}
		}
		for _, v := range list {
			out = append(out, formEscape(name)+"="+formEscape(Text(v)))
		}
	}
	return []byte(strings.Join(out, "&"))
}

func formEscape(s string) string { return strings.ReplaceAll(escape(s), "%20", "+") }

// Boundary parts the fields of multipart bodies. It is fixed, so that plans are
// repeatable, and in no value that is made here.
const Boundary = "obiter-7f3a9c51e08d-boundary"

// encodeMultipart writes an object as multipart/form-data (RFC 7578): bytes as
// a file, objects as JSON, a list of primitives as its name repeated.
func encodeMultipart(object map[string]any, isFile func(name string) bool, asJSON func(name string, v any) bool) []byte {
	var b bytes.Buffer
	w := multipart.NewWriter(&b)
	if err := w.SetBoundary(Boundary); err != nil {
		panic("wire: " + err.Error())
	}
	part := func(name, file, contentType, value string) {
		h := textproto.MIMEHeader{}
		disposition := `form-data; name="` + quoteName(name) + `"`
		if file != "" {
			disposition += `; filename="` + file + `"`
		}
		h.Set("Content-Disposition", disposition)
		if contentType != "" {
			h.Set("Content-Type", contentType)
		}
		p, err := w.CreatePart(h)
		if err == nil {
			_, err = p.Write([]byte(value))
		}
		if err != nil {
			panic(fmt.Sprintf("wire: writing to memory: %v", err))
		}
	}
	for _, name := range instance.Names(object) {
		v := object[name]
		list, isList := v.([]any)
		switch {
		case asJSON(name, v):
			part(name, "", "application/json", string(instance.Encode(v)))
		case isList:
			for _, e := range list {
				part(name, "", "", Text(e))
			}
		case isFile(name):
			part(name, "file.bin", "application/octet-stream", Text(v))
		default:
			part(name, "", "", Text(v))
		}
	}
	_ = w.Close()
	return b.Bytes()
}

var nameQuoter = strings.NewReplacer(`"`, "%22", "\r", "%0D", "\n", "%0A")

func quoteName(s string) string { return nameQuoter.Replace(s) }
