package hostile

import (
	"fmt"
	"net"
	"strings"
	"sync"
	"time"
)

const problem = "HTTP/1.1 422 Unprocessable Content\r\nContent-Type: application/problem+json\r\n"

var gigabyte = sync.OnceValue(bomb)

// raw is a way that writes a text and closes the connection.
func raw(name, text string) Way {
	return Way{name, false, func(c *Call) { c.write(text) }}
}

// more is a way that rejects with a member more in the problem document.
func more(name, text string) Way { return Way{name, false, func(c *Call) { c.problem(text) }} }

// header is a way that rejects with a header more.
func header(name string, status int, lines ...string) Way {
	return Way{name, false, func(c *Call) {
		var told []string
		for _, l := range lines {
			told = append(told, strings.ReplaceAll(l, "ELSEWHERE", c.Elsewhere))
		}
		c.say(status, "application/problem+json", `{"title":"Such","status":`+fmt.Sprint(status)+`}`, told...)
	}}
}

// body is a way that rejects with a body of a media type.
func body(name, media, text string, headers ...string) Way {
	return Way{name, false, func(c *Call) {
		c.say(422, media, strings.ReplaceAll(text, "ELSEWHERE", c.Elsewhere), headers...)
	}}
}

// all makes a way one of all answers.
func all(w Way) Way {
	w.Name, w.All = w.Name+", always", true
	return w
}

