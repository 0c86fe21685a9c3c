package layout

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"obiter/internal/core/instance"
)

const request = `{"name":"x","length_m":3,"crew":[{"name":"a","rank":"b"},{"name":"c"}],"cargo":{"weight_t":1,"a/b":2},"type":"tug","title":"t","detail":"d"}`

func vocabulary(t testing.TB) *Vocabulary {
	t.Helper()
	v, err := instance.Decode([]byte(request))
	if err != nil {
		t.Fatal(err)
	}
	return NewVocabulary(v, nil, []string{"/unexpected"})
}

func TestNamesFit(t *testing.T) {
	for _, c := range []struct {
		name, field string
		want        Fit
	}{
		{"/crew/0/name", "/crew/0/name", Exact}, {"#/crew/0/name", "/crew/0/name", Exact}, {"#/cargo/a~1b", "/cargo/a~1b", Exact}, {"#/cargo/a%7E1b", "/cargo/a~1b", Exact},
		{"crew.0.name", "/crew/0/name", Exact}, {"crew[0].name", "/crew/0/name", Exact}, {"$.crew[0].name", "/crew/0/name", Exact}, {"crew['0']['name']", "/crew/0/name", Exact},
		{"body.crew[0].name", "/crew/0/name", Exact}, {"/body/crew/0/name", "/crew/0/name", Exact}, {"name", "/name", Exact},
		{"crew[1].name", "/crew/0/name", WrongIndex}, {"crew.name", "/crew/0/name", NoIndex}, {"#/crew/name", "/crew/0/name", NoIndex}, {"crew[].name", "/crew/0/name", NoIndex},
		{"lengthM", "/length_m", Spelling}, {"LENGTH-M", "/length_m", Spelling}, {"#/lengthM", "/length_m", Spelling}, {"cargo.weightT", "/cargo/weight_t", Spelling},
		{"crew", "/crew/0/name", Above}, {"#/cargo", "/cargo/weight_t", Above}, {"crew[0]", "/crew/0/name", Above},
		{"weight_t", "/cargo/weight_t", NameOnly}, {"", "/name", Root}, {"#", "/name", Root}, {"body", "/name", Root},
		{"[name]", "/name", Exact}, {"cargo/weight_t", "/cargo/weight_t", Exact}, {"crew/0/name", "/crew/0/name", Exact}, {"crew/1/name", "/crew/0/name", WrongIndex}, {"crew/name", "/crew/0/name", NoIndex},
		{"[1]", "/0/name", WrongIndex}, {"/1/name", "/0/name", WrongIndex}, {"/0", "/0/name", Above}, {"0", "/name", None},
		{"1", "/crew/1", NameOnly}, {"0", "/crew/1", None}, {"1", "/1", Exact}, {"crew", "/0/crew/name", Above}, {"Crew", "/crew/0/name", Above}, {"CARGO", "/cargo/weight_t", Above}, {"cargo.crew", "/0/cargo/crew/name", Above}, {"crew", "/0/cargo/crew/name", None},
		{"crew[0].name", "/crew", Below}, {"other", "/name", None}, {"/nam", "/name", None},
	} {
		if got := ParseName(c.name).Fits(c.field); got != c.want {
			t.Errorf("%q fits %s as %d, want %d", c.name, c.field, got, c.want)
		}
	}
	if n, ok := SegmentsName([]any{"body", "crew", instance0(t), "name"}); !ok || n.Fits("/crew/0/name") != Exact {
		t.Errorf("segments do not fit: %+v", n)
	}
}

func instance0(t *testing.T) any {
	t.Helper()
	v, err := instance.Decode([]byte("0"))
	if err != nil {
		t.Fatal(err)
	}
	return v
}

