package terminal

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"obiter/internal/core/instance"
)

// printer writes a JSON value over several lines, with notes next to the fields
// they are of, and a line of its own for a field that is not there.
type printer struct {
	look  Style
	marks map[string]string
	whole bool // long texts, too
	out   strings.Builder
}

// maxString is the longest text printed as it is, in characters.
const maxString = 200

func (p *printer) value(pointer, label string, v any, indent string, comma bool) {
	end := ""
	if comma {
		end = ","
	}
	head := indent + label
	switch v := v.(type) {
	case map[string]any:
		if len(v) == 0 && len(p.missing(pointer, v)) == 0 {
			p.line(pointer, head+"{}"+end)
			return
		}
		p.line(pointer, head+"{")
		names := instance.Names(v)
		for i, n := range names {
			p.value(instance.Join(pointer, n), Clean(string(instance.Encode(n)))+": ", v[n], indent+"  ", i+1 < len(names))
		}
		for _, m := range p.missing(pointer, v) {
			p.out.WriteString(p.look.In(Yellow, indent+"  # "+Clean(strconv.Quote(instance.Last(m))+": "+p.marks[m])) + "\n")
		}
		p.out.WriteString(indent + "}" + end + "\n")
	case []any:
		if len(v) == 0 {
			p.line(pointer, head+"[]"+end)
			return
		}
		p.line(pointer, head+"[")
		for i, e := range v {
			p.value(instance.Join(pointer, strconv.Itoa(i)), "", e, indent+"  ", i+1 < len(v))
		}
		p.out.WriteString(indent + "]" + end + "\n")
	case string:
		if n := utf8.RuneCountInString(v); n > maxString && !p.whole {
			v = string([]rune(v)[:maxString])
			end += fmt.Sprintf("  (and %s more characters: --whole)", Number(n-maxString))
		}
		p.line(pointer, head+Clean(string(instance.Encode(v)))+end)
	default:
		p.line(pointer, head+string(instance.Encode(v))+end)
	}
}

func (p *printer) line(pointer, text string) {
	if mark, ok := p.marks[pointer]; ok {
		text = p.look.In(Yellow, text+"   # "+Clean(mark))
	}
	p.out.WriteString(text + "\n")
}

// missing lists marked members that an object lacks.
func (p *printer) missing(pointer string, have map[string]any) []string {
	var out []string
	for _, m := range slices.Sorted(maps.Keys(p.marks)) {
		if m == "" || instance.Parent(m) != pointer {
			continue
		}
		if _, there := have[instance.Last(m)]; !there {
			out = append(out, m)
		}
	}
	return out
}
