package trial

import (
	"bufio"
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"obiter/internal/core/exchange"
	"obiter/internal/results/record"
)

// TestWhatWasAnsweredIsWritten within a short time, though not at once.
func TestWhatWasAnsweredIsWritten(t *testing.T) {
	t.Parallel()
	name := filepath.Join(t.TempDir(), "run")
	f, err := create(name)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	s := &delayedWriter{to: bufio.NewWriterSize(f, 1<<10)}
	for range 3 {
		var writing sync.WaitGroup
		for range 8 {
			writing.Go(func() {
				for range 5 {
					if _, err := s.Write([]byte("berth 12\n")); err != nil {
						t.Error(err)
					}
				}
			})
		}
		writing.Wait()
		time.Sleep(FlushDeadline)
		text, _ := os.ReadFile(name)
		if lines := bytes.Count(text, []byte("berth 12\n")); lines%40 != 0 || lines == 0 || len(text) != lines*9 {
			t.Errorf("%d lines are written", lines)
		}
	}
	f.Close()
	if _, err := s.Write([]byte("berth 13\n")); err != nil {
		t.Error("it does not hold back: ", err)
	}
	if err := s.flush(); !errors.Is(err, os.ErrClosed) {
		t.Errorf("flushed with %v", err)
	}
	if _, err := s.Write([]byte("berth 14\n")); err == nil {
		t.Error("after an error it takes more")
	}
}

// TestLinesAreDropped from what is kept while a run goes on; what follows comes after the rest.
func TestLinesAreDropped(t *testing.T) {
	t.Parallel()
	name := filepath.Join(t.TempDir(), "run")
	raw, err := create(name)
	if err != nil {
		t.Fatal(err)
	}
	f := &files{raw: raw, open: []*os.File{raw}, soon: &delayedWriter{to: bufio.NewWriter(raw)}}
	w, err := record.NewWriter(f.soon, record.Head{Program: "test"})
	if err != nil {
		t.Fatal(err)
	}
	for _, operation := range []string{"POST /quays", "POST /buoys", "", "POST /quays"} {
		if operation == "" {
			if err := f.drop(func(_, operation, _ string) bool { return operation == "POST /quays" }); err != nil {
				t.Fatal(err)
			}
			continue
		}
		if err := w.Operation(exchange.Described{Operation: operation}); err != nil {
			t.Fatal(err)
		}
	}
	r, err := f.reopen()
	if err != nil || r.Head.Program != "test" {
		t.Fatal(err)
	}
	var left []string
	for l, err := range r.Lines() {
		if err != nil {
			t.Fatal(err)
		}
		left = append(left, l.Operation.Operation)
	}
	if got := strings.Join(left, ", "); got != "POST /buoys, POST /quays" {
		t.Errorf("left are %s", got)
	}
	if err := errors.Join(f.closeAll()); err != nil {
		t.Error(err)
	}
	if list, _ := os.ReadDir(filepath.Dir(name)); len(list) != 1 {
		t.Errorf("files are %v", list)
	}
}