// TestAnswersAreRead goes through layouts: what is read is "name=message" for
// each field error, and where.
func TestAnswersAreRead(t *testing.T) {
	for _, c := range []struct{ name, answer, want, where string }{
		{"as in RFC 9457", `{"title":"no","errors":[{"detail":"short","pointer":"#/name"},{"detail":"big","pointer":"#/crew/0/rank"}]}`, "#/name=short; #/crew/0/rank=big", "/errors/*/pointer"},
		{"pointer at its word", `{"errors":[{"pointer":"#/nope","detail":"x"}]}`, "#/nope=x", "/errors/*/pointer"},
		{"a field in any member", `{"violations":[{"wo":"crew[0].name","warum":"zu kurz"}]}`, "crew[0].name=zu kurz", "/violations/*/wo"},
		{"segments", `{"detail":[{"loc":["body","crew",0,"name"],"msg":"short","type":"too_short"}]}`, `["body","crew",0,"name"]=short`, "/detail/*/loc"},
		{"a source with a pointer", `{"errors":[{"source":{"pointer":"/length_m"},"title":"bad"}]}`, "/length_m=bad", "/errors/*/source/pointer"},
		{"a bare list", `[{"property":"name","message":"short"}]`, "name=short", "/*/property"},
		{"an unknown name in a usual member", `{"errors":[{"field":"nope","message":"x"}]}`, "nope=x", "/errors/*/field"},
		{"a map of lists", `{"errors":{"name":["short","odd"],"length_m":["low"]}}`, "length_m=low; name=short; odd", "/errors/*"},
		{"a map of texts", `{"fields":{"crew.0.name":"short"}}`, "crew.0.name=short", "/fields/*"},
		{"a map in another spelling", `{"errors":{"LengthM":["low"]}}`, "LengthM=low", "/errors/*"},
		{"a nested map", `{"errors":{"crew":{"0":{"name":["short"]}}}}`, "crew.0.name=short", "/errors/*"},
		{"a map at the top", `{"name":["short"],"cargo":{"weight_t":["low"]}}`, "cargo.weight_t=low; name=short", "/*"},
		{"errors of an object itself", `{"errors":{"cargo":{"non_field_errors":["too much"]}}}`, "cargo=too much", "/errors/*"},
		{"a map of objects with messages", `{"errors":{"name":[{"message":"short"}]}}`, "name=short", "/errors/*"},
		{"below other members", `{"error":{"code":3,"details":[{"field":"name","issue":"short"}]}}`, "name=short", "/error/details/*/field"},
		{"the code is not the field", `{"errors":[{"code":"type","field":"name","message":"x"},{"code":"type","field":"length_m","message":"y"}]}`, "name=x; length_m=y", "/errors/*/field"},
		{"a sentence names nothing", `{"title":"no","detail":"the name is too short"}`, "", ""},
		{"the members of a problem are not fields", `{"type":"about:blank","title":"Bad","status":400,"detail":"no"}`, "", ""},
		{"a reference is not a field", `{"title":"Bad","name":"req-123"}`, "", ""},
		{"an echo of the request", `{"title":"Bad","received":{"name":"x","type":"tug"}}`, "", ""},
		{"an envelope whose members are called as fields are", `{"id":"bad-7","name":"bad_request","type":"invalid","message":"no such thing"}`, "", ""},
		{"a map at the top with members of an envelope's name", `{"name":"must not be blank","code":"must be one of tug, barge"}`, "code=must be one of tug, barge; name=must not be blank", "/*"},
		{"one word for a field", `{"errors":{"name":"required","type":"invalid","message":"ours"}}`, "message=ours; name=required; type=invalid", "/errors/*"},
		{"one error, in brackets", `{"error":{"param":"crew[0][name]","code":"short","message":"is too short"}}`, "crew[0][name]=is too short", "/error/param"},
		{"a path that is not a field's", `{"timestamp":5,"status":400,"error":"Bad Request","path":"/crew"}`, "", ""},
		{"one error in a problem document", `{"title":"Bad","detail":"is too short","field":"name"}`, "name=is too short", "/field"},
		{"an empty list", `{"errors":[]}`, "", ""},
		{"sentences in a list", `{"errors":["name is too short"]}`, "", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			doc, err := instance.Decode([]byte(c.answer))
			if err != nil {
				t.Fatal(err)
			}
			r := Read(doc, vocabulary(t))
			var got []string
			for _, f := range r.Fields {
				got = append(got, f.Name.Raw+"="+f.Message)
			}
			if s := strings.Join(got, "; "); s != c.want || r.Where != c.where {
				t.Errorf("read %q at %q, want %q at %q", s, r.Where, c.want, c.where)
			}
		})
	}
}

