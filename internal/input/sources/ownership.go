package sources

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/input/config"
	"obiter/internal/input/oad"
)

// sort is what a POST does, as far as it is known.
type sort int

const (
	action   sort = iota // it changes what is there
	creation             // it creates a record
	setting              // it changes what there is one of
)

// sorts are those of the operations of a description.
type sorts struct {
	of      map[string]sort
	listed  map[string]bool   // creations that a list or a path below shows, whatever is in the address
	word    map[string]string // the word by which an operation is an action
	readers map[string]string // the paths of GETs, by these with {} for each parameter
	single  map[string]bool   // addresses without parameters at which GET answers one object
	ownID   map[string]string // the pointers at which bodies of creations would name the new record
	unnamed map[string]place  // where operations name records that nothing tells
	several map[string]bool   // operations that change several records at once, all of this run
	decided map[string]bool   // operations of which something in the query or body decides which records they change
}

// Doubt notes that the record of a fixture may not be changed, and why: it was not seen that
// this run created it.
func (c *Sources) Doubt(f config.Fixture, why string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.doubts == nil {
		c.doubts = map[string]string{}
	}
	c.doubts[f.Name] = why
}

func (c *Sources) doubted(fixture string) string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.doubts[fixture]
}

// doing are the first words of operations that do something to what is there.
var doing = []string{"abort", "activate", "apply", "approve", "archive", "ban", "block", "cancel", "clear", "close", "complete", "confirm", "deactivate", "decline", "delete", "deploy", "destroy", "detach", "disable", "dismiss", "drop", "empty", "enable", "execute", "expire", "flush", "import", "invalidate", "kill", "lock", "merge", "migrate", "pause", "publish", "purge", "reboot", "rebuild", "reindex", "reject", "reload", "remove", "rename", "reset", "restart", "restore", "resume", "retry", "revert", "revoke", "rollback", "rotate", "run", "shutdown", "stop", "suspend", "sync", "synchronize", "terminate", "toggle", "trigger", "truncate", "unblock", "unlock", "unpublish", "update", "wipe"}

var wordsOf = regexp.MustCompile(`[A-Z]+(?:[a-z]+)?|[a-z]+`)

// doingWord is the word that makes an operation an action: the first or last of the end of its
// path, or the first of its operationId; "" where there is none.
func doingWord(o oad.Operation) string {
	end := o.Path[strings.LastIndexByte(o.Path, '/')+1:]
	end = end[strings.LastIndexByte(end, '}')+1:] // {id}:cancel
	all := wordsOf.FindAllString(end, -1)
	var candidates []string
	if len(all) > 0 {
		candidates = append(candidates, all[0], all[len(all)-1])
	}
	if named := wordsOf.FindAllString(o.ID, -1); len(named) > 0 {
		candidates = append(candidates, named[0])
	}
	for _, word := range candidates {
		if slices.Contains(doing, strings.ToLower(word)) {
			return strings.ToLower(word)
		}
	}
	return ""
}

// seeSorts notes what each POST of the description does: it creates a record where GET of its
// address lists records or a path with an id lies below, where it documents 201, and where a
// documented answer has a member that is called like the path parameter of another operation,
// or a token.
func (c *Sources) seeSorts(doc *oad.Document) {
	c.sorts = sorts{of: map[string]sort{}, listed: map[string]bool{}, word: map[string]string{}, readers: map[string]string{}, single: map[string]bool{}, ownID: map[string]string{}}
	below, named := map[string]string{}, map[string]bool{}
	at := byAddress(doc)
	for _, o := range doc.Operations {
		for _, name := range config.PathParameters(o.Path) {
			below[collection(o.Path, name)] = name
			if !slices.Contains(general, instance.Level(name)) {
				named[instance.Level(name)] = true
			}
		}
	}
	for _, o := range doc.Operations {
		if o.Method == "GET" && o.Skip == "" && c.sorts.readers[bare(o.Path)] == "" {
			c.sorts.readers[bare(o.Path)] = o.Path
			c.sorts.single[bare(o.Path)] = !strings.Contains(o.Path, "{") && !mayList(doc, o)
		}
		if o.Method != "POST" {
			continue
		}
		if word := doingWord(o); word != "" {
			c.sorts.word[o.Name()] = word
			continue
		}
		reader, reads := at["GET "+bare(o.Path)]
		lists := reads && mayList(doc, reader)
		switch {
		case lists, below[bare(o.Path)] != "":
			c.sorts.of[o.Name()], c.sorts.listed[o.Name()] = creation, true
		case documents(o, "201"), answersWith(doc, o, named):
			c.sorts.of[o.Name()] = creation
		case reads:
			c.sorts.of[o.Name()] = setting
		}
		if c.sorts.of[o.Name()] == creation {
			c.sorts.ownID[o.Name()] = ownID(doc, o, below[bare(o.Path)])
		}
	}
}

