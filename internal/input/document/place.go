package document

import (
	"strconv"
	"sync/atomic"

	"go.yaml.in/yaml/v4"

	"obiter/internal/core/instance"
)

// place is where a value is, of a member where its name is. Places are
// all that is kept of the node trees, which take ten times the memory.
type place struct {
	line, column int32
	inside       *inside // nil for scalars
}

// inside are the places in an object or a list.
type inside struct {
	names  []string // of an object's members, in their order; nil for a list
	places []place
	index  atomic.Pointer[map[string]int] // of an object with many members, once it is needed
}

func placed(n *yaml.Node, m made) place { return place{int32(n.Line), int32(n.Column), m.inside} }

// many is from how many members on an index is worth while.
const many = 32

func (in *inside) child(token string) (place, bool) {
	if in == nil {
		return place{}, false
	}
	if in.names == nil {
		i, err := strconv.Atoi(token)
		if err != nil || i < 0 || i >= len(in.places) {
			return place{}, false
		}
		return in.places[i], true
	}
	if len(in.names) > many {
		index := in.index.Load()
		if index == nil {
			m := make(map[string]int, len(in.names))
			for i, name := range in.names {
				m[name] = i
			}
			index = &m
			in.index.Store(index)
		}
		i, ok := (*index)[token]
		if !ok {
			return place{}, false
		}
		return in.places[i], true
	}
	for i, name := range in.names {
		if name == token {
			return in.places[i], true
		}
	}
	return place{}, false
}

// at is the place of what is at a JSON Pointer, or of the nearest thing above
// where there is nothing.
func (f *File) at(pointer string) place {
	p, _ := f.find(pointer)
	return p
}

func (f *File) find(pointer string) (p place, there bool) {
	tokens, err := instance.Split(pointer)
	p = f.top
	for _, t := range tokens {
		next, ok := p.inside.child(t)
		if !ok {
			return p, false
		}
		p = next
	}
	return p, err == nil
}