func TestMentions(t *testing.T) {
	doc, _ := instance.Decode([]byte(`{"title":"no","detail":"Length M is too small"}`))
	if s, ok := Mentions(doc, "/length_m"); !ok || s != "Length M is too small" {
		t.Errorf("Mentions = %q, %v", s, ok)
	}
	for _, text := range []string{"INVALID", "lengthm2", "wideLength_m"} {
		if hasWord(text, "id") || hasWord(text, "length_m") {
			t.Errorf("a word is found within %s", text)
		}
	}
	for _, text := range []string{"body.length_m is low", "`lengthM`", "the Length-M:"} {
		if !hasWord(text, "length_m") {
			t.Errorf("length_m is not found in %s", text)
		}
	}
	if s, ok := Mentions(doc, "/crew/0"); ok {
		t.Errorf("Mentions = %q", s)
	}
}

func FuzzReadAnswer(f *testing.F) {
	f.Add([]byte(`{"errors":[{"pointer":"#/name"}]}`))
	f.Add([]byte(`{"errors":{"crew":{"0":{"name":["x"]}}}}`))
	f.Add([]byte(`[[[{"loc":["a",0]}]]]`))
	f.Fuzz(func(t *testing.T, answer []byte) {
		doc, err := instance.Decode(answer)
		if err != nil {
			return
		}
		for _, n := range Read(doc, vocabulary(t)).Fields {
			n.Name.Fits("/crew/0/name")
			if _, ok := instance.Get(doc, n.At); !ok {
				t.Fatalf("nothing is at %q", n.At)
			}
		}
	})
}

func FuzzParseName(f *testing.F) {
	for _, s := range []string{"#/a%zz", "a[b", "$..", "[[0]]", "/~", "a.b[0]['c']"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, name string) {
		n := ParseName(name)
		if fmt.Sprint(n.Fits("/a/0")) == "" || n.Raw != name {
			t.Fatal("the name is lost")
		}
	})
}

func TestAKnownLayoutIsTakenAtItsWord(t *testing.T) {
	doc, err := instance.Decode([]byte(`{"errors":[{"pointer":"#/name","detail":"other"}],"faults":{"list":[{"at":{"place":"crew[0].rank"},"text":"x"},{"at":{}},5,{"at":{"place":["cargo","weight_t"]}}]}}`))
	if err != nil {
		t.Fatal(err)
	}
	k := Layout{List: "/faults/list", Field: "/at/place", Message: "/text"}
	r := ReadAs(doc, k, vocabulary(t))
	if len(r.Fields) != 2 || r.Fields[0].Message != "x" || r.Fields[0].Name.Fits("/crew/0/rank") != Exact || r.Fields[1].Name.Fits("/cargo/weight_t") != Exact || r.Where != "/faults/list/*/at/place" {
		t.Errorf("%+v", r)
	}
	for _, other := range []any{nil, "x", map[string]any{"faults": 5}} {
		if r := ReadAs(other, k, vocabulary(t)); len(r.Fields) > 0 {
			t.Errorf("%v has fields: %+v", other, r)
		}
	}
}