// mayList reports whether the documented answers of a GET are lists, or nothing says what they
// are.
func mayList(doc *oad.Document, o oad.Operation) bool {
	described := false
	for _, m := range successes(o) {
		at, v, err := doc.Resolve(m.Schema)
		object, _ := v.(map[string]any)
		if err != nil || object == nil {
			continue
		}
		described = true
		if isList(object) {
			return true
		}
		properties, _ := object["properties"].(map[string]any)
		for name := range properties {
			inner := at
			inner.Pointer += "/properties/" + strings.NewReplacer("~", "~0", "/", "~1").Replace(name)
			if _, v, err := doc.Resolve(inner); err == nil && isList(v) {
				return true
			}
		}
		if len(properties) == 0 {
			return true
		}
	}
	return !described
}

// answersWith reports whether a documented success has a member of one of the names, or a token.
func answersWith(doc *oad.Document, o oad.Operation, names map[string]bool) bool {
	for _, properties := range answered(doc, o) {
		for name := range properties {
			if names[instance.Level(name)] || slices.Contains(tokenNames, name) {
				return true
			}
		}
	}
	return false
}

// notOwn is Foreign of a POST that is allowed to change what is there.
func (c *Sources) notOwn(operation string, names []string) string {
	if c.Reach(operation) == nil {
		return ""
	}
	if len(names) > 0 {
		if s, _ := c.source(operation, names[len(names)-1], nil); !s.own() {
			return fmt.Sprintf("it changes the record of {%s}, which this run did not create; name one that may be changed: operations: { %s: { path: { %[1]s: … } } } in obiter.yaml", names[len(names)-1], operation)
		}
	}
	return c.unreached(operation)
}

// Foreign tells why an operation may change or delete what this run did not create; "" where
// it does not, or is allowed to. The record that its address names last has to be created by
// this run, or, with PUT and PATCH, be named by the file for this very operation; whatever lies
// before may be of others.
func (c *Sources) Foreign(operation string) string {
	method, path, _ := strings.Cut(operation, " ")
	if !slices.Contains([]string{"POST", "PUT", "PATCH", "DELETE"}, method) {
		return ""
	}
	allowed := c.Operations[operation].Allow
	allow := fmt.Sprintf("operations: { %s: { allow: true } } in obiter.yaml", operation)
	names := config.PathParameters(operation)
	switch {
	case method == "POST" && allowed:
		return c.notOwn(operation, names)
	case method == "POST":
		return c.notCreating(operation, names, allow)
	case len(names) == 0 && (allowed || c.sorts.several[operation]):
		return c.unreached(operation)
	case len(names) == 0:
		return "it changes what is there for everyone; if it may: " + allow
	}
	name := names[len(names)-1]
	s, _ := c.source(operation, name, nil)
	at := strings.ReplaceAll(collection(path, name), "{}", "{…}")
	switch {
	case s.named && method == "DELETE" && !allowed && !c.allMade(s.text):
		return fmt.Sprintf("a DELETE is sent only to records that this run created; if the one that path: names may be deleted: %s", allow)
	case s.named:
		return ""
	case s.made && c.doubted(s.by) != "":
		return c.doubted(s.by)
	case s.made && c.madeWithin(operation, names[:len(names)-1], s):
		return ""
	}
	return fmt.Sprintf("a %s is sent only to records that this run created, and no fixture creates {%s} by POST %s; or name one that may be changed: operations: { %s: { path: { %s: … } } } in obiter.yaml", method, name, at, operation, name)
}

// notCreating says why a POST is not sent: nothing shows that it creates a record.
func (c *Sources) notCreating(operation string, names []string, allow string) string {
	if c.sorts.of == nil || c.sampled[operation] || slices.ContainsFunc(c.Fixtures, func(f config.Fixture) bool { return f.Send == operation && !f.Implied }) {
		return ""
	}
	if word := c.sorts.word[operation]; word != "" {
		return fmt.Sprintf("its name says that it does something to what is there (%s); if it may be sent: %s", word, allow)
	}
	is := c.sorts.of[operation]
	if _, known := c.sorts.of[operation]; known && is == setting {
		return "it changes what is there for everyone; if it may: " + allow
	}
	if is == creation && !c.sorts.listed[operation] {
		for _, name := range names {
			if s, _ := c.source(operation, name, nil); !s.own() {
				return fmt.Sprintf("it may change the record of {%s}, which this run did not create, for nothing lists what it creates; if it may be sent: %s", name, allow)
			}
		}
	}
	if is == creation {
		return ""
	}
	return "nothing in the description shows that it creates a record, so it may change what is there; if it may be sent: " + allow
}

