// Command bare is what scripts/speed measures Obiter with: a description of many
// operations, a service that answers its requests rightly and does nothing else, and a
// client that sends planned requests and does nothing with the answers.
package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

const usage = `bare describe OPERATIONS          write a description
bare serve ADDRESS DELAY          answer its requests, each after a while; GET /heard tells how many
bare first ADDRESS NANOSECONDS    tell how long after a moment the first request comes
bare send CASES.ndjson PARALLEL   send what "obiter cases --format ndjson" wrote
bare curl CASES.ndjson            write the same as a configuration of curl`

func main() {
	log.SetFlags(0)
	args := os.Args[1:]
	switch {
	case len(args) == 2 && args[0] == "describe":
		describe(number(args[1]))
	case len(args) == 3 && args[0] == "serve":
		delay, err := time.ParseDuration(args[2])
		check(err)
		serve(args[1], delay)
	case len(args) == 3 && args[0] == "first":
		first(args[1], time.Unix(0, int64(number(args[2]))))
	case len(args) == 3 && args[0] == "send":
		send(read(args[1]), number(args[2]))
	case len(args) == 2 && args[0] == "curl":
		curl(read(args[1]))
	default:
		log.Fatal(usage)
	}
}

func number(s string) int {
	n, err := strconv.Atoi(s)
	check(err)
	return n
}

func check(err error) {
	if err != nil {
		log.Fatal(err)
	}
}

const operation = `{"summary":"Note a berth","operationId":"note%d","requestBody":{"required":true,"content":{"application/json":{"schema":{"type":"object","additionalProperties":false,"required":["name","depth_m"],"properties":{` +
	`"name":{"type":"string","minLength":2,"maxLength":60},"depth_m":{"type":"number","minimum":0,"maximum":40},"kind":{"type":"string","enum":["quay","pier","buoy"]},"places":{"type":"integer","minimum":1,"maximum":12}}}}}},` +
	`"responses":{"201":{"description":"noted","content":{"application/json":{"schema":{"type":"object"}}}},"422":{"description":"refused","content":{"application/problem+json":{"schema":{"type":"object"}}}}}}`

func describe(operations int) {
	out := bufio.NewWriter(os.Stdout)
	defer out.Flush()
	fmt.Fprint(out, `{"openapi":"3.1.0","info":{"title":"Many areas","version":"1"},"paths":{`)
	for i := range operations {
		if i > 0 {
			fmt.Fprint(out, ",")
		}
		fmt.Fprintf(out, `"/area-%d/berths":{"post":`+operation+`}`, i, i)
	}
	fmt.Fprintln(out, "}}")
}

// A pointer of problem is in the body of the request.
type wrong struct {
	Pointer string `json:"pointer"`
	Detail  string `json:"detail"`
}

func serve(address string, delay time.Duration) {
	listener, err := net.Listen("tcp", address)
	check(err)
	var heard atomic.Int64
	check(http.Serve(listener, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/heard" {
			fmt.Fprintln(w, heard.Load())
			return
		}
		heard.Add(1)
		time.Sleep(delay)
		answer(w, r)
	})))
}

func first(address string, since time.Time) {
	listener, err := net.Listen("tcp", address)
	check(err)
	check(http.Serve(listener, http.HandlerFunc(func(http.ResponseWriter, *http.Request) {
		fmt.Println(time.Since(since).Milliseconds())
		os.Exit(0)
	})))
}