// TestConfiguredLayouts has an answer for each kind, as found in the wild.
func TestConfiguredLayouts(t *testing.T) {
	for _, c := range []struct {
		name, answer string
		k            Layout
		want         string
	}{
		{"one object", `{"error":{"param":"crew[0][name]","code":"short","message":"is too short"}}`, Layout{Kind: Object, List: "/error", Field: "/param"}, "/crew/0/name=is too short"},
		{"the answer itself", `{"at":"name","says":"is too short"}`, Layout{Kind: Object, Field: "/at", Message: "/says"}, "/name=is too short"},
		{"a map", `{"errors":{"crew.0.name":["short"],"nope":["x"]}}`, Layout{Kind: Map, List: "/errors"}, "/crew/0/name=short; /nope=x"},
		{"a map at the top", `{"name":["short"],"crew":[{},{"name":["long"]}]}`, Layout{Kind: Map}, "/crew/1/name=long; /name=short"},
		{"nested maps", `{"errors":{"cargo":{"weight_t":["low"],"non_field_errors":["odd"]}}}`, Layout{Kind: Map, List: "/errors"}, "/cargo=odd; /cargo/weight_t=low"},
		{"a prefix", `{"errors":[{"source":{"pointer":"/data/attributes/name"},"detail":"short"}]}`, Layout{List: "/errors", Field: "/source/pointer", Prefix: "/data/attributes"}, "/name=short"},
		{"indexes from one", `{"errors":[{"field":"crew[1].name","message":"short"}]}`, Layout{List: "/errors", Field: "/field", OneBased: true}, "/crew/0/name=short"},
		{"nothing of the kind", `{"errors":"none"}`, Layout{Kind: Map, List: "/errors"}, ""},
	} {
		doc, err := instance.Decode([]byte(c.answer))
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, f := range ReadAs(doc, c.k, vocabulary(t)).Fields {
			got = append(got, key(f.Name.readings[len(f.Name.readings)-1])+"="+f.Message)
		}
		if s := strings.Join(got, "; "); s != c.want {
			t.Errorf("%s: %q, want %q", c.name, s, c.want)
		}
	}
}

// taught is what is learned from answers to flaws of these fields, one each.
func taught(t *testing.T, answers map[string][]string) *Knowledge {
	t.Helper()
	s := NewStudy()
	for pointer, list := range answers {
		for _, text := range list {
			doc, err := instance.Decode([]byte(text))
			if err != nil {
				t.Fatal(err)
			}
			s.Add(Lesson{Operation: "POST /vessels", In: "body", Pointer: pointer, Places: Places(doc, vocabulary(t)),
				Tells: func(n Named) bool { fits := n.Name.Fits(pointer); return fits != None && fits != Root }})
		}
	}
	return s.Learned()
}

// TestWhatIsLearned holds what decides where names stand, and what names nothing.
func TestWhatIsLearned(t *testing.T) {
	envelope := func(field string) []string {
		one := `{"name":"BadRequest","type":"invalid","hint":"` + field + `"}`
		return []string{one, one, one}
	}
	k := taught(t, map[string][]string{"/name": envelope("name"), "/type": envelope("type"), "/length_m": envelope("length_m"), "/title": envelope("title")})
	doc, _ := instance.Decode([]byte(envelope("length_m")[0]))
	if r := k.Choose(Places(doc, vocabulary(t)), "POST /vessels", vocabulary(t)); r.Where != "/hint" || len(r.Fields) != 1 || r.Fields[0].Name.Path() != "/length_m" {
		t.Errorf("a member of its own words: %+v", r)
	}
	if !k.Agrees("/hint") || k.Agrees("/name") {
		t.Errorf("%+v", k.habits)
	}
	nowhere := func() []string {
		one := `{"errors":[{"path":"payload","message":"no"}]}`
		return []string{one, one, one}
	}
	k = taught(t, map[string][]string{"/name": nowhere(), "/type": nowhere(), "/length_m": nowhere()})
	doc, _ = instance.Decode([]byte(nowhere()[0]))
	if r := k.Choose(Places(doc, vocabulary(t)), "POST /vessels", vocabulary(t)); len(r.Fields) > 0 || k.Agrees("/errors/*/path") {
		t.Errorf("the same whatever was wrong is read: %+v", r)
	}
	if k.Told("POST /vessels", "body", "/name", "") {
		t.Error("what was never named is told")
	}
}

// TestNamesWithoutEndAreNotTakenApart: a name is as long as a name can be.
func TestNamesWithoutEndAreNotTakenApart(t *testing.T) {
	v := NewVocabulary(map[string]any{"name": "x"}, nil, nil)
	for _, unit := range []string{"/name", "name.", "name[0]", "[", "~0~1", "name "} {
		long := strings.Repeat(unit, 100_000)
		if n := ParseName(long); len(n.Raw) > maxParsed || v.Has(n) {
			t.Errorf("%q: a name of %d bytes, known: %v", unit, len(n.Raw), v.Has(n))
		}
		for _, doc := range []any{map[string]any{"errors": map[string]any{long: "is wrong"}}, map[string]any{"errors": []any{map[string]any{"field": long, "message": long}}}} {
			for _, f := range append(Read(doc, v).Fields, ReadAs(doc, Layout{List: "/errors", Field: "/field"}, v).Fields...) {
				if f.InRequest || len(f.Name.Raw) > maxParsed {
					t.Errorf("%q: %d bytes, in the request: %v", unit, len(f.Name.Raw), f.InRequest)
				}
			}
		}
	}
}

