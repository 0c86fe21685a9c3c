package document

import (
	"bytes"
	"maps"
	"reflect"
	"runtime"
	"sync"
	"sync/atomic"
	"unicode/utf8"
)

// Limits of reading JSON in pieces.
const (
	large  = 1 << 20   // bytes from which on a document is read so
	piece  = 128 << 10 // bytes that one reader takes at a time
	layers = 3         // of objects that are parted
)

// readPieces reads a JSON document in pieces of so many bytes or a little more, by several
// readers at a time; nil where it has no such pieces, or where something is wrong with it:
// the one reader says what.
func readPieces(name string, src []byte, size int) *File {
	p := parting{src: src, line: 1}
	p.space()
	begin := p.here()
	top, ok := p.object(1)
	if p.space(); !ok || p.i < len(src) {
		return nil
	}
	c := cutting{src: src, name: name, size: size}
	c.cut(&top, 0)
	if len(c.runs) < 2 || !c.read() {
		return nil
	}
	f := &File{Name: name, order: map[uintptr][]string{}}
	for i := range c.runs {
		maps.Copy(f.order, c.runs[i].file.order)
	}
	value, in, ok := c.join(f, &top, "")
	if !ok {
		return nil
	}
	f.Value, f.top = value, place{begin.line, begin.column, in}
	return f
}

// parting finds where the members of the outer objects are, without reading values.
// It takes for granted that the text is JSON; the readers of the pieces do not.
type parting struct {
	src    []byte
	i      int
	line   int // of what was counted
	begins int
	passed int // how far lines are counted
}

// span is a member of an object, or the object itself, which has no name.
type span struct {
	name    string
	at      place // of the name
	from    int   // where the name begins
	to      int   // behind the value
	members []span
	parted  bool // its members are known

	parts []part // of an object that is cut
}

// part is a run of members that is read at once, or a member that is cut itself.
type part struct {
	run    int
	member *span
}

// here is the place of what comes next.
func (p *parting) here() place {
	for {
		n := bytes.IndexByte(p.src[p.passed:p.i], '\n')
		if n < 0 {
			break
		}
		p.passed += n + 1
		p.line, p.begins = p.line+1, p.passed
	}
	p.passed = p.i
	return place{line: int32(p.line), column: int32(p.i - p.begins + 1)}
}

func (p *parting) space() {
	for p.i < len(p.src) && (p.src[p.i] == ' ' || p.src[p.i] == '\n' || p.src[p.i] == '\t' || p.src[p.i] == '\r') {
		p.i++
	}
}

// is passes white space, and a byte where it is the next one.
func (p *parting) is(c byte) bool {
	p.space()
	if p.i < len(p.src) && p.src[p.i] == c {
		p.i++
		return true
	}
	return false
}

// object passes an object, the members of which are noted.
func (p *parting) object(layer int) (span, bool) {
	out := span{from: p.i, parted: true}
	if !p.is('{') {
		return out, false
	}
	for !p.is('}') {
		if len(out.members) > 0 && !p.is(',') {
			return out, false
		}
		p.space()
		m := span{at: p.here(), from: p.i}
		name, ok := p.text()
		if !ok || !p.is(':') {
			return out, false
		}
		p.space()
		if p.i < len(p.src) && p.src[p.i] == '{' && layer < layers {
			inner, ok := p.object(layer + 1)
			if !ok {
				return out, false
			}
			m.members, m.parted = inner.members, true
		} else if !p.value() {
			return out, false
		}
		m.name, m.to = name, p.i
		out.members = append(out.members, m)
	}
	out.to = p.i
	return out, true
}

// text passes a string; one with escapes, or with what no string has, is not read here.
func (p *parting) text() (string, bool) {
	if p.i >= len(p.src) || p.src[p.i] != '"' {
		return "", false
	}
	from := p.i + 1
	n := bytes.IndexByte(p.src[from:], '"')
	if n < 0 || bytes.ContainsFunc(p.src[from:from+n], func(r rune) bool { return r < ' ' || r == '\\' || r == utf8.RuneError }) {
		return "", false
	}
	p.i = from + n + 1
	return string(p.src[from : from+n]), true
}

