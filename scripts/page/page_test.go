// Package page_test drives the page that the built program writes in headless
// Chromium. It is part of a module of its own, so that who builds or tests
// Obiter needs no browser and none of what steers one.
package page_test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
)

// browser is a page in headless Chromium.
type browser struct {
	t   *testing.T
	ctx context.Context

	mu       sync.Mutex
	troubles []string // what it wrote to its console
}

// open starts Chromium; without one the test is left out. Whatever it asks of the network
// goes to a proxy that notes it.
func newBrowser(t *testing.T) *browser {
	t.Helper()
	name, err := exec.LookPath("chromium")
	if err != nil {
		t.Skip("there is no chromium")
	}
	b := &browser{t: t}
	proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { b.trouble("request: " + r.URL.String() + " " + r.Host) }))
	t.Cleanup(proxy.Close)
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(name), chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true), chromedp.ProxyServer(proxy.URL))...)
	t.Cleanup(cancel)
	b.ctx, cancel = chromedp.NewContext(ctx)
	t.Cleanup(cancel)
	b.do(chromedp.EmulateViewport(1280, 800))
	go func() {
		for m, err := range chromedp.Console(b.ctx) {
			if err != nil {
				return
			}
			b.trouble(fmt.Sprintf("console: %+v", m))
		}
	}()
	return b
}

func (b *browser) trouble(text string) {
	if strings.Contains(text, "google") || strings.Contains(text, "gvt1") { // the browser's own
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.troubles = append(b.troubles, text)
}

func (b *browser) do(steps ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	if err := chromedp.Do(b.ctx, steps...); err != nil {
		b.t.Fatal(err)
	}
}

func (b *browser) media(scheme string, scripts bool) {
	b.t.Helper()
	if _, err := chromedp.Call(b.ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}}}); err != nil {
		b.t.Fatal(err)
	}
	if _, err := chromedp.Call(b.ctx, emulation.SetScriptExecutionDisabled, emulation.SetScriptExecutionDisabledParams{Value: !scripts}); err != nil {
		b.t.Fatal(err)
	}
}

// open loads an address; a fragment alone would not.
func (b *browser) open(address string) {
	b.t.Helper()
	b.do(chromedp.Navigate("about:blank"), chromedp.Navigate(address))
}

// is holds that an expression gives a value in the page.
func (b *browser) is(expression, want string) {
	b.t.Helper()
	got := ""
	for range 40 {
		v, err := chromedp.Run(b.ctx, chromedp.Evaluate[[]byte](expression))
		if err != nil {
			b.t.Fatalf("%s: %v", expression, err)
		}
		if got = string(v); got == want {
			return
		}
		time.Sleep(25 * time.Millisecond)
	}
	b.t.Errorf("%s is %s, want %s", expression, got, want)
}

// build makes the program, and writes the files of the demo next to it.
func build(t *testing.T, dir string) string {
	t.Helper()
	obiter := filepath.Join(dir, "obiter")
	make := exec.Command("go", "build", "-o", obiter, "./cmd/obiter")
	make.Dir, make.Env = "../..", append(os.Environ(), "CGO_ENABLED=0")
	if out, err := make.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	if out, err := exec.Command(obiter, "demo", "--out", dir).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return obiter
}

// serve starts the harbour office with faults, and gives its address.
func serve(t *testing.T, obiter string, faults ...string) string {
	t.Helper()
	args := []string{"demo", "--serve", "--listen", "127.0.0.1:0"}
	for _, f := range faults {
		args = append(args, "--fault", f)
	}
	office := exec.Command(obiter, args...)
	out, err := office.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := office.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { office.Process.Kill(); office.Wait() })
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if at := regexp.MustCompile(`http://127\.0\.0\.1:\d+`).FindString(lines.Text()); at != "" {
			go func() {
				for lines.Scan() {
				}
			}()
			return at
		}
	}
	t.Fatal("the office gives no address")
	return ""
}