// TestWhatIsReadAlike: more of the same teaches nothing new, and what it says of a place is
// known by how answers are read, not by how many there were.
func TestWhatIsReadAlike(t *testing.T) {
	answers := func(field string, n int) (list []string) {
		for range n {
			list = append(list, `{"errors":[{"pointer":"#/`+field+`","detail":"no"}]}`)
		}
		return list
	}
	fields := func(n int) map[string][]string {
		return map[string][]string{"/name": answers("name", n), "/type": answers("type", n), "/length_m": answers("length_m", n)}
	}
	few, many := taught(t, fields(3)), taught(t, fields(30))
	if !few.Alike(many) || !many.Alike(few) {
		t.Errorf("%+v is read otherwise than %+v", few.habits, many.habits)
	}
	constant := fields(6)
	for at, list := range constant {
		for i := range list {
			list[i] = `{"errors":[{"pointer":"payload","detail":"no"}]}`
		}
		constant[at] = list
	}
	var none *Knowledge
	for name, other := range map[string]*Knowledge{"nothing": none, "the same name everywhere": taught(t, constant), "another place": taught(t, map[string][]string{"/name": {`{"field":"name"}`}})} {
		if few.Alike(other) || other.Alike(few) {
			t.Errorf("%s is read alike", name)
		}
	}
	if !none.Alike(none) {
		t.Error("nothing is not read like nothing")
	}
}

// BenchmarkPlaces looks for fields in an answer.
func BenchmarkPlaces(b *testing.B) {
	doc, err := instance.Decode([]byte(`{"type":"about:blank","title":"Unprocessable Content","status":422,"errors":[{"pointer":"#/name","detail":"at least 2 characters"},{"pointer":"#/length_m","detail":"at most 400"}]}`))
	if err != nil {
		b.Fatal(err)
	}
	v := NewVocabulary(map[string]any{"name": "Q", "length_m": json.Number("401"), "type": "tug"}, nil, nil)
	b.ReportAllocs()
	for b.Loop() {
		Places(doc, v)
	}
}

