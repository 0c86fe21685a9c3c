package terminal

import (
	"os"
	"os/exec"
	"strings"
	"testing"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/results/record"
)

func TestCurlNamesCredentials(t *testing.T) {
	t.Parallel()
	for want, c := range map[string]exchange.Credential{
		`-H 'Authorization: Bearer '"$OF_FICE"`:          {Scheme: "of fice", Kind: "bearer", In: "header", Name: "Authorization"},
		`-H 'Authorization: Bearer no token, but words'`: {Scheme: "a", Kind: "bearer", In: "header", Name: "Authorization", Flaw: "malformed"},
		`-u "$USER1"`:                        {Scheme: "user1", Kind: "basic", In: "header", Name: "Authorization"},
		`-H 'X-Key: nobody'`:                 {Scheme: "k", Kind: "apiKey", In: "header", Name: "X-Key", Flaw: "wrong"},
		`--url-query 'k='"$K"`:               {Scheme: "k", Kind: "apiKey", In: "query", Name: "k"},
		`-b 'watch='"$K" -H 'Obiter-`:        {Scheme: "k", Kind: "apiKey", In: "cookie", Name: "watch"},
		`-H 'X-Tide: '"$X_TIDE" -H 'Obiter-`: {Scheme: "k", Kind: "apiKey", In: "header", Name: "X-Key", Flaw: "missing"},
	} {
		line := Curl(exchange.Case{ID: "0123456789", Request: exchange.Request{Method: "GET", URL: "http://h"}, Credentials: []exchange.Credential{c}}, record.Head{Headers: []string{"Authorization", "X-Key", "X-Tide"}})
		if !strings.Contains(line, want) || strings.Count(line, c.Name+":") > 1 {
			t.Errorf("%+v is sent by %s, want %s", c, line, want)
		}
	}
}

func TestCurlAddsNoContentType(t *testing.T) {
	t.Parallel()
	c := exchange.Case{Request: exchange.Request{Method: "POST", URL: "http://h", Body: []byte("{}")}}
	if line := Curl(c, record.Head{}); !strings.Contains(line, " -H 'Content-Type:' ") {
		t.Error(line)
	}
	c.Request.Headers = [][2]string{{"content-type", "a/b"}}
	if line := Curl(c, record.Head{}); strings.Contains(line, "'Content-Type:'") {
		t.Error(line)
	}
}

// TestCurlNamesTheVariablesOfTheFile, as it has them.
func TestCurlNamesTheVariablesOfTheFile(t *testing.T) {
	t.Parallel()
	own := exchange.Credential{Scheme: "door", Kind: "bearer", In: "header", Name: "Authorization", For: "GET /h"}
	lesser := exchange.Credential{Scheme: "door", Kind: "bearer", In: "header", Name: "Authorization", Flaw: exchange.Lesser}
	head := record.Head{Headers: []string{"X-Tide"}, Variables: map[string]string{"header x-tide": "at ${TIDE}", own.Key(): "${MATE}", lesser.Key(): "${BOY}"}}
	for want, c := range map[string]exchange.Credential{`-H 'Authorization: Bearer '"$MATE"`: own, `-H 'Authorization: Bearer '"$BOY"`: lesser} {
		line := Curl(exchange.Case{Request: exchange.Request{Method: "GET", URL: "http://h"}, Credentials: []exchange.Credential{c}}, head)
		if !strings.Contains(line, want) || !strings.Contains(line, `-H 'X-Tide: ''at '"$TIDE"`) {
			t.Errorf("%s, want %s", line, want)
		}
		if names := variablesOf(line); len(names) != 2 || names[0] != "TIDE" {
			t.Errorf("%q", names)
		}
	}
}

// TestNothingInACurlLineRuns, wherever it comes from: the shell prints the words as they are.
func TestNothingInACurlLineRuns(t *testing.T) {
	t.Parallel()
	bash, err := exec.LookPath("sh")
	if err != nil {
		t.Skip("no shell")
	}
	const unseen = "\x1b[2J\u009b1m\u202eabc\u200b%s\\n'"
	line := Curl(exchange.Case{Request: exchange.Request{Method: "GET", URL: "http://h/[1-9]", Headers: [][2]string{{"X", unseen}}}}, record.Head{})
	if strings.ContainsFunc(line, instance.Unseen) || !strings.HasPrefix(line, "curl -g ") {
		t.Errorf("%q", line)
	}
	if out, err := exec.Command(bash, "-c", "curl() { for word; do printf '<%s>' \"$word\"; done; }; "+line).Output(); err != nil || !strings.Contains(string(out), "<X: "+unseen+">") {
		t.Errorf("%v, %s\n%q", err, line, out)
	}
	const evil = "a'b\"$(touch ran)`touch ran`;touch ran|&\\!${HOME}"
	c := exchange.Case{ID: evil, Request: exchange.Request{Method: "GET;touch ran", URL: "http://h/" + evil, Headers: [][2]string{{evil, evil}}, Body: []byte(evil)}}
	head := record.Head{Headers: []string{evil + "H"}, Variables: map[string]string{"header " + evil + "H": "x " + strings.ReplaceAll(evil, "${HOME}", "") + "${TIDE}"}}
	for _, kind := range []exchange.Credential{{Kind: "apiKey", In: "header"}, {Kind: "apiKey", In: "query"}, {Kind: "apiKey", In: "cookie"}, {Kind: "bearer", In: "header"}, {Kind: "basic", In: "header"}, {Kind: "apiKey", In: "header", Flaw: "wrong"}} {
		kind.Scheme, kind.Name = evil, evil
		c.Credentials = []exchange.Credential{kind}
		line := Curl(c, head)
		run := exec.Command(bash, "-c", "curl() { for word; do printf '%s\\n' \"$word\"; done; }; "+line)
		run.Dir, run.Env = t.TempDir(), []string{"TIDE=high", "PATH=" + os.Getenv("PATH"), "HOME=home"}
		out, err := run.CombinedOutput()
		if left, _ := os.ReadDir(run.Dir); err != nil || len(left) > 0 || strings.Count(string(out), evil) < 5 || !strings.Contains(string(out), "GET;touch ran\n") {
			t.Errorf("%v, %v left: %s\n%s", err, left, line, out)
		}
	}
}