// TestThePage drives the page of a run in a browser: every filter and link, opening and
// closing, dark and light, without scripts, on a narrow screen; and nothing leaves it.
func TestThePage(t *testing.T) {
	dir := t.TempDir()
	obiter := build(t, dir)
	at := serve(t, obiter, "update-unchecked", "numbers-coerced", "own-layout")
	try := exec.Command(obiter, "try", "--at", at, "--only", "* /vessels/**", "--only", "* /vessels", "--only", "POST /pilot-orders", "--report", "page.html")
	try.Dir = dir
	if out, err := try.CombinedOutput(); try.ProcessState.ExitCode() != 1 || !strings.Contains(string(out), "written: page.html") {
		t.Fatalf("%v\n%s", err, out)
	}
	b := newBrowser(t)
	address := "file://" + filepath.Join(dir, "page.html")
	b.media("light", true)
	b.open(address)
	for expression, want := range map[string]string{
		`document.title.startsWith("openapi.yaml: ")`:                                                                                                                         "true",
		`[...document.querySelectorAll("main > section > h2")].map(h => h.textContent.split(":")[0]).join()`:                                                                  `"Causes,Matrix,Layouts,Messages,Cases"`,
		`document.querySelectorAll("header, main, footer, nav, [role=search]").length`:                                                                                        "5",
		`document.querySelectorAll("th:not([scope])").length`:                                                                                                                 "0",
		`document.querySelectorAll(".cause").length > 3`:                                                                                                                      "true",
		`[...document.querySelectorAll("[id]")].length === new Set([...document.querySelectorAll("[id]")].map(e => e.id)).size`:                                               "true",
		`[...document.querySelectorAll("a[href^='#']")].filter(a => !document.getElementById(a.getAttribute("href").slice(1))).length`:                                        "0",
		`document.querySelectorAll(".example .was mark").length >= document.querySelectorAll(".cause").length - 2`:                                                            "true",
		`document.querySelector(".mark.no").innerText.replace(/\s+/g, " ").startsWith("✗ not kept")`:                                                                          "true",
		`document.querySelectorAll(".departs").length === 1 && document.querySelectorAll(".departs pre").length === 2 && document.querySelector(".departs mark").textContent`: `"not in the usual layout"`,
		`document.querySelectorAll("td.differs").length > 0`:                                                                                                                  "true",
		`getComputedStyle(document.body).backgroundColor`:                                                                                                                     `"rgb(251, 250, 246)"`,
		`document.documentElement.scrollWidth <= innerWidth`:                                                                                                                  "true",
	} {
		b.is(expression, want)
	}
	// Filters: each alone, together, in the address, and away again.
	const visible = `[...document.querySelectorAll(".cause")].filter(c => !c.hidden)`
	all := 0
	raw, err := chromedp.Run(b.ctx, chromedp.Evaluate[[]byte](visible+`.length`))
	if err != nil || json.Unmarshal(raw, &all) != nil {
		t.Fatal(err, string(raw))
	}
	set := func(name, value string) {
		b.t.Helper()
		b.do(chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`{ const e = document.getElementById("filter").elements[%q]; e.value = %q; e.dispatchEvent(new Event("input", {bubbles: true})) }`, name, value)))
	}
	set("code", "accepted")
	b.is(visible+`.every(c => c.dataset.code === "accepted") && `+visible+`.length > 0`, "true")
	b.is(`location.hash`, `"#?code=accepted"`)
	b.is(`[...document.querySelectorAll("tr[id]")].filter(r => !r.hidden).every(r => r.dataset.code.includes("accepted"))`, "true")
	set("operation", "PUT /vessels/{vessel_id}")
	b.is(visible+`.every(c => c.dataset.op.split("\n").includes("PUT /vessels/{vessel_id}")) && `+visible+`.length > 0`, "true")
	b.is(`[...document.querySelectorAll(".resource")].filter(r => !r.hidden).map(r => r.querySelector("h3").textContent).join()`, `"/vessels"`)
	b.is(`[...document.querySelectorAll(".messages tbody tr")].filter(r => !r.hidden).every(r => r.dataset.op === "PUT /vessels/{vessel_id}")`, "true")
	b.do(chromedp.Click("#filter button"))
	b.is(visible+`.length`, fmt.Sprint(all))
	b.is(`location.hash`, `""`)
	set("field", "/imo")
	b.is(visible+`.every(c => c.dataset.field.includes("/imo"))`, "true")
	b.is(`[...document.querySelectorAll(".matrix tbody")].filter(r => !r.hidden).every(r => r.dataset.field.includes("/imo"))`, "true")
	set("field", "")
	set("severity", "warning")
	b.is(visible+`.every(c => c.dataset.sev === "warning")`, "true")
	set("severity", "")
	set("text", "nothing of the body is checked")
	b.is(visible+`.length`, "1")
	b.is(`document.getElementById("shown").textContent`, fmt.Sprintf(`"1 of %d causes"`, all))
	b.open(address + "#?code=accepted&operation=POST+%2Fvessels")
	b.is(visible+`.every(c => c.dataset.code === "accepted" && c.dataset.op.includes("POST /vessels"))`, "true")
	// A cell opens its cases, a case its exchange; and closes again.
	b.open(address)
	b.do(chromedp.Click(".matrix a.mark.no"))
	b.is(`document.querySelectorAll(".matrix .opened li a").length > 0`, "true")
	b.is(`document.querySelector(".matrix a.mark.no").getAttribute("aria-expanded")`, `"true"`)
	b.do(chromedp.Click(".matrix .opened li a"))
	b.is(`location.hash === document.querySelector(".matrix .opened li a").getAttribute("href")`, "true")
	b.is(`document.querySelector(".operation[open] .opened pre").textContent.startsWith("P")`, "true")
	b.do(chromedp.Click("tr:target a"))
	b.is(`document.querySelectorAll(".operation .opened").length`, "0")
	b.do(chromedp.Click(".matrix a.mark.no"))
	b.is(`document.querySelectorAll(".matrix .opened").length`, "0")
	b.is(`(() => { const d = document.querySelector(".example"); d.querySelector("summary").click(); return d.open })()`, "false")
	// Narrow, dark, without scripts.
	for _, width := range []int64{390, 1920} {
		b.do(chromedp.EmulateViewport(width, 800))
		b.open(address)
		b.is(`document.documentElement.scrollWidth <= innerWidth`, "true")
	}
	b.media("dark", false)
	b.open(address)
	b.is(`getComputedStyle(document.body).backgroundColor`, `"rgb(20, 24, 28)"`)
	b.is(`document.getElementById("filter").hidden`, "true")
	b.is(`document.querySelectorAll(".example pre").length > 6 && document.querySelectorAll(".matrix td a").length > 20`, "true")
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(b.troubles) > 0 {
		t.Errorf("it is not quiet: %q", b.troubles)
	}
	text, err := os.ReadFile(filepath.Join(dir, "page.html"))
	if err != nil || strings.Contains(string(text), "src=") || strings.Contains(string(text), "@import") || strings.Contains(string(text), "url(") {
		t.Errorf("the page loads something: %v", err)
	}
}