// TestHabits: what is learned of a place begins with as many answers as it says, and no sooner.
func TestHabits(t *testing.T) {
	two := map[field]bool{{pointer: "/a"}: true, {pointer: "/b"}: true}
	three := map[field]bool{{pointer: "/a"}: true, {pointer: "/b"}: true, {pointer: "/c"}: true}
	for name, c := range map[string]struct {
		place place
		of    func(habit) bool
		want  bool
	}{
		"follows in half of the answers":       {place{seen: 10, hits: 5, follows: two}, func(h habit) bool { return h.followsFlaw }, true},
		"follows in four of nine":              {place{seen: 9, hits: 4, follows: two}, func(h habit) bool { return h.followsFlaw }, false},
		"follows in less":                      {place{seen: 10, hits: 4, follows: two}, func(h habit) bool { return h.followsFlaw }, false},
		"follows one field alone":              {place{seen: 10, hits: 10, follows: map[field]bool{{pointer: "/a"}: true}}, func(h habit) bool { return h.followsFlaw }, false},
		"says it in nine of ten":               {place{answers: 10, names: map[string]*nameStats{"x": {count: 9, targets: three}}}, func(h habit) bool { return h.constant["x"] }, true},
		"says it in eight of ten":              {place{answers: 10, names: map[string]*nameStats{"x": {count: 8, targets: three}}}, func(h habit) bool { return h.constant["x"] }, false},
		"says it of two fields":                {place{answers: 10, names: map[string]*nameStats{"x": {count: 10, targets: two}}}, func(h habit) bool { return h.constant["x"] }, false},
		"says it in too few answers":           {place{answers: few - 1, names: map[string]*nameStats{"x": {count: few - 1, targets: three}}}, func(h habit) bool { return h.constant["x"] }, false},
		"counts from 1, seen three times":      {place{one: 3}, func(h habit) bool { return h.fromOne }, true},
		"counts from 1, seen twice":            {place{one: 2}, func(h habit) bool { return h.fromOne }, false},
		"counts from 0 as well":                {place{one: 9, zero: 1}, func(h habit) bool { return h.fromOne }, false},
		"counts from 0 once in ten":            {place{one: 10, zero: 1}, func(h habit) bool { return h.fromOne }, true},
		"has pointers, which count from 0":     {place{one: 10, pointers: true}, func(h habit) bool { return h.fromOne }, false},
		"names nothing":                        {place{seen: few, targets: two}, func(h habit) bool { return h.neverNames }, true},
		"names nothing, in too few answers":    {place{seen: few - 1, targets: two}, func(h habit) bool { return h.neverNames }, false},
		"names nothing, of one field":          {place{seen: few, targets: map[field]bool{{pointer: "/a"}: true}}, func(h habit) bool { return h.neverNames }, false},
		"names a fifth":                        {place{seen: 10, hits: 2, targets: two}, func(h habit) bool { return h.neverNames }, false},
		"names a tenth, and others seldom":     {place{seen: 10, hits: 1, known: 4, targets: two}, func(h habit) bool { return h.neverNames }, true},
		"names a tenth, and others in half":    {place{seen: 10, hits: 1, known: 5, targets: two}, func(h habit) bool { return h.neverNames }, false},
		"names nothing, and is a list of them": {place{seen: few, targets: two, pointers: true}, func(h habit) bool { return h.neverNames }, false},
	} {
		if got := c.of(c.place.habit("/violations")); got != c.want {
			t.Errorf("%s: %v", name, got)
		}
	}
}

// TestListsOfNames: a list of several names is one of fields where it is called keys, has words
// next to it, and all of it are fields of the request.
func TestListsOfNames(t *testing.T) {
	for doc, want := range map[string]string{
		`{"issues":[{"message":"unknown","keys":["length_m","cargo"]}]}`:        "/issues/*/keys/*",
		`{"issues":[{"message":"unknown","keys":["length_m","other"]}]}`:        "",
		`{"issues":[{"message":"unknown","keys":["other"]}]}`:                   "",
		`{"issues":[{"message":"unknown","words":["other"],"keys":["other"]}]}`: "",
	} {
		v, err := instance.Decode([]byte(doc))
		if err != nil {
			t.Fatal(err)
		}
		if got := Read(v, vocabulary(t)).Where; got != want {
			t.Errorf("%s: %q, want %q", doc, got, want)
		}
	}
}

// TestPrefixes: what a name has before the path of a field, of several the shortest.
func TestPrefixes(t *testing.T) {
	for _, c := range []struct{ name, field, want string }{
		{"vessel.name", "/name", "/vessel"}, {"vessel.of.name", "/name", "/vessel/of"}, {"vessel.crew.0.name", "/crew/0/name", "/vessel"}, {"name", "/name", ""}, {"vessel.name", "/other", ""}, {"vessel.name", "", ""}, {"/vessel/name", "/name", "/vessel"}, {"name", "/vessel/name", ""},
	} {
		target, err := instance.Split(c.field)
		if err != nil {
			t.Fatal(err)
		}
		if got := key(ParseName(c.name).prefixOf(target)); got != c.want {
			t.Errorf("%s before %s: %q, want %q", c.name, c.field, got, c.want)
		}
	}
}

