// Package payload writes what is planned into a folder: each body in a file of its own, and an
// index.
package payload

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/core/secret"
	"obiter/internal/core/usage"
	"obiter/internal/generate/plan"
)

// Index is the name of the index in the folder.
const Index = "index.ndjson"

// Write writes each payload to a file of its own, and an index that has
// the case line of each with the file's name.
func Write(p *plan.Plan, folder string, force bool, secrets *secret.Set) (n int, err error) {
	if err := ownFolder(folder, force); err != nil {
		return 0, err
	}
	index, err := os.CreateTemp(folder, ".index-*")
	if err != nil {
		return n, fmt.Errorf("writing to %s: %w", folder, err)
	}
	defer os.Remove(index.Name())
	defer index.Close()
	buffered := bufio.NewWriter(index)
	for op := range p.Operations() {
		sub := fileName(op.Name())
		for c := range op.Cases() {
			c = secrets.Case(c)
			name := filepath.Join(sub, c.ID+extension(c))
			if err := os.MkdirAll(filepath.Join(folder, sub), 0o755); err != nil {
				return n, fmt.Errorf("writing to %s: %w", folder, err)
			}
			if err := os.WriteFile(filepath.Join(folder, name), c.Request.Body, 0o644); err != nil {
				return n, fmt.Errorf("writing a payload: %w", err)
			}
			line, err := instance.Written(struct {
				File string `json:"file"`
				exchange.Case
			}{filepath.ToSlash(name), c})
			if err == nil {
				_, err = buffered.Write(append(line, '\n'))
			}
			if err != nil {
				return n, fmt.Errorf("writing the index: %w", err)
			}
			n++
		}
	}
	if err := errors.Join(buffered.Flush(), index.Close()); err != nil {
		return n, fmt.Errorf("writing the index: %w", err)
	}
	if err := os.Rename(index.Name(), filepath.Join(folder, Index)); err != nil {
		return n, fmt.Errorf("writing the index: %w", err)
	}
	if err := os.Chmod(filepath.Join(folder, Index), 0o644); err != nil {
		return n, fmt.Errorf("writing the index: %w", err)
	}
	return n, nil
}

// ownFolder makes the folder, and removes what its index lists of an earlier time. It refuses one
// that holds other things, unless force is set.
func ownFolder(folder string, force bool) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return usage.New(fmt.Sprintf("--out: cannot create the folder %s: %v", folder, errors.Unwrap(err)), "name a folder that can be written to")
	}
	listed, err := listedIn(folder)
	if err != nil {
		return err
	}
	var others string
	err = filepath.WalkDir(folder, func(path string, d os.DirEntry, err error) error {
		name, _ := filepath.Rel(folder, path)
		if err == nil && !d.IsDir() && !listed[filepath.ToSlash(name)] && others == "" {
			others = name
		}
		return err
	})
	if err != nil {
		return fmt.Errorf("reading %s: %w", folder, err)
	}
	if others != "" && !force {
		return usage.New(fmt.Sprintf("--out %s: the folder holds %s, which the index there does not list", folder, others), "name a new folder, empty this one, or write into it with --force")
	}
	for name := range listed {
		if err := os.Remove(filepath.Join(folder, filepath.FromSlash(name))); err != nil && !errors.Is(err, os.ErrNotExist) {
			return fmt.Errorf("removing what was written before: %w", err)
		}
	}
	return nil
}

// maxIndex bounds the index of a folder of payloads, in bytes.
const maxIndex = 1 << 30

// listedIn are the files of a folder that its index lists, and the index; none where it has none.
func listedIn(folder string) (map[string]bool, error) {
	name := filepath.Join(folder, Index)
	info, err := os.Lstat(name)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err == nil && !info.Mode().IsRegular() {
		return nil, usage.New(name+" is not a file", "name a new folder")
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", name, err)
	}
	defer f.Close()
	out := map[string]bool{Index: true}
	for lines := json.NewDecoder(io.LimitReader(f, maxIndex)); lines.More(); {
		var line struct{ File string }
		if err := lines.Decode(&line); err != nil {
			return nil, nil // it is another file
		}
		if filepath.IsLocal(filepath.FromSlash(line.File)) {
			out[line.File] = true
		}
	}
	return out, nil
}

func extension(c exchange.Case) string {
	if c.Body != nil {
		return ".json"
	}
	return ".txt"
}

// fileName makes a folder's name of an operation's.
func fileName(operation string) string {
	name := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= 'A' && r <= 'Z', r >= '0' && r <= '9', r == '-', r == '.', r == '_':
			return r
		}
		return '-'
	}, operation)
	for strings.Contains(name, "--") {
		name = strings.ReplaceAll(name, "--", "-")
	}
	return strings.Trim(name, "-.")
}
