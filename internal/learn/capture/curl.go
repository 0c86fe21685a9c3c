package capture

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/syntax"

	"obiter/internal/core/exchange"
)

// Curl reads the requests of the curl command lines in a shell script. Their answers are
// not known. File gives what an option reads from a file (@name). The error is that of
// the first command that cannot be read, with its line.
func Curl(src []byte, file func(name string) ([]byte, error)) ([]Exchange, error) {
	script, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(bytes.NewReader(src), "")
	if err != nil {
		return nil, &Error{0, "it is not readable as a shell script: " + err.Error()}
	}
	var out []Exchange
	var failed error
	syntax.Walk(script, func(n syntax.Node) bool {
		call, is := n.(*syntax.CallExpr)
		if !is || failed != nil || len(call.Args) == 0 {
			return failed == nil
		}
		words, err := literals(call.Args)
		if err == nil && words[0] != "curl" {
			return true
		}
		var x Exchange
		if err == nil {
			x, err = curl(words[1:], file)
		}
		if err != nil {
			failed = &Error{0, fmt.Sprintf("line %d: %v", call.Pos().Line(), err)}
			return false
		}
		x.Entry = len(out) + 1
		out = append(out, x)
		return true
	})
	return out, failed
}

// literals are words as a shell would give them to a program; variables stay as they are
// written, and nothing is run.
func literals(args []*syntax.Word) ([]string, error) {
	kept := expand.FuncEnviron(func(name string) string { return "${" + name + "}" })
	var out []string
	for _, a := range args {
		if what := running(a); what != "" {
			return nil, fmt.Errorf("%s would have to be run, and nothing is: write its text there", what)
		}
		text, err := expand.Literal(&expand.Config{Env: kept}, a)
		if err != nil {
			return nil, err
		}
		out = append(out, text)
	}
	return out, nil
}

// running is what a word has in it that a shell would run; "" where it has nothing of the kind.
func running(w *syntax.Word) (what string) {
	syntax.Walk(w, func(n syntax.Node) bool {
		switch n.(type) {
		case *syntax.ProcSubst:
			what = "a process substitution, <(…)"
		case *syntax.CmdSubst:
			what = "a command substitution, $(…)"
		}
		return what == ""
	})
	return what
}

// Options of curl that take a value and say nothing of the request, and those that do.
var (
	silent = []string{"-o", "--output", "-w", "--write-out", "-m", "--max-time", "--connect-timeout", "--retry", "--retry-delay", "-c", "--cookie-jar", "--cacert", "--cert", "--key", "-E", "--resolve", "--proxy", "-x", "--limit-rate", "-D", "--dump-header", "--ciphers", "--interface", "--trace", "--trace-ascii", "-K", "--config", "--max-redirs"}
	long   = map[string]string{"--request": "-X", "--header": "-H", "--data": "-d", "--data-ascii": "-d", "--user": "-u", "--form": "-F", "--get": "-G", "--head": "-I", "--cookie": "-b", "--user-agent": "-A", "--referer": "-e", "--url": "--url"}
	valued = "XHdubFAeomwcxEDK"
)

// curl is a command line as a request.
func curl(args []string, file func(string) ([]byte, error)) (Exchange, error) {
	x := Exchange{Request: exchange.Request{Headers: [][2]string{}}}
	var data []string
	get, isJSON, isForm := false, false, false
	for i := 0; i < len(args); i++ {
		option, value, has := args[i], "", false
		if name, text, cut := strings.Cut(option, "="); cut && strings.HasPrefix(option, "--") {
			option, value, has = name, text, true
		}
		if short, known := long[option]; known {
			option = short
		}
		if len(option) > 2 && option[0] == '-' && option[1] != '-' { // several short ones in a word
			at := strings.IndexAny(option[1:], valued) + 1
			switch {
			case at == 0:
				get = get || strings.Contains(option, "G")
				continue
			case at < len(option)-1:
				value, has = option[at+1:], true
			}
			option = "-" + option[at:at+1]
		}
		next := func() (string, error) {
			if has {
				return value, nil
			}
			if i++; i >= len(args) {
				return "", fmt.Errorf("curl: the option %s has no value", option)
			}
			return args[i], nil
		}
		var text string
		var err error
		switch option {
		case "-G", "-I":
			get = get || option == "-G"
			if option == "-I" {
				x.Method = http.MethodHead
			}
			continue
		case "-X", "-H", "-d", "--data-raw", "--data-binary", "--data-urlencode", "--json", "-u", "-F", "-b", "-A", "-e", "--url":
			if text, err = next(); err != nil {
				return x, err
			}
		default:
			if slices.Contains(silent, option) {
				if _, err := next(); err != nil {
					return x, err
				}
				continue
			}
			if strings.HasPrefix(option, "-") && option != "-" {
				continue // a switch
			}
			text, option = args[i], "--url"
		}
		switch option {
		case "-X":
			x.Method = strings.ToUpper(text)
		case "-H":
			name, value, _ := strings.Cut(text, ":")
			x.Headers = append(x.Headers, [2]string{strings.TrimSpace(name), strings.TrimSpace(value)})
		case "-u":
			x.Headers = append(x.Headers, [2]string{"Authorization", "Basic " + base64.StdEncoding.EncodeToString([]byte(text))})
		case "-b":
			x.Headers = append(x.Headers, [2]string{"Cookie", text})
		case "-F":
			isForm = true
		case "--url":
			if x.URL == "" {
				x.URL = text
			}
		case "-d", "--data-binary", "--json", "--data-raw", "--data-urlencode":
			isJSON = isJSON || option == "--json"
			if name, isFile := strings.CutPrefix(text, "@"); isFile && option != "--data-raw" && option != "--data-urlencode" {
				src, err := file(name)
				if err != nil {
					return x, fmt.Errorf("curl: the data in %s: %w", name, err)
				}
				text = string(src)
			}
			if option == "--data-urlencode" {
				name, value, _ := strings.Cut(text, "=")
				text = name + "=" + url.QueryEscape(value)
			}
			data = append(data, text)
		}
	}
	return x, finish(&x, data, get, isJSON, isForm)
}

// finish puts together what the options said.
func finish(x *Exchange, data []string, get, isJSON, isForm bool) error {
	if x.URL == "" {
		return fmt.Errorf("curl: there is no address")
	}
	if !strings.Contains(x.URL, "://") {
		x.URL = "http://" + x.URL
	}
	x.Lacking = isForm
	switch body := strings.Join(data, "&"); {
	case body == "":
	case get:
		sep := "?"
		if strings.Contains(x.URL, "?") {
			sep = "&"
		}
		x.URL += sep + body
	default:
		x.Body = []byte(body)
		if x.Header("Content-Type") == "" {
			media := "application/x-www-form-urlencoded"
			if isJSON || (body[0] == '{' || body[0] == '[') && json.Valid(x.Body) { // which was meant
				media = "application/json"
			}
			x.Headers = append(x.Headers, [2]string{"Content-Type", media})
		}
	}
	if x.Method == "" {
		x.Method = http.MethodGet
		if len(x.Body) > 0 || isForm {
			x.Method = http.MethodPost
		}
	}
	return nil
}