func answer(w http.ResponseWriter, r *http.Request) {
	media, _, _ := strings.Cut(r.Header.Get("Content-Type"), ";")
	switch {
	case !strings.HasPrefix(r.URL.Path, "/area-") || !strings.HasSuffix(r.URL.Path, "/berths"):
		problem(w, http.StatusNotFound, nil)
		return
	case r.Method != http.MethodPost:
		w.Header().Set("Allow", "POST")
		problem(w, http.StatusMethodNotAllowed, nil)
		return
	case media != "application/json":
		problem(w, http.StatusUnsupportedMediaType, nil)
		return
	}
	data, err := io.ReadAll(io.LimitReader(r.Body, 1<<20))
	var body any
	if err != nil || json.Unmarshal(data, &body) != nil {
		problem(w, http.StatusBadRequest, nil)
		return
	}
	if list := look(body); len(list) > 0 {
		problem(w, http.StatusUnprocessableEntity, list)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(http.StatusCreated)
	_, _ = w.Write(data)
}

func look(body any) (list []wrong) {
	o, ok := body.(map[string]any)
	if !ok {
		return []wrong{{"", "should be an object"}}
	}
	add := func(name, detail string) { list = append(list, wrong{"/" + name, detail}) }
	for _, name := range []string{"name", "depth_m"} {
		if _, has := o[name]; !has {
			add(name, "is missing")
		}
	}
	for name, v := range o {
		n, isNumber := v.(float64)
		s, isText := v.(string)
		switch name {
		case "name":
			if runes := len([]rune(s)); !isText || runes < 2 || runes > 60 {
				add(name, "should be a text of 2 to 60 characters")
			}
		case "depth_m":
			if !isNumber || n < 0 || n > 40 {
				add(name, "should be a number from 0 to 40")
			}
		case "kind":
			if s != "quay" && s != "pier" && s != "buoy" {
				add(name, "should be quay, pier or buoy")
			}
		case "places":
			if !isNumber || n < 1 || n > 12 || n != float64(int(n)) {
				add(name, "should be a whole number from 1 to 12")
			}
		default:
			add(strings.NewReplacer("~", "~0", "/", "~1").Replace(name), "is not known")
		}
	}
	return list
}

func problem(w http.ResponseWriter, status int, list []wrong) {
	data, err := json.Marshal(map[string]any{"type": "about:blank", "title": http.StatusText(status), "status": status, "errors": list})
	check(err)
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_, _ = w.Write(data)
}

// planned is as much of a line of cases as it takes to send it.
type planned struct {
	Request struct {
		Method     string      `json:"method"`
		URL        string      `json:"url"`
		Headers    [][2]string `json:"headers"`
		Body       string      `json:"body"`
		BodyBase64 []byte      `json:"bodyBase64"`
	} `json:"request"`
}

func (p planned) body() []byte {
	if p.Request.BodyBase64 != nil {
		return p.Request.BodyBase64
	}
	return []byte(p.Request.Body)
}

func read(name string) (out []planned) {
	f, err := os.Open(name)
	check(err)
	defer f.Close()
	for lines := bufio.NewReader(f); ; {
		line, err := lines.ReadBytes('\n')
		if err == io.EOF {
			return out
		}
		check(err)
		var p planned
		check(json.Unmarshal(line, &p))
		out = append(out, p)
	}
}

// send sends requests and tells how long that took, in milliseconds.
func send(list []planned, parallel int) {
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: parallel}}
	todo := make(chan planned, parallel)
	start := time.Now()
	var sending sync.WaitGroup
	for range parallel {
		sending.Go(func() {
			for p := range todo {
				req, err := http.NewRequest(p.Request.Method, p.Request.URL, bytes.NewReader(p.body()))
				check(err)
				for _, h := range p.Request.Headers {
					req.Header.Add(h[0], h[1])
				}
				res, err := client.Do(req)
				check(err)
				_, err = io.Copy(io.Discard, res.Body)
				check(err)
				res.Body.Close()
			}
		})
	}
	for _, p := range list {
		todo <- p
	}
	close(todo)
	sending.Wait()
	fmt.Println(time.Since(start).Milliseconds())
}

func curl(list []planned) {
	out := bufio.NewWriter(os.Stdout)
	defer out.Flush()
	quoted := strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\r", `\r`, "\t", `\t`)
	for i, p := range list {
		if i > 0 {
			fmt.Fprintln(out, "next")
		}
		u, err := url.Parse(p.Request.URL)
		check(err)
		fmt.Fprintf(out, "output = \"/dev/null\"\nrequest = \"%s\"\nurl = \"%s\"\n", p.Request.Method, u)
		for _, h := range p.Request.Headers {
			fmt.Fprintf(out, "header = \"%s: %s\"\n", h[0], quoted.Replace(h[1]))
		}
		if body := p.body(); len(body) > 0 && !bytes.ContainsRune(body, 0) {
			fmt.Fprintf(out, "data-raw = \"%s\"\n", quoted.Replace(string(body)))
		}
	}
}
