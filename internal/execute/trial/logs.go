package trial

import (
	"bufio"
	"context"
	"io"
	"os"
	"regexp"
	"strings"
	"sync"
	"time"

	"obiter/internal/core/exchange"
	"obiter/internal/execute/run"
	"obiter/internal/target/send"
	"obiter/internal/target/service"
)

// Bounds of what is kept of a service's log, in lines and bytes for each case, in bytes for
// a run, and of what is read of the file.
const (
	maxCaseLines = 200
	maxCaseLog   = 32 << 10
	maxLogs      = 8 << 20
	maxLogRead   = 256 << 20
	maxLogLine   = maxCaseLog // longer ones are left out: a secret could be cut in two
)

// serviceLog is the log of the service that is tried, from where it was when the run began.
type serviceLog struct {
	name string
	from int64

	mu     sync.Mutex
	looked int64               // how far it was looked through for marks
	seen   map[string]bool     // cases that have lines
	alone  map[string][]string // what was written while a case was dealt with alone
	ids    map[string]string   // what a line has of a case, its id or its trace id, to the case
}

// followLog finds the log of the service: the file that the configuration names, or what a
// service that is started here writes.
func (t *trial) followLog() {
	s := t.conf.Service
	if s == nil || t.opt.Running {
		return
	}
	l := &serviceLog{name: s.Log, ids: map[string]string{}, seen: map[string]bool{}, alone: map[string][]string{}}
	if s.Start != "" {
		l.name = service.LogIn(t.opt.Folder)
	} else if info, err := os.Stat(l.name); err == nil {
		l.from = info.Size()
	} else {
		t.warn("there is no log of the service at %s yet", l.name)
	}
	t.log = l
}

// noteSent remembers what a log may have of a case.
func (t *trial) noteSent(id string) {
	if t.log == nil {
		return
	}
	t.log.mu.Lock()
	defer t.log.mu.Unlock()
	t.log.ids[id], t.log.ids[send.Trace(t.opt.Send.RunID, id)] = id, id
}

// marks match what may be the id of a case, or a trace id.
var marks = regexp.MustCompile(`\b(?:[0-9a-f]{10}|[0-9a-f]{32})\b`)

// logged reads what the service logged of each case, without secrets.
func (t *trial) logged() map[string][]string {
	l := t.log
	if l == nil {
		return nil
	}
	f, err := os.Open(l.name)
	if err != nil {
		t.warn("the log of the service cannot be read: %v", cause(err))
		return nil
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() {
		t.warn("the log of the service, %s, is not a regular file", l.name)
		return nil
	}
	from := l.from
	if info.Size() < from { // it was begun anew
		from = 0
	}
	from = max(from, info.Size()-maxLogRead)
	if _, err := f.Seek(from, io.SeekStart); err != nil {
		return nil
	}
	out := l.read(f)
	for id, lines := range l.alone {
		if out[id] == nil {
			out[id] = lines
		}
	}
	for id, lines := range out {
		for i := range lines {
			out[id][i] = t.opt.Secrets.Redact(lines[i])
		}
	}
	return out
}

// Waiting for what a service writes: it may come a little after the answer.
const settling = 150 * time.Millisecond

// logAlone sends a case that the service failed at once more by itself, where nothing in the
// log bears its mark: what is written meanwhile is its log. Nil where there is no log.
func (t *trial) logAlone() func(ctx context.Context, c exchange.Case, send run.Send) {
	if t.log == nil {
		return nil
	}
	return func(ctx context.Context, c exchange.Case, send run.Send) {
		time.Sleep(settling)
		if t.log.marked(c.ID) {
			return
		}
		from := t.log.size()
		send(ctx, c)
		time.Sleep(settling)
		t.log.since(c.ID, from)
	}
}

func (l *serviceLog) size() int64 {
	info, err := os.Stat(l.name)
	if err != nil {
		return 0
	}
	return info.Size()
}

// marked reports whether the log has a line of the case.
func (l *serviceLog) marked(id string) bool {
	if f, err := os.Open(l.name); err == nil {
		defer f.Close()
		from := max(l.looked, l.from)
		if _, err := f.Seek(from, io.SeekStart); err == nil {
			for with := range l.read(io.LimitReader(f, maxLogRead)) {
				l.seen[with] = true
			}
			l.looked = l.size()
		}
	}
	return l.seen[id]
}

// since keeps what was written after a place in the file as the log of a case.
func (l *serviceLog) since(id string, from int64) {
	f, err := os.Open(l.name)
	if err != nil {
		return
	}
	defer f.Close()
	if _, err := f.Seek(from, io.SeekStart); err != nil {
		return
	}
	var lines []string
	size := 0
	for s := bufio.NewScanner(io.LimitReader(f, maxCaseLog)); len(lines) < maxCaseLines && s.Scan(); {
		lines = append(lines, strings.ToValidUTF8(strings.TrimRight(s.Text(), "\r"), "\uFFFD"))
		size += len(s.Bytes()) + 1
	}
	if size >= maxCaseLog { // the last one is cut
		lines = lines[:len(lines)-1]
	}
	if len(lines) > 0 {
		l.alone[id] = lines
	}
}

// more matches a line that goes on with what the one before it said: a trace.
var more = regexp.MustCompile(`^(?:\s|Traceback |Caused by|goroutine |at |\.{3} |[\w.]*(?:Error|Exception)\b)`)

// read finds the lines of each case, with the traces behind them.
func (l *serviceLog) read(f io.Reader) map[string][]string {
	l.mu.Lock()
	defer l.mu.Unlock()
	out, sizes, all := map[string][]string{}, map[string]int{}, 0
	add := func(id, text string) {
		if len(out[id]) >= maxCaseLines || sizes[id]+len(text) > maxCaseLog || all > maxLogs {
			return
		}
		out[id] = append(out[id], text)
		sizes[id], all = sizes[id]+len(text), all+len(text)
	}
	last := ""      // the case of the line before
	within := false // a line that is too long
	for in := bufio.NewReaderSize(f, maxLogLine); ; {
		line, err := in.ReadSlice('\n')
		whole := !within && err != bufio.ErrBufferFull
		if within = err == bufio.ErrBufferFull; !whole {
			line, last = nil, ""
		}
		text := ""
		if marked := marks.Match(line); marked || last != "" {
			text = strings.ToValidUTF8(strings.TrimRight(string(line), "\r\n"), "\uFFFD")
			was := last
			last = ""
			for _, mark := range marks.FindAllString(text, -1) {
				if id, is := l.ids[mark]; is && id != last {
					add(id, text)
					last = id
				}
			}
			if last == "" && was != "" && more.MatchString(text) {
				add(was, text)
				last = was
			}
		}
		if err != nil && err != bufio.ErrBufferFull {
			return out
		}
	}
}
