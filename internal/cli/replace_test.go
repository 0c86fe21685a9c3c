package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestOnlyOwnFilesAreReplaced: what Obiter wrote, and with --force all; links are followed, and
// devices written to.
func TestOnlyOwnFilesAreReplaced(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	base := serve(t)
	obiter(t, dir, "try", "--at", base, "--only", "* /berths", "--save", "kept.ndjson").check(t, 0, "", "")
	obiter(t, dir, "try", "--at", base, "--only", "* /berths", "--save", "kept.ndjson").check(t, 0, "", "")
	const theirs = "tide tables"
	intact := func(name string) {
		t.Helper()
		if text, err := os.ReadFile(filepath.Join(dir, name)); err != nil || string(text) != theirs {
			t.Errorf("%s has %q: %v", name, text, err)
		}
	}
	for _, name := range []string{"r.html", "r.xml", "r.sarif", "r.md", "r.har", "r.json"} {
		for range 2 { // once it is there, and Obiter's own
			obiter(t, dir, "report", "--out", name).check(t, 0, "", "written: "+name)
		}
		put(t, dir, name, theirs)
		obiter(t, dir, "report", "--out", name).check(t, 2, "", name+" is there and was not written by Obiter, so it is not replaced\nhint: name another file, or replace it with --force")
		intact(name)
		obiter(t, dir, "report", "--out", name, "--force").check(t, 0, "", "written: "+name)
	}
	for _, name := range []string{"d.html", "d.md", "d.json"} {
		for range 2 {
			obiter(t, dir, "compare", "kept.ndjson", lastRun(t, dir), "--report", name).check(t, 0, "", "")
		}
		put(t, dir, name, theirs)
		obiter(t, dir, "compare", "kept.ndjson", lastRun(t, dir), "--report", name).check(t, 2, "", "was not written by Obiter")
		intact(name)
	}
	put(t, dir, "notes.txt", theirs)
	for _, args := range [][]string{{"try", "--at", base, "--only", "* /berths", "--save", "notes.txt"}, {"try", "--at", base, "--only", "* /berths", "--report", "r.md", "--save", "notes.txt"}, {"judge", "--save", "notes.txt"}} {
		obiter(t, dir, args...).check(t, 2, "", "notes.txt is there and was not written by Obiter")
		intact("notes.txt")
	}
	// What a link leads to counts, and the link stays.
	put(t, dir, "theirs.html", theirs)
	for link, to := range map[string]string{"link.html": "theirs.html", "own.html": "r.html"} {
		if err := os.Symlink(to, filepath.Join(dir, link)); err != nil {
			t.Skip(err)
		}
	}
	obiter(t, dir, "report", "--out", "link.html").check(t, 2, "", "was not written by Obiter")
	intact("theirs.html")
	before, _ := os.ReadFile(filepath.Join(dir, "r.html"))
	obiter(t, dir, "report", "--out", "own.html").check(t, 0, "", "written")
	after, _ := os.ReadFile(filepath.Join(dir, "r.html"))
	if info, err := os.Lstat(filepath.Join(dir, "own.html")); err != nil || info.Mode()&os.ModeSymlink == 0 || len(after) != len(before) {
		t.Errorf("the link is gone: %v, %v", info, err)
	}
	// A device is written to, and stays one.
	obiter(t, dir, "report", "--out", "/dev/null", "--as", "html").check(t, 0, "", "written: /dev/null")
	if _, err := os.Stat("/dev/full"); err == nil {
		obiter(t, dir, "report", "--out", "/dev/full", "--as", "html").check(t, 2, "", "cannot write /dev/full")
		if info, err := os.Stat("/dev/full"); err != nil || info.Mode().IsRegular() {
			t.Errorf("/dev/full is %v: %v", info, err)
		}
	}
}

// TestOnlyListedPayloadsAreReplaced: those of an earlier time go, and nothing else.
func TestOnlyListedPayloadsAreReplaced(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	payloads := filepath.Join(dir, "payloads")
	files := func() int {
		n := 0
		_ = filepath.WalkDir(payloads, func(_ string, d os.DirEntry, err error) error {
			if err == nil && !d.IsDir() {
				n++
			}
			return err
		})
		return n
	}
	obiter(t, dir, "cases", "--out", "payloads").check(t, 0, "payloads in payloads", "")
	all := files()
	obiter(t, dir, "cases", "--out", "payloads", "--only", "POST /vessels", "--depth", "quick").check(t, 0, "payloads in payloads", "")
	if n := files(); n >= all || n < 20 {
		t.Errorf("%d files of %d are left", n, all)
	}
	put(t, payloads, "notes.txt", "tide tables")
	obiter(t, dir, "cases", "--out", "payloads").check(t, 2, "", "the folder holds notes.txt, which the index there does not list")
	obiter(t, dir, "cases", "--out", "payloads", "--force").check(t, 0, "payloads in payloads", "")
	if text, err := os.ReadFile(filepath.Join(payloads, "notes.txt")); err != nil || !strings.HasPrefix(string(text), "tide") {
		t.Errorf("%q, %v", text, err)
	}
}
