package config

import _ "embed" // the schema

// Schema is the JSON Schema of the configuration, for editors.
//
//go:embed schema.json
var Schema []byte
