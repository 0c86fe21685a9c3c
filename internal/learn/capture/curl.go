package capture

import (
	"bytes"
	"cmp"
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

// Options of curl that take a value and say nothing of the request, the short names of those
// that say something, and which of these take a value.
var (
	silent = []string{"-o", "--output", "-w", "--write-out", "-m", "--max-time", "--connect-timeout", "--retry", "--retry-delay", "-c", "--cookie-jar", "--cacert", "--cert", "--key", "-E", "--resolve", "--proxy", "-x", "--limit-rate", "-D", "--dump-header", "--ciphers", "--interface", "--trace", "--trace-ascii", "-K", "--config", "--max-redirs"}
	long   = map[string]string{"--request": "-X", "--header": "-H", "--data": "-d", "--data-ascii": "-d", "--user": "-u", "--form": "-F", "--get": "-G", "--head": "-I", "--cookie": "-b", "--user-agent": "-A", "--referer": "-e", "--url": "--url"}
	taking = map[string]bool{"-X": true, "-H": true, "-d": true, "--data-raw": true, "--data-binary": true, "--data-urlencode": true, "--json": true, "-u": true, "-F": true, "-b": true, "-A": true, "-e": true, "--url": true}
	valued = "XHdubFAeomwcxEDK"
)

// curlLine is a command line that is being read.
type curlLine struct {
	Exchange
	rest                []string // the words behind the one in hand
	data                []string // what is sent, in its parts
	get, isJSON, isForm bool
}

// curl is a command line as a request.
func curl(args []string, file func(string) ([]byte, error)) (Exchange, error) {
	x := &curlLine{Exchange: Exchange{Request: exchange.Request{Headers: [][2]string{}}}, rest: args}
	for len(x.rest) > 0 {
		word := x.rest[0]
		x.rest = x.rest[1:]
		if !strings.HasPrefix(word, "-") || word == "-" {
			word = "--url=" + word
		}
		option, value, has := x.option(word)
		if !has && (taking[option] || slices.Contains(silent, option)) {
			if len(x.rest) == 0 {
				return x.Exchange, fmt.Errorf("curl: the option %s has no value", option)
			}
			value, x.rest = x.rest[0], x.rest[1:]
		}
		if err := x.take(option, value, file); err != nil {
			return x.Exchange, err
		}
	}
	return x.Exchange, x.finish()
}

// option is the option of a word by its short name, and its value where that is part of the word.
func (x *curlLine) option(word string) (option, value string, has bool) {
	option = word
	if strings.HasPrefix(word, "--") {
		option, value, has = strings.Cut(word, "=")
	}
	if short, known := long[option]; known {
		option = short
	}
	if len(option) == 2 || option[1] == '-' {
		return option, value, has
	}
	at := strings.IndexAny(option[1:], valued) + 1 // several short ones in a word
	if at == 0 {
		x.get = x.get || strings.Contains(option, "G")
		return "", "", true
	}
	return "-" + option[at:at+1], option[at+1:], at < len(option)-1
}

// take takes over what an option says. Those that are not known are switches.
func (x *curlLine) take(option, text string, file func(string) ([]byte, error)) error {
	switch option {
	case "-G":
		x.get = true
	case "-I":
		x.Method = http.MethodHead
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
		x.isForm = true
	case "--url":
		x.URL = cmp.Or(x.URL, text)
	case "--data-urlencode":
		name, value, _ := strings.Cut(text, "=")
		x.data = append(x.data, name+"="+url.QueryEscape(value))
	case "-d", "--data-binary", "--json", "--data-raw":
		x.isJSON = x.isJSON || option == "--json"
		if name, isFile := strings.CutPrefix(text, "@"); isFile && option != "--data-raw" {
			src, err := file(name)
			if err != nil {
				return fmt.Errorf("curl: the data in %s: %w", name, err)
			}
			text = string(src)
		}
		x.data = append(x.data, text)
	}
	return nil
}

// finish puts together what the options said.
func (x *curlLine) finish() error {
	if x.URL == "" {
		return fmt.Errorf("curl: there is no address")
	}
	if !strings.Contains(x.URL, "://") {
		x.URL = "http://" + x.URL
	}
	x.Lacking = x.isForm
	switch body := strings.Join(x.data, "&"); {
	case body == "":
	case x.get:
		sep := "?"
		if strings.Contains(x.URL, "?") {
			sep = "&"
		}
		x.URL += sep + body
	default:
		x.Body = []byte(body)
		if x.Header("Content-Type") == "" {
			media := "application/x-www-form-urlencoded"
			if x.isJSON || (body[0] == '{' || body[0] == '[') && json.Valid(x.Body) { // which was meant
				media = "application/json"
			}
			x.Headers = append(x.Headers, [2]string{"Content-Type", media})
		}
	}
	if x.Method == "" {
		x.Method = http.MethodGet
		if len(x.Body) > 0 || x.isForm {
			x.Method = http.MethodPost
		}
	}
	return nil
}
