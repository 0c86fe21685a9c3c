package cli

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"

	"obiter/internal/results/record"
)

// mostScanned is how large a run file may be, in bytes, to be read through for one case.
const mostScanned = 16 << 20

// excerptOf reads of a large run file only what one case takes, by an index that lies next
// to it and is made when it is first needed; nil where that cannot be. The controls are those of
// all operations.
func excerptOf(f *os.File, id string, controls map[string]string) *record.Reader {
	info, err := f.Stat()
	if err != nil || info.Size() < mostScanned {
		return nil
	}
	of := fmt.Sprintf("%d bytes, %d", info.Size(), info.ModTime().UnixNano())
	index, x, err := openIndex(f.Name()+record.IndexEnding, of)
	if err != nil {
		index, x, err = makeIndex(f, of)
	}
	if err != nil {
		return nil
	}
	defer index.Close()
	text, err := x.Excerpt(f, info.Size(), id)
	if err != nil {
		return nil
	}
	r, err := record.NewReader(text)
	if err != nil {
		return nil
	}
	maps.Copy(controls, x.Accepted())
	return r
}

func openIndex(name, of string) (*os.File, *record.Index, error) {
	f, err := openRegular(name, "the index "+name, os.ErrNotExist)
	if err != nil {
		return nil, nil, err
	}
	info, err := f.Stat()
	if err != nil {
		return nil, nil, errors.Join(err, f.Close())
	}
	x, err := record.OpenIndex(f, info.Size(), of)
	if err != nil {
		return nil, nil, errors.Join(err, f.Close())
	}
	return f, x, nil
}

// makeIndex makes an index in one piece, so that nobody reads half of it.
func makeIndex(f *os.File, of string) (*os.File, *record.Index, error) {
	made, err := os.CreateTemp(filepath.Dir(f.Name()), ".obiter-*")
	if err != nil {
		return nil, nil, err
	}
	if _, err = f.Seek(0, io.SeekStart); err == nil {
		err = record.WriteIndex(made, f, of)
	}
	if err = errors.Join(err, made.Close()); err == nil {
		err = os.Rename(made.Name(), f.Name()+record.IndexEnding)
	}
	if err != nil {
		return nil, nil, errors.Join(err, os.Remove(made.Name()))
	}
	return openIndex(f.Name()+record.IndexEnding, of)
}
