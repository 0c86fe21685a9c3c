package capture

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
)

// NoAddress stands for an address that is not known (RFC 6761, section 6.4).
const NoAddress = "http://unknown.invalid/"

// Document is a problem document by itself as the answer to a request that is not known.
// The error says why it is none.
func Document(src []byte) (Exchange, error) {
	v, err := instance.Decode(src)
	if err != nil {
		return Exchange{}, &Error{0, "it is not readable as JSON: " + err.Error()}
	}
	object, is := v.(map[string]any)
	if !is {
		return Exchange{}, &Error{0, "it is neither an HTTP archive (HAR 1.2) nor a problem document: it is not an object"}
	}
	status := http.StatusBadRequest
	if n, is := object["status"].(json.Number); is {
		if code, err := n.Int64(); err == nil && code >= 400 && code <= 599 {
			status = int(code)
		}
	}
	return Exchange{Request: exchange.Request{Method: http.MethodGet, URL: NoAddress, Headers: [][2]string{}}, Entry: 1, Answer: exchange.Answer{Status: status, Header: http.Header{"Content-Type": {"application/problem+json"}}, Body: src}}, nil
}

// form is what pairs are as a form.
func form(list []pair) string {
	var out []string
	for _, p := range list {
		out = append(out, url.QueryEscape(p.Name)+"="+url.QueryEscape(p.Value))
	}
	return strings.Join(out, "&")
}

// Kind is what a file holds.
type Kind int

// The sorts of files.
const (
	Unknown   Kind = iota // anything else, a problem document as well
	RunFile               // of Obiter
	IsArchive             // an HTTP archive
)

// Detect tells what a file holds by its beginning.
func Detect(r io.Reader) Kind {
	head := make([]byte, 64<<10)
	n, _ := io.ReadFull(r, head)
	head = bytes.TrimLeft(bytes.TrimPrefix(head[:n], []byte("\xef\xbb\xbf")), " \t\r\n")
	line, _, _ := bytes.Cut(head, []byte("\n"))
	var first struct {
		Type   string `json:"type"`
		Obiter int    `json:"obiter"`
	}
	if json.Unmarshal(line, &first) == nil && first.Type == "run" && first.Obiter > 0 {
		return RunFile
	}
	if d := json.NewDecoder(bytes.NewReader(head)); isObject(d) {
		for d.More() {
			key, err := d.Token()
			if err != nil {
				break
			}
			if key == "log" {
				return IsArchive
			}
			var other json.RawMessage
			if d.Decode(&other) != nil {
				break
			}
		}
	}
	return Unknown
}

func isObject(d *json.Decoder) bool {
	t, err := d.Token()
	return err == nil && t == json.Delim('{')
}
