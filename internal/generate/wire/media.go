package wire

import (
	"bytes"
	"encoding/xml"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/input/schema"
)

// The forms of bodies; JSON has none.
const (
	URLEncoded = "urlencoded"
	Multipart  = "multipart"
	Plain      = "plain" // one value as text
	Bytes      = "bytes"
	XML        = "xml"
)

// IsText reports whether the values of the place arrive as text.
func (p *Place) IsText() bool {
	return p.In != "body" || p.Form == URLEncoded || p.Form == Multipart || p.Form == Plain || p.Form == Bytes
}

// files are the smallest valid files of media types.
var files = map[string]string{
	"image/png":                "\x89PNG\x0d\x0a\x1a\x0a\x00\x00\x00\x0dIHDR\x00\x00\x00\x01\x00\x00\x00\x01\x08\x06\x00\x00\x00\x1f\x15\xc4\x89\x00\x00\x00\x11IDATx\x9cbb```\x00\x04\x00\x00\xff\xff\x00\x0f\x00\x03\xfe\x8f\xeb\xcf\x00\x00\x00\x00IEND\xaeB`\x82",
	"image/gif":                "GIF89a\x01\x00\x01\x00\x80\x00\x00\x00\x00\x00\xff\xff\xff,\x00\x00\x00\x00\x01\x00\x01\x00\x00\x02\x02D\x01\x00;",
	"image/svg+xml":            `<svg xmlns="http://www.w3.org/2000/svg" width="1" height="1"/>`,
	"application/zip":          "PK\x05\x06" + strings.Repeat("\x00", 18),
	"application/pdf":          "%PDF-1.1\n1 0 obj<</Type/Catalog/Pages 2 0 R>>endobj\n2 0 obj<</Type/Pages/Kids[]/Count 0>>endobj\nxref\n0 3\n0000000000 65535 f \n0000000009 00000 n \n0000000052 00000 n \ntrailer<</Size 3/Root 1 0 R>>\nstartxref\n96\n%%EOF\n",
	"text/csv":                 "name,length_m\r\nAurora,182.5\r\n",
	"text/html":                "<!DOCTYPE html><title>Berths</title><p>None is free.</p>",
	"application/octet-stream": "ballast\n",
}

// File is the smallest valid file of a media type; false where none is known.
func File(mediaType string) (string, bool) {
	content, known := files[mediaType]
	return content, known
}

// encodeXML writes a value as XML as OpenAPI maps the two (3.1.1, section 4.8.26): members
// are elements of their names, or attributes; elements of arrays repeat their name, inside
// one of the array's where it is wrapped.
func encodeXML(list []schema.Schema, root string, v any) []byte {
	var b bytes.Buffer
	b.WriteString(xml.Header)
	if name := shapeOf(list, v).XML.Name; name != "" {
		root = name
	}
	writeXML(&b, root, list, v)
	return b.Bytes()
}

func shapeOf(list []schema.Schema, v any) *schema.Shape { return schema.Merge(schema.Apply(list, v)) }

func writeXML(b *bytes.Buffer, name string, list []schema.Schema, v any) {
	sh := shapeOf(list, v)
	switch v := v.(type) {
	case map[string]any:
		b.WriteString("<" + name)
		var inside []string
		for _, member := range instance.Names(v) {
			members, _ := sh.Member(member)
			if as := shapeOf(members, v[member]).XML; as.Attribute && isScalar(v[member]) {
				b.WriteString(" " + nameOr(as.Name, member) + `="`)
				_ = xml.EscapeText(b, []byte(Text(v[member])))
				b.WriteString(`"`)
				continue
			}
			inside = append(inside, member)
		}
		b.WriteString(">")
		for _, member := range inside {
			members, _ := sh.Member(member)
			writeXML(b, nameOr(shapeOf(members, v[member]).XML.Name, member), members, v[member])
		}
		b.WriteString("</" + name + ">")
	case []any:
		if sh.XML.Wrapped {
			b.WriteString("<" + name + ">")
		}
		for i, e := range v {
			items := sh.Item(i)
			writeXML(b, nameOr(shapeOf(items, e).XML.Name, name), items, e)
		}
		if sh.XML.Wrapped {
			b.WriteString("</" + name + ">")
		}
	default:
		b.WriteString("<" + name + ">")
		_ = xml.EscapeText(b, []byte(Text(v)))
		b.WriteString("</" + name + ">")
	}
}

func nameOr(given, usual string) string {
	if given != "" {
		return given
	}
	return usual
}