// telling are the bytes that tell where a value ends.
var telling = [256]bool{'{': true, '[': true, '}': true, ']': true, ',': true, '"': true}

// value passes any value.
func (p *parting) value() bool {
	depth, src := 0, p.src
	for i := p.i; i < len(src); i++ {
		c := src[i]
		if !telling[c] {
			continue
		}
		switch c {
		case '{', '[':
			depth++
		case '}', ']':
			if depth--; depth < 0 {
				p.i = i
				return true
			}
		case ',':
			if depth == 0 {
				p.i = i
				return true
			}
		default:
			end := behind(src, i)
			if end < 0 {
				return false
			}
			i = end - 1
		}
	}
	return false
}

// behind is where a string ends that begins at i, with whatever is in it; negative where
// it does not end.
func behind(src []byte, i int) int {
	for i++; i < len(src); i++ {
		switch src[i] {
		case '"':
			return i + 1
		case '\\':
			i++
		}
	}
	return -1
}

// cutting parts a document into runs of members, which are read by themselves.
type cutting struct {
	name string
	src  []byte
	size int // of a piece
	runs []run
}

// run are members that follow one another in an object.
type run struct {
	from, to int
	at       place
	depth    int // of the object around them
	made     made
	file     *File
}

// cut parts an object that is too large for one reader.
func (c *cutting) cut(s *span, depth int) {
	open := false
	for i := range s.members {
		m := &s.members[i]
		if m.parted && m.to-m.from > c.size {
			c.cut(m, depth+1)
			s.parts = append(s.parts, part{member: m})
			open = false
			continue
		}
		if open {
			if last := &c.runs[len(c.runs)-1]; last.to-last.from < c.size {
				last.to = m.to
				continue
			}
		}
		open = true
		s.parts = append(s.parts, part{run: len(c.runs)})
		c.runs = append(c.runs, run{from: m.from, to: m.to, at: m.at, depth: depth})
	}
}

// read reads the runs; false where one of them is not what it should be.
func (c *cutting) read() bool {
	var (
		wg    sync.WaitGroup
		next  atomic.Int64
		wrong atomic.Bool
	)
	for range min(runtime.GOMAXPROCS(0), len(c.runs)) {
		wg.Go(func() {
			k := newKnown()
			for !wrong.Load() {
				i := int(next.Add(1)) - 1
				if i >= len(c.runs) {
					return
				}
				r := &c.runs[i]
				text := make([]byte, 0, r.to-r.from+2)
				text = append(append(append(text, '{'), c.src[r.from:r.to]...), '}')
				reader := newReader(c.name, text, false, k)
				reader.line, reader.begins = int(r.at.line), 2-int(r.at.column)
				made, _, err := reader.value(r.depth, "")
				if err != nil || int(reader.tokens.InputOffset()) != len(text) {
					wrong.Store(true)
					return
				}
				r.made, r.file = made, reader.file
			}
		})
	}
	wg.Wait()
	return !wrong.Load()
}

// join puts an object together again; false where a member appears twice.
func (c *cutting) join(f *File, s *span, key string) (map[string]any, *inside, bool) {
	object, in := make(map[string]any, len(s.members)), &inside{names: make([]string, 0, len(s.members)), places: make([]place, 0, len(s.members))}
	for _, p := range s.parts {
		if m := p.member; m != nil {
			value, inner, ok := c.join(f, m, m.name)
			if !ok {
				return nil, nil, false
			}
			object[m.name] = value
			in.names, in.places = append(in.names, m.name), append(in.places, place{m.at.line, m.at.column, inner})
			continue
		}
		r := &c.runs[p.run]
		members, _ := r.made.value.(map[string]any)
		maps.Copy(object, members)
		in.names, in.places = append(in.names, r.made.inside.names...), append(in.places, r.made.inside.places...)
	}
	if key == "properties" {
		f.order[reflect.ValueOf(object).Pointer()] = in.names
	}
	return object, in, len(object) == len(in.names)
}
