module obiter

go 1.26.0

require (
	cel.dev/cel-go v0.33.2
	github.com/agnivade/levenshtein v1.2.2
	github.com/bmatcuk/doublestar/v4 v4.10.4
	github.com/dlclark/regexp2/v2 v2.13.0
	github.com/go-json-experiment/json v1.27.2
	github.com/gofrs/flock v0.13.2
	github.com/jedib0t/go-pretty/v6 v6.9.2
	github.com/santhosh-tekuri/jsonschema/v6 v6.0.3
	github.com/schollz/progressbar/v3 v3.19.1
	github.com/urfave/cli/v3 v3.14.0
	go.yaml.in/yaml/v4 v4.0.0
	golang.org/x/net v0.62.0
	golang.org/x/sync v0.25.0
	golang.org/x/sys v0.50.0
	golang.org/x/term v0.48.0
	golang.org/x/text v0.44.0
	golang.org/x/time v0.16.0
	mvdan.cc/sh/v3 v3.14.1
)

require (
	cel.dev/expr v0.25.1 // indirect
	github.com/BurntSushi/toml v1.4.1-0.20240526193622-a339e1f7089c // indirect
	github.com/antlr4-go/antlr/v4 v4.13.1 // indirect
	github.com/dlclark/regexp2 v1.12.0 // indirect
	github.com/mattn/go-runewidth v0.0.16 // indirect
	github.com/mitchellh/colorstring v0.0.0-20190213212951-d06e56a500db // indirect
	github.com/rivo/uniseg v0.4.7 // indirect
	go.yaml.in/yaml/v3 v3.0.5 // indirect
	golang.org/x/exp v0.0.0-20240823005443-9b4947da3948 // indirect
	golang.org/x/exp/typeparams v0.0.0-20231108232855-2478ac86f678 // indirect
	golang.org/x/mod v0.42.0 // indirect
	golang.org/x/tools v0.52.0 // indirect
	google.golang.org/genproto/googleapis/api v0.0.0-20240826202546-f6391c0de4c7 // indirect
	google.golang.org/genproto/googleapis/rpc v0.0.0-20240826202546-f6391c0de4c7 // indirect
	google.golang.org/protobuf v1.36.10 // indirect
	honnef.co/go/tools v0.8.2 // indirect
)

tool honnef.co/go/tools/cmd/staticcheck
