package exchange

import (
	"bytes"
	"encoding/json"
)

// marshal is json.Marshal without HTML escapes, so that lines read as sent.
func marshal(v any) ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return nil, err
	}
	return bytes.TrimRight(b.Bytes(), "\n"), nil
}