// Sample says that somebody gave a sample of an operation's body, to have it sent: that it may be.
func (c *Sources) Sample(operation string) {
	if c.sampled == nil {
		c.sampled = map[string]bool{}
	}
	c.sampled[operation] = true
}

// Target is what the address of a request that changes or deletes something names last.
type Target struct {
	Parameter string            // "" where there is none in the path
	Named     string            // by the file, for this operation; "" where it is not
	Text      any               // what the file says there
	Fixture   string            // that creates the record
	Maker     string            // the operation by which
	Keys      map[string]string // the parameters that name the record, with what their values are kept as
	Under     string            // the part of the path, with {}, that the record is created at and addressed below
	Allowed   bool              // the file says allow: true
}

// TargetOf tells what a request of an operation changes.
func (c *Sources) TargetOf(operation string) Target {
	_, path, _ := strings.Cut(operation, " ")
	t := Target{Allowed: c.Operations[operation].Allow}
	names := config.PathParameters(operation)
	if len(names) == 0 {
		return t
	}
	t.Parameter = names[len(names)-1]
	s, _ := c.source(operation, t.Parameter, nil)
	if s.named {
		t.Named, t.Text = t.Parameter, s.text
	}
	f := c.fixtureKeeping([]string{s.kept})
	if s.named {
		if refs := config.References(s.text); len(refs) == 1 {
			f = c.fixtureKeeping(refs)
		} else {
			f = nil
		}
	}
	if f == nil || !s.made && !s.named {
		return t
	}
	at, made := makes(*f)
	if !made {
		return t
	}
	t.Fixture, t.Maker, t.Keys = f.Name, f.Send, map[string]string{}
	for _, name := range names {
		o, _ := c.source(operation, name, nil)
		kept := o.kept
		if refs := config.References(o.text); o.named && len(refs) == 1 {
			kept = refs[0]
		}
		if _, keeps := f.Keep[kept]; keeps && kept != "" {
			t.Keys[name] = kept
		}
	}
	_, sentTo, _ := strings.Cut(f.Send, " ")
	if strings.HasPrefix(bare(path)+"/", bare(sentTo)+"/") && f.Within == "" && at == bare(sentTo) {
		t.Under = bare(sentTo)
	}
	return t
}

// Creates reports whether the description shows that an operation creates records.
func (c *Sources) Creates(operation string) bool { return c.sorts.of[operation] == creation }

// Supposed reports whether it is only the description that shows that a POST creates records: what
// it answers has to show it, too.
func (c *Sources) Supposed(operation string) bool {
	return c.Creates(operation) && !c.Operations[operation].Allow && !c.sampled[operation] &&
		!slices.ContainsFunc(c.Fixtures, func(f config.Fixture) bool { return f.Send == operation && !f.Implied })
}

// TokenNames are what answers call a token that opens the door.
func TokenNames() []string { return tokenNames }

// FixtureOf is the fixture that creates a target; false where none does.
func (c *Sources) FixtureOf(t Target) (config.Fixture, bool) {
	i := slices.IndexFunc(c.Fixtures, func(f config.Fixture) bool { return f.Name == t.Fixture && t.Fixture != "" })
	if i < 0 {
		return config.Fixture{}, false
	}
	return c.Fixtures[i], true
}

// Reader is the GET that shows the record of a fixture, with the values of its path; false where
// none is described, or it is not known which record it is.
func (c *Sources) Reader(f config.Fixture, values map[string]any) (operation string, path map[string]any, ok bool) {
	at, _ := makes(f)
	_, undo, _ := strings.Cut(f.Undo, " ")
	own := c.undoing(f)
	template := bare(undo)
	if f.Undo == "" {
		template = at + "/{}"
	}
	reader, described := c.sorts.readers[template]
	if !described {
		return "", nil, false
	}
	var given map[string]any
	if f.Undo != "" {
		given = c.Given(f.Undo, own, values)["path"]
	}
	out := map[string]any{}
	undone := config.PathParameters(undo)
	for i, name := range config.PathParameters(reader) {
		v, has := any(nil), false
		if f.Undo != "" {
			v, has = given[undone[i]]
		} else if key := c.Key(f); i == strings.Count(template, "{}")-1 && key != "" {
			v, has = values[key]
		} else if s, known := c.source("GET "+reader, name, f.Parameters); known && s.kept != "" {
			v, has = values[s.kept]
		} else if known {
			v, has = c.Expand(s.text, values), true
		}
		if !has {
			return "", nil, false
		}
		out[name] = v
	}
	return "GET " + reader, out, true
}

// IDNames are what answers may call the id of a fixture's record: the parameters of what deletes
// it, and the names under which it is kept.
func (c *Sources) IDNames(f config.Fixture) []string {
	names := config.PathParameters(f.Undo)
	if len(names) > 0 {
		names = names[len(names)-1:]
	}
	return append(names, c.Key(f))
}