// TestAlikeHabits read answers in the same way, whatever shares they were learned from.
func TestAlikeHabits(t *testing.T) {
	base := func() habit {
		return habit{followsFlaw: true, rate: 80, pure: 70, members: []string{"/at"}, constant: map[string]bool{"x": true}, prefixes: map[string][]string{"POST /a": {"vessel"}, "POST /b": {"vessel"}}}
	}
	for name, c := range map[string]struct {
		change func(*habit)
		want   bool
	}{
		"the same": {func(*habit) {}, true}, "another share": {func(h *habit) { h.rate, h.pure = 10, 5 }, true}, "it agrees no more": {func(h *habit) { h.followsFlaw = false }, false}, "it names nothing": {func(h *habit) { h.neverNames = true }, false},
		"it hits nothing": {func(h *habit) { h.rate = 0 }, false}, "it counts from 1": {func(h *habit) { h.fromOne = true }, false}, "another member": {func(h *habit) { h.members = []string{"/of"} }, false}, "another constant": {func(h *habit) { h.constant = map[string]bool{"y": true} }, false},
		"another prefix": {func(h *habit) { h.prefixes["POST /a"] = []string{"body"} }, false}, "a prefix more": {func(h *habit) { h.prefixes["POST /c"] = []string{"vessel"} }, false}, "a prefix less": {func(h *habit) { delete(h.prefixes, "POST /b") }, false},
		"one for all": {func(h *habit) {
			h.prefixes = map[string][]string{"": {"vessel"}, "POST /a": {"vessel"}, "POST /b": {"vessel"}}
		}, false},
	} {
		other := base()
		if c.change(&other); base().alike(other) != c.want || other.alike(base()) != c.want {
			t.Errorf("%s: %v", name, !c.want)
		}
	}
	some := func(h habit) *Knowledge { return &Knowledge{habits: map[string]habit{"/errors/*/field": h}} }
	weaker := base()
	weaker.followsFlaw, weaker.rate = true, 20
	two := func(rate int) *Knowledge {
		return &Knowledge{habits: map[string]habit{"/a": {followsFlaw: true, rate: 50}, "/b": {followsFlaw: true, rate: rate}}}
	}
	for name, c := range map[string]struct {
		a, b *Knowledge
		want bool
	}{
		"the same": {some(base()), some(base()), true}, "another share": {some(base()), some(weaker), true}, "none": {nil, nil, true}, "one": {some(base()), nil, false}, "the other": {nil, some(base()), false}, "another place": {some(base()), &Knowledge{habits: map[string]habit{"/x": base()}}, false},
		"a place more": {some(base()), two(1), false}, "another order": {two(60), two(40), false}, "the same order": {two(60), two(70), true}, "equal ranks": {two(50), two(40), false},
	} {
		if got := c.a.Alike(c.b); got != c.want {
			t.Errorf("%s: %v", name, got)
		}
	}
}

// TestMembersOfNames: what a member of a named thing is called follows the notation.
func TestMembersOfNames(t *testing.T) {
	for name, want := range map[string]string{"/crew/0": "/crew/0/name", "crew[0]": "crew[0].name", "crew.0": "crew.0.name", "#/crew/0": "#/crew/0/name", "crew.": "crew.name", "/crew/": "/crew/name"} {
		child := ParseName(name).child("name")
		if child.Raw != want {
			t.Errorf("%s has %s, want %s", name, child.Raw, want)
		}
	}
	if child := ParseName("crew[0]").child("name"); child.Fits("/crew/0/name") != Exact {
		t.Errorf("%+v", child)
	}
}

// TestTheLastOfAPath is a name of the request by itself; an index is none.
func TestTheLastOfAPath(t *testing.T) {
	v := vocabulary(t)
	for name, want := range map[string]bool{"weight_t": true, "rank": true, "0": false, "other": false, "crew": true, "unexpected": true, "cargo.other": false} {
		if got := v.Has(ParseName(name)); got != want {
			t.Errorf("%s is of the request: %v", name, got)
		}
	}
}

// TestStandardMembersNameNothing: in a problem whose other members are fields, with what is wrong
// with them, the standard members are none.
func TestStandardMembersNameNothing(t *testing.T) {
	for member, want := range map[string]bool{"type": false, "title": false, "status": false, "detail": false, "instance": false, "cargo": true} {
		doc := map[string]any{"type": "about:blank", "title": "Invalid", "status": json.Number("422"), "name": []any{"is too short"}}
		doc[member] = []any{"is not right"}
		names := map[string]bool{}
		for _, r := range Places(any(doc), vocabulary(t)) {
			for _, n := range r.Fields {
				names[n.Name.Raw] = true
			}
		}
		if names[member] != want || !names["name"] {
			t.Errorf("with %s, named are %v", member, names)
		}
	}
}
