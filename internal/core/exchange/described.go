package exchange

import (
	"strconv"
	"strings"
)

// Described is what a description has of an operation, as a run file keeps it: where it
// stands, and its fields with their rules.
type Described struct {
	Operation string           `json:"operation"`
	Number    int              `json:"number"`         // its place in the plan, as cases have theirs
	Skip      string           `json:"skip,omitempty"` // why it is left out
	At        Place            `json:"at,omitempty"`
	Fields    []DescribedField `json:"fields,omitempty"` // in the order of the description
}

// DescribedField is a field of a request.
type DescribedField struct {
	In      string           `json:"in"`
	Pointer string           `json:"pointer"` // with * for the entries of lists
	At      Place            `json:"at,omitempty"`
	Rules   map[string]Place `json:"rules,omitempty"` // by keyword
}

// Place is where something is written: openapi.yaml:31:5, with line and column from 1.
type Place string

// Parts are the file, the line and the column; 0 where there is none.
func (p Place) Parts() (file string, line, column int) {
	rest, last, _ := cutLast(string(p))
	file, middle, _ := cutLast(rest)
	line, err := strconv.Atoi(middle)
	column, e := strconv.Atoi(last)
	if err != nil || e != nil {
		return string(p), 0, 0
	}
	return file, line, column
}

func cutLast(text string) (before, after string, found bool) {
	i := strings.LastIndexByte(text, ':')
	if i < 0 {
		return text, "", false
	}
	return text[:i], text[i+1:], true
}

// Field is the described field of a place; nil where there is none.
func (d *Described) Field(in, pointer string) *DescribedField {
	for i := range d.Fields {
		if f := &d.Fields[i]; f.In == in && f.Pointer == pointer {
			return f
		}
	}
	return nil
}

// PlaceOf is where the rule that a flaw breaks is written: at the field, at what it is
// in, or where the operation is. The pointer has * for the entries of lists.
func (d *Described) PlaceOf(in, pointer, rule string) Place {
	at := d.At
	for from := pointer; ; {
		if f := d.Field(in, from); f != nil {
			if p, has := f.Rules[rule]; has {
				return p
			}
			if at == d.At && f.At != "" {
				at = f.At
			}
		}
		i := strings.LastIndexByte(from, '/')
		if i < 0 {
			return at
		}
		from = from[:i]
	}
}