// Ways are all of them.
var Ways = func() []Way {
	hang := Way{"never answers", false, (*Call).hang}
	nothing := raw("closes without an answer", "")
	reset := Way{"resets the connection", false, func(c *Call) { _ = c.Conn.(*net.TCPConn).SetLinger(0) }}
	drip := Way{"answers a byte at a time", false, func(c *Call) {
		for _, b := range problem {
			c.write(string(b))
			time.Sleep(50 * time.Millisecond)
		}
	}}
	busy := header("busy for a second, again and again", 429, "Retry-After: 1")
	elsewhere := header("sends everybody elsewhere", 307, "Location: ELSEWHERE/marks")
	garbage := raw("does not speak HTTP", "\x00\xff\x16\x03\x01 ahoy \r\n\r\n")
	return []Way{
		// connections
		hang, all(hang), nothing, all(nothing), reset, all(reset), drip, garbage, all(garbage),
		raw("closes in the status line", "HTTP/1.1 42"),
		raw("closes in the headers", problem+"X-Half: a"),
		raw("an SSH banner", "SSH-2.0-harbour\r\n"), raw("TLS where none is expected", "\x15\x03\x01\x00\x02\x02\x28"),
		raw("a body without a status line", `{"title":"Invalid"}`),
		{"answers and goes on writing", false, func(c *Call) { c.problem(""); c.forever("HTTP/1.1 200 OK\r\n\r\n", time.Millisecond) }},
		{"a second answer that nobody asked for", false, func(c *Call) { c.problem(""); c.say(200, "application/json", "{}") }},
		// status lines
		raw("status 0", "HTTP/1.1 000 None\r\n\r\n"), raw("status 99", "HTTP/1.1 99 Low\r\n\r\n"), raw("status 999", "HTTP/1.1 999 High\r\nContent-Length: 0\r\n\r\n"),
		raw("status 600", "HTTP/1.1 600 High\r\nContent-Length: 0\r\n\r\n"), raw("a status in words", "HTTP/1.1 wrong\r\n\r\n"), raw("a status of twelve digits", "HTTP/1.1 422422422422 Wrong\r\n\r\n"),
		raw("no reason", "HTTP/1.1 422\r\nContent-Length: 0\r\n\r\n"), raw("version 3", "HTTP/3.0 422 Wrong\r\nContent-Length: 0\r\n\r\n"), raw("lines without carriage returns", strings.ReplaceAll(problem, "\r", "")+"Content-Length: 2\n\n{}"),
		raw("switches protocols", "HTTP/1.1 101 Switching Protocols\r\nUpgrade: tide\r\nConnection: Upgrade\r\n\r\n"),
		{"switches protocols and stays", false, func(c *Call) {
			c.write("HTTP/1.1 101 Switching Protocols\r\nUpgrade: tide\r\nConnection: Upgrade\r\n\r\n")
			c.hang()
		}},
		{"continues for ever", false, func(c *Call) { c.forever("HTTP/1.1 100 Continue\r\n\r\n", time.Millisecond) }},
		{"hints for ever", false, func(c *Call) {
			c.forever("HTTP/1.1 103 Early Hints\r\nLink: </a>; rel=preload\r\n\r\n", time.Millisecond)
		}},
		raw("204 with a body", "HTTP/1.1 204 No Content\r\nContent-Length: 20\r\n\r\n{\"errors\":[\"wrong\"]}"), raw("304 to a POST", "HTTP/1.1 304 Not Modified\r\n\r\n"), raw("205", "HTTP/1.1 205 Reset Content\r\nContent-Length: 0\r\n\r\n"),
		header("a proxy's challenge", 407, "Proxy-Authenticate: Basic realm=x"), header("a challenge that is none", 401, "WWW-Authenticate: \" , ,=,\\"), header("a request time-out", 408, "Connection: close"), header("misdirected", 421),
		// headers
		{"headers without end", false, func(c *Call) { c.write(problem); c.forever("X-More: a\r\n", 0) }},
		{"one header without end", false, func(c *Call) { c.write(problem + "X-More: "); c.forever(strings.Repeat("a", 1000), 0) }},
		header("four thousand cookies", 422, strings.Split(strings.Repeat("Set-Cookie: a=b|", 3000)+"Set-Cookie: a=b", "|")...),
		raw("a header without a colon", problem+"X-None\r\n\r\n"), raw("a folded header", problem+"X-Fold: a\r\n b\r\nContent-Length: 2\r\n\r\n{}"), raw("a name with a space", problem+"X Space: a\r\n\r\n"),
		header("control characters in a header", 422, "X-Bell: a\x07\x1b[2Jb"), header("a header that is not UTF-8", 422, "X-Odd: \xff\xfe"),
		raw("no Content-Type", "HTTP/1.1 422 Wrong\r\nContent-Length: 2\r\n\r\n{}"), body("a Content-Type that is none", ";;;=\"", "{}"), body("several Content-Types", "application/problem+json", "{}", "Content-Type: text/html", "Content-Type: a/b"),
		// lengths
		raw("a body shorter than it says", problem+"Content-Length: 1000\r\n\r\n{}"), {"a body that does not come", false, func(c *Call) { c.write(problem + "Content-Length: 1000\r\n\r\n{"); c.hang() }},
		raw("a body longer than it says", problem+"Content-Length: 2\r\n\r\n{}{}{}"), raw("two lengths", problem+"Content-Length: 2\r\nContent-Length: 3\r\n\r\n{}"), raw("a negative length", problem+"Content-Length: -1\r\n\r\n{}"),
		raw("a length beyond all", problem+"Content-Length: 99999999999999999999\r\n\r\n{}"), raw("the longest length", problem+"Content-Length: 9223372036854775807\r\n\r\n{}"),
		raw("a length and chunks", problem+"Content-Length: 2\r\nTransfer-Encoding: chunked\r\n\r\n2\r\n{}\r\n0\r\n\r\n"), raw("a chunk's size in words", problem+"Transfer-Encoding: chunked\r\n\r\ntwo\r\n{}\r\n"),
		raw("a chunk beyond all", problem+"Transfer-Encoding: chunked\r\n\r\nffffffffffffffffff\r\n{}\r\n"), raw("chunks that break off", problem+"Transfer-Encoding: chunked\r\n\r\n2\r\n{}\r\n"),
		raw("an unknown transfer coding", problem+"Transfer-Encoding: tide\r\n\r\n{}"),
		{"a trailer without end", false, func(c *Call) {
			c.write(problem + "Transfer-Encoding: chunked\r\n\r\n2\r\n{}\r\n0\r\n")
			c.forever("X-More: a\r\n", 0)
		}},
		{"a body without end", false, func(c *Call) { c.write(problem + "\r\n["); c.forever(strings.Repeat("[", 8000), 0) }},
		{"chunks without end", false, func(c *Call) { c.write(problem + "Transfer-Encoding: chunked\r\n\r\n"); c.forever("1\r\n \r\n", 0) }},
		{"a slow body without end", false, func(c *Call) { c.write(problem + "\r\n["); c.forever(" ", 20*time.Millisecond) }},
		// codings
		body("not the gzip that it says", "application/problem+json", "{}", "Content-Encoding: gzip"), {"gzip that comes to a gigabyte", false, func(c *Call) { c.say(422, "application/problem+json", gigabyte(), "Content-Encoding: gzip") }},
		{"gzip that breaks off", false, func(c *Call) {
			text := zipped([]byte(strings.Repeat("{}", 1000)))
			c.say(422, "application/problem+json", text[:len(text)-8], "Content-Encoding: gzip")
		}},
		body("an unknown coding", "application/problem+json", "{}", "Content-Encoding: tide, br, gzip"),
		// JSON
		more("nested a hundred thousand times", `,"cause":`+strings.Repeat("[", 100_000)+strings.Repeat("]", 100_000)), more("nested beyond what is read", `,"cause":`+strings.Repeat(`{"a":`, 600)+"1"+strings.Repeat("}", 600)),
		more("a number with a large exponent", `,"n":1e10000000`), more("a small number with a large exponent", `,"n":-1e-99999999`), more("a number of a hundred thousand digits", `,"n":`+strings.Repeat("9", 100_000)),
		more("ten thousand members", ","+manyMembers(10_000)), more("a member named ten thousand times", strings.Repeat(`,"name":1`, 10_000)), more("a name of half a megabyte", `,"`+strings.Repeat("name", 130_000)+`":1`),
		body("a pointer without end", "application/problem+json", `{"title":"Invalid","status":422,"errors":[{"pointer":"`+strings.Repeat("/name", 100_000)+`","detail":"is wrong"}]}`), body("ten thousand errors", "application/problem+json", `{"title":"Invalid","status":422,"errors":[`+strings.Repeat(`{"pointer":"#/name","detail":"is wrong"},`, 10_000)+`{}]}`),
		body("not UTF-8", "application/problem+json", "{\"title\":\"\xff\xfe\"}"), body("UTF-16", "application/problem+json; charset=utf-16", "\xff\xfe{\x00}\x00"), body("a byte order mark", "application/problem+json", "\xef\xbb\xbf{}"), body("NUL bytes", "application/problem+json", strings.Repeat("\x00", 1000)),
		body("halves of characters", "application/problem+json", `{"title":"\ud800\udfff\ud800"}`), body("JSON that breaks off", "application/problem+json", `{"title":"Inv`), body("two documents", "application/problem+json", `{}{}`), body("a list", "application/problem+json", `[]`), body("a text", "application/problem+json", `"no"`), body("nothing", "application/problem+json", ""),
		more("what steers a terminal", `,"detail":"\u001b[2J\u009b31m\u202e"`), more("members of the wrong types", `,"type":{},"title":[],"status":"x","detail":7,"instance":null`),
		body("words that look like a program", "application/problem+json", `{"title":"Invalid","status":422,"detail":"`+"$(touch ran) `touch ran` '; touch ran; '"+`"}`),
		// XML and HTML
		body("entities that multiply", "application/problem+xml", `<?xml version="1.0"?><!DOCTYPE p [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;&a;&a;&a;&a;"><!ENTITY c "&b;&b;&b;&b;&b;&b;&b;&b;"><!ENTITY d "&c;&c;&c;&c;&c;&c;&c;&c;">]><problem xmlns="urn:ietf:rfc:7807"><title>&d;</title></problem>`),
		body("an entity from elsewhere", "application/problem+xml", `<?xml version="1.0"?><!DOCTYPE p [<!ENTITY a SYSTEM "ELSEWHERE/a">]><problem xmlns="urn:ietf:rfc:7807"><title>&a;</title></problem>`), body("XML nested a hundred thousand times", "application/problem+xml", strings.Repeat("<a>", 100_000)),
		body("a page with a script", "text/html", `<script src="ELSEWHERE/a.js"></script><img src="ELSEWHERE/a.png"><meta http-equiv="refresh" content="0; url=ELSEWHERE/">`), body("a page of a megabyte", "text/html", strings.Repeat("<b>wrong", 130_000)),
		// elsewhere
		elsewhere, all(elsewhere), header("sends on with 302", 302, "Location: ELSEWHERE/marks"), header("sends on to itself", 308, "Location: /marks"), header("sends on to a file", 302, "Location: file:///etc/hostname"), header("sends on to nothing that is an address", 302, "Location: ://\x07"),
		header("other ways to send on", 422, "Alt-Svc: h2=\"ELSEWHERE\"", "Refresh: 0; url=ELSEWHERE", "Link: <ELSEWHERE/a>; rel=preload", "Content-Location: ELSEWHERE/b"), more("a type and an instance elsewhere", `,"x":0,"type":"ELSEWHERE/type"`),
		{"records that lie elsewhere", true, func(c *Call) {
			c.say(201, "application/json", `{"id":"`+c.Elsewhere+`/marks/1"}`, "Location: "+c.Elsewhere+"/marks/1")
		}},
		{"ids that climb", true, func(c *Call) { c.say(201, "application/json", `{"id":"../../../marks/1?x=y#z"}`, "Location: ../../..") }},
		{"ids without end", true, func(c *Call) { c.say(201, "application/json", `{"id":"`+strings.Repeat("m", 500_000)+`"}`) }},
		// patience
		busy, all(busy), header("busy for a day", 503, "Retry-After: 86400"), header("busy beyond all", 503, "Retry-After: 9223372036854775808"), header("busy until a date", 429, "Retry-After: Fri, 31 Dec 9999 23:59:59 GMT"), header("busy in words", 429, "Retry-After: a while"), header("busy before now", 503, "Retry-After: -5"),
	}
}()

func manyMembers(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, `"m%d":%d,`, i, i)
	}
	return strings.TrimSuffix(b.String(), ",")
}
