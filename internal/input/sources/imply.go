package sources

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/input/config"
	"obiter/internal/input/oad"
)

// Imply adds the fixtures that the description itself shows: a record of the
// collection that a path parameter is of, where a POST makes one and nothing in the
// file does. A DELETE deletes it again; where there is none, it stays as the other
// records of that POST do. References to such collections in bodies, as vessel_id to
// /vessels, are filled from the records made there.
func (c *Sources) Imply(doc *oad.Document) {
	c.found = nil
	defer func() { c.found = map[[2]string]found{} }()
	c.seeCreations(doc)
	c.seeSorts(doc)
	c.implyRecords(doc)
	c.implyReads(doc)
	c.implyLogin(doc)
	c.seeCredentials()
	c.refer(doc)
	c.seeChosen()
	c.nameRecords(doc)
	c.arrange()
}

// seeChosen notes which fixtures name their records themselves, and which have them addressed
// elsewhere than they are sent to.
func (c *Sources) seeChosen() {
	c.Fixtures = slices.Clone(c.Fixtures)
	for i, f := range c.Fixtures {
		if at, is := strings.CutPrefix(f.Keep[c.Key(f)], "$request.body#"); is && f.Chosen == "" {
			c.Fixtures[i].Chosen = at
		}
		_, sent, _ := strings.Cut(f.Send, " ")
		_, undo, _ := strings.Cut(f.Undo, " ")
		if of, named := strings.CutSuffix(bare(undo), "/{}"); named && f.Within == "" && !f.Reads && of != bare(sent) && !strings.HasPrefix(of, bare(sent)+"/{}") && strings.HasPrefix(f.Send, "POST ") {
			c.Fixtures[i].Within = of
		}
	}
}

// seeCreations notes which operations make records: a POST that documents a creation,
// or below which the description has what its parameter names.
func (c *Sources) seeCreations(doc *oad.Document) {
	c.creates = map[string]bool{}
	below := map[string]bool{}
	for _, o := range doc.Operations {
		if names := config.PathParameters(o.Path); len(names) > 0 {
			below[collection(o.Path, names[len(names)-1])] = true
		}
	}
	for _, o := range doc.Operations {
		c.creates[o.Name()] = o.Method == "POST" && (documents(o, "201") || below[bare(o.Path)])
	}
}

func documents(o oad.Operation, status string) bool {
	return slices.ContainsFunc(o.Responses, func(r oad.Response) bool { return r.Status == status })
}

// byAddress are the operations by method and bare path.
func byAddress(doc *oad.Document) map[string]oad.Operation {
	at := map[string]oad.Operation{}
	for _, o := range doc.Operations {
		if name := o.Method + " " + bare(o.Path); o.Skip == "" && at[name].Path == "" {
			at[name] = o
		}
	}
	return at
}

// implyReads adds fixtures that read what is there, for path parameters of collections
// in which nothing makes a record: to be read, and not to be changed.
func (c *Sources) implyReads(doc *oad.Document) {
	at := byAddress(doc)
	for _, o := range doc.Operations {
		for _, name := range config.PathParameters(o.Path) {
			s, ok := c.source(o.Name(), name, nil)
			if ok && !s.near {
				continue
			}
			of := collection(o.Path, name)
			if s.near && instance.Level(singular(of)) != refersTo(name) && !slices.Contains(general, instance.Level(name)) {
				continue // its name says that it is of the other one
			}
			list, reads := at["GET "+of]
			if !reads || of == bare(o.Path) {
				continue
			}
			f := config.Fixture{Send: list.Name(), Each: "run", Implied: true, Stays: true, Reads: true}
			kept := c.newKept(singular(list.Path), name)
			f.Name = c.newName(singular(list.Path))
			f.Keep = map[string]string{kept: listedAt(doc, list, name)}
			c.Fixtures = append(c.Fixtures, f)
		}
	}
}

// refresh adds rules to an operation by which fields have new values each time.
func (c *Sources) refresh(operation string, rules []config.Rule) {
	said := c.Operations[operation]
	for _, r := range rules {
		if !slices.ContainsFunc(c.RulesOf(operation), func(o config.Rule) bool { return o.Unique == r.Unique }) {
			said.Rules = append(slices.Clone(said.Rules), r)
			c.Operations[operation] = said
		}
	}
}

// Forget gives up fixtures that could not be made. What they were to make is read
// instead, where the description shows how: the fixtures that are added for it come back.
func (c *Sources) Forget(doc *oad.Document, failed []config.Fixture) []config.Fixture {
	c.found = nil
	defer func() { c.found = map[[2]string]found{} }()
	c.Fixtures = slices.Clone(c.Fixtures)
	for i, f := range c.Fixtures {
		c.Fixtures[i].Gone = f.Gone || slices.ContainsFunc(failed, func(o config.Fixture) bool { return o.Name == f.Name })
	}
	before := len(c.Fixtures)
	c.implyReads(doc)
	var added []config.Fixture
	for _, f := range c.Fixtures[before:] {
		if !slices.ContainsFunc(c.Fixtures[:before], func(o config.Fixture) bool { return o.Gone && o.Send == f.Send }) {
			added = append(added, f)
		}
	}
	c.Fixtures = append(c.Fixtures[:before:before], added...)
	return added
}

// newName is a name that no fixture has yet, and newKept one that no value is kept as.
func (c *Sources) newName(like string) string {
	name := like
	for n := 2; c.named(name); n++ {
		name = fmt.Sprintf("%s %d", like, n)
	}
	return name
}

func (c *Sources) newKept(record, key string) string {
	kept := keptName(record, key)
	for c.keeps(kept) || c.set(kept) {
		kept += "_made"
	}
	return kept
}

// implyRecords adds the fixtures of records that nothing makes.
func (c *Sources) implyRecords(doc *oad.Document) {
	at := byAddress(doc)
	for _, o := range doc.Operations {
		for _, name := range config.PathParameters(o.Path) {
			if s, ok := c.source(o.Name(), name, nil); ok && (s.made || s.text != nil) {
				continue
			}
			if f, ok := c.implied(doc, at, o.Path, name); ok {
				c.Fixtures = append(c.Fixtures, f)
				c.refresh(f.Send, f.Rules) // so that no record of the tried requests is in its way
			}
		}
	}
}

// Makes are the operations that make records for others, in the order in which they
// are sent, of those that the given operations need.
func (c *Sources) Makes(operations []string) []string {
	var out []string
	for _, f := range c.Needed(operations) {
		if _, made := makes(f); made && !slices.Contains(out, f.Send) {
			out = append(out, f.Send)
		}
	}
	return out
}

// Stay are the operations whose records nothing deletes: each POST that documents
// a creation, and has no undo.
func (c *Sources) Stay(operations []oad.Operation) []string {
	var out []string
	for _, o := range operations {
		if o.Method != "POST" || !documents(o, "201") {
			continue
		}
		if f, made := c.Maker(o.Name()); made && (f.Stays || f.Undo != "") {
			continue
		}
		out = append(out, o.Name())
	}
	return out
}

// tokenMade is the name of the token that a log-in keeps which the description shows.
const tokenMade = "TOKEN_MADE"

// implyLogin logs in where the file has no credentials and the description shows how:
// an operation that needs none and answers with a token.
func (c *Sources) implyLogin(doc *oad.Document) {
	door, ok := signIn(doc)
	if !ok || len(c.Credentials) > 0 {
		return
	}
	expression := door.Keep[instance.Names(anyOf(door.Keep))[0]]
	i := slices.IndexFunc(c.Fixtures, func(f config.Fixture) bool { return f.Send == door.Send && f.Implied })
	if i < 0 {
		door.Name, door.Implied, door.Each, door.Keep = "log-in", true, "run", map[string]string{}
		c.Fixtures = append(c.Fixtures, door)
		i = len(c.Fixtures) - 1
	}
	c.Fixtures[i].Keep = maps.Clone(c.Fixtures[i].Keep)
	c.Fixtures[i].Keep[tokenMade] = expression
	for _, s := range doc.Schemes() {
		if s.Kind == "bearer" {
			if c.Credentials == nil {
				c.Credentials = map[string]string{}
			}
			c.Credentials[s.Name] = "${" + tokenMade + "}"
		}
	}
}

// removerBelow is the DELETE of a record that is created at a path; without a path where there is
// none. Several parameters may name it.
func removerBelow(at map[string]oad.Operation, root string) (remove oad.Operation) {
	for below := root + "/{}"; remove.Path == "" && strings.Count(below, "{}") <= strings.Count(root, "{}")+maxNames; below += "/{}" {
		remove = at["DELETE "+below]
	}
	return remove
}

// implied is the fixture that makes a record for a path parameter; false where the
// description does not show how. at are the operations by method and bare path. Several
// parameters that follow one another name one record: /tags/{type}/{value}.
func (c *Sources) implied(doc *oad.Document, at map[string]oad.Operation, path, parameter string) (config.Fixture, bool) {
	of := collection(path, parameter)
	root := of
	for at["POST "+root].Path == "" && strings.HasSuffix(root, "/{}") {
		root = strings.TrimSuffix(root, "/{}")
	}
	create, within := at["POST "+root], ""
	if create.Path == "" {
		if create = namesake(doc, at, of); create.Path == "" {
			return c.putThere(doc, at, of, parameter)
		}
		root, within = of, of
	}
	if doingWord(create) != "" && !c.Operations[create.Name()].Allow || within != "" && c.sorts.of != nil && !c.Creates(create.Name()) {
		return config.Fixture{}, false // it does something to what is there
	}
	remove := removerBelow(at, root)
	if of != root && strings.Count(bare(remove.Path), "{}") <= strings.Count(of, "{}") {
		return config.Fixture{}, false // it is not one of the names of the record
	}
	keys := []string{parameter}
	if remove.Path != "" {
		names, before := config.PathParameters(remove.Path), len(config.PathParameters(create.Path))
		if within != "" {
			before = len(names) - 1
		}
		if len(names) <= before {
			return config.Fixture{}, false // a template without a name
		}
		if within == "" {
			keys = names[before:]
		}
	}
	record := singular(create.Path)
	f := config.Fixture{Name: c.newName(record), Send: create.Name(), Each: "run", Implied: true, Keep: map[string]string{}, Within: within}
	if remove.Path != "" { // else it stays, as the other records of that POST do
		f.Undo, f.UndoParameters = remove.Name(), config.Parameters{"path": {}}
	}
	numbered := numeric(doc, at, of, keys[0])
	for i, key := range keys {
		kept := c.newKept(record, key)
		if len(keys) > 1 { // then they stand in for parameters of their names
			if kept = key; c.keeps(key) {
				kept = ownName(f, key)
			}
		}
		f.Keep[kept] = keptAt(doc, create, key)
		field, free, natural := naturalKey(doc, create, key, len(keys) == 1 && !numbered)
		if natural && i == len(keys)-1 {
			f.Chosen, f.Guessed = field, field != instance.Join("", key)
		}
		if natural && (len(keys) > 1 || !locates(create)) {
			if i == len(keys)-1 && free { // those before it may refer to other records
				f.Rules = append(f.Rules, config.Rule{Unique: field, Fresh: true, Inferred: true})
			}
			if f.Keep[kept] == AtLocation {
				f.Keep[kept] = "$request.body#" + field
			}
		}
		if len(keys) > 1 && f.Keep[kept] == AtLocation {
			return config.Fixture{}, false // which of its names a Location ends with is not said
		}
		if remove.Path != "" {
			f.UndoParameters["path"][key] = "${" + kept + "}"
		}
	}
	return f, true
}

// putThere is the fixture that creates a record by a PUT to an address that nothing has; false
// where the description has none, or nothing that shows what is there.
func (c *Sources) putThere(doc *oad.Document, at map[string]oad.Operation, of, parameter string) (config.Fixture, bool) {
	put, remove := at["PUT "+of+"/{}"], at["DELETE "+of+"/{}"]
	_, reads := at["GET "+of+"/{}"]
	list, lists := at["GET "+of]
	f := config.Fixture{Send: put.Name(), Each: "run", Implied: true, Keep: map[string]string{}}
	if f.Names = f.NamesNew(); f.Names == "" || !reads && !(lists && mayList(doc, list)) || !freeName(doc, put, f.Names) {
		return config.Fixture{}, false
	}
	f.Name = c.newName(singular(of))
	kept := c.newKept(singular(of), parameter)
	f.Keep[kept] = "$request.path." + f.Names
	if remove.Path != "" {
		names := config.PathParameters(remove.Path)
		f.Undo, f.UndoParameters = remove.Name(), config.Parameters{"path": {names[len(names)-1]: "${" + kept + "}"}}
	}
	return f, true
}

// freeName reports whether a path parameter may have any value: none of a few.
func freeName(doc *oad.Document, o oad.Operation, name string) bool {
	for _, p := range o.Parameters {
		if p.In == "path" && p.Name == name {
			_, v, err := doc.Resolve(p.Schema)
			schema, _ := v.(map[string]any)
			return err == nil && schema["enum"] == nil && schema["const"] == nil && schema["type"] != "boolean"
		}
	}
	return false
}

// namesake is the POST whose records may be addressed in a collection at another address, by its
// name: /defects for POST /vehicles/{n}/defects, /mute for POST /mutes. Whether they are shows
// when one is created.
func namesake(doc *oad.Document, at map[string]oad.Operation, of string) oad.Operation {
	if strings.HasSuffix(of, "}") || of == "" {
		return oad.Operation{}
	}
	for _, o := range doc.Operations {
		if o.Method == "POST" && o.Skip == "" && !strings.HasSuffix(o.Path, "}") && instance.Level(singular(o.Path)) == instance.Level(singular(of)) && len(config.PathParameters(of)) == 0 && strings.Count(of, "{}") == 0 {
			return o
		}
	}
	return oad.Operation{}
}

// maxNames is how many path parameters name one record at most.
const maxNames = 3

// naturalKey is the field of a new record's body that the record is known by, where
// whoever makes it chooses: one of the parameter's name; or a name, where the parameter
// is no number and names the record alone. It is free where the value is not one of a
// few.
func naturalKey(doc *oad.Document, create oad.Operation, parameter string, alone bool) (field string, free, ok bool) {
	if create.Body == nil {
		return "", false, false
	}
	properties := propertiesOf(doc, create)
	candidates := []string{parameter}
	if l := instance.Level(parameter); alone && !strings.HasSuffix(l, "id") && !strings.HasSuffix(l, "no") && l != "number" {
		candidates = append(candidates, "name", "key", "slug", "code", "value")
	}
	for i, name := range candidates {
		property, _ := properties[name].(map[string]any)
		free := property["enum"] == nil && property["const"] == nil
		if property["type"] == "string" && property["readOnly"] != true && (free || i == 0) {
			return instance.Join("", name), free, true
		}
	}
	return "", false, false
}

// numeric reports whether a path parameter of a collection is a number.
func numeric(doc *oad.Document, at map[string]oad.Operation, of, name string) bool {
	for _, method := range []string{"GET", "DELETE", "PUT", "PATCH"} {
		for _, p := range at[method+" "+of+"/{}"].Parameters {
			if p.In != "path" || p.Name != name {
				continue
			}
			_, v, err := doc.Resolve(p.Schema)
			schema, _ := v.(map[string]any)
			return err == nil && (schema["type"] == "integer" || schema["type"] == "number")
		}
	}
	return false
}

// general are names of parameters that do not say of what they are.
var general = []string{"id", "uuid", "guid", "key", "slug", "ref", "code", "name", "number", "no"}

// keptName is what the id of a record is kept as: vessel_id, of a vessel by {vessel_id}
// or by {id}.
func keptName(record, key string) string {
	name := key
	if slices.Contains(general, instance.Level(key)) {
		name = record + "_" + key
	}
	return identifier(name)
}

// identifier is a name that ${NAME} can have.
func identifier(name string) string {
	return strings.Trim(strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' {
			return r
		}
		return '_'
	}, name), "_0123456789")
}

// set reports whether the environment has a variable of the name.
func (c *Sources) set(name string) bool {
	if c.Env == nil {
		return false
	}
	_, is := c.Env(name)
	return is
}

func (c *Sources) named(name string) bool {
	return slices.ContainsFunc(c.Fixtures, func(f config.Fixture) bool { return f.Name == name })
}

func (c *Sources) keeps(name string) bool {
	return slices.ContainsFunc(c.Fixtures, func(f config.Fixture) bool { _, has := f.Keep[name]; return has })
}

// refer fills the members of bodies that refer to records which fixtures make.
func (c *Sources) refer(doc *oad.Document) {
	for _, o := range doc.Operations {
		if o.Body == nil || o.Skip != "" {
			continue
		}
		refs := c.referring(doc, o)
		if len(refs) == 0 {
			continue
		}
		said := c.Operations[o.Name()]
		said.Body = mergeUnder(said.Body, refs)
		c.Operations[o.Name()] = said
		for i, f := range c.Fixtures {
			if f.Send != o.Name() || f.Body != nil {
				continue
			}
			body := map[string]any{}
			for name, v := range refs {
				if by := c.fixtureKeeping(config.References(v)); by != nil && !c.dependsOn(*by, f, map[string]bool{}) {
					body[name] = v
				}
			}
			if len(body) > 0 {
				c.Fixtures[i].Body = body
			}
		}
	}
}

// mergeUnder is what the file says of a body, over other members.
func mergeUnder(said any, members map[string]any) any {
	object, is := said.(map[string]any)
	if said != nil && !is || len(members) == 0 {
		return said
	}
	out := maps.Clone(members)
	maps.Copy(out, object)
	return out
}

// fixtureKeeping is the fixture that keeps the first of the names; nil where none does.
func (c *Sources) fixtureKeeping(names []string) *config.Fixture {
	for i, f := range c.Fixtures {
		if _, has := f.Keep[names[0]]; has && !f.Gone {
			return &c.Fixtures[i]
		}
	}
	return nil
}

// dependsOn reports whether a fixture needs another, by whatever others it needs.
func (c *Sources) dependsOn(f, other config.Fixture, seen map[string]bool) bool {
	if f.Name == other.Name {
		return true
	}
	if seen[f.Name] {
		return false
	}
	seen[f.Name] = true
	for _, name := range append(config.References(f.Body), c.sources(f.Send, f.Parameters)...) {
		if by := c.fixtureKeeping([]string{name}); by != nil && c.dependsOn(*by, other, seen) {
			return true
		}
	}
	return false
}

// referring are the members of an operation's body whose names say that they refer
// to a record of a collection in which a fixture makes one.
func (c *Sources) referring(doc *oad.Document, o oad.Operation) map[string]any {
	out := map[string]any{}
	properties := propertiesOf(doc, o)
	for _, name := range instance.Names(properties) {
		stem, isReference := stemOf(name)
		property, _ := properties[name].(map[string]any)
		if !isReference || property["readOnly"] == true || property["enum"] != nil || property["const"] != nil {
			continue
		}
		for _, f := range c.Fixtures {
			at, made := makes(f)
			_, path, _ := strings.Cut(f.Send, " ")
			if !made || c.Key(f) == "" || instance.Level(singular(path)) != stem || at == bare(o.Path) {
				continue
			}
			kept := c.Key(f)
			if _, has := f.Keep[name]; has {
				kept = name
			}
			var v any = "${" + kept + "}"
			if property["type"] == "array" || strings.HasSuffix(strings.ToLower(name), "ids") {
				v = []any{v}
			}
			out[name] = v
			break
		}
	}
	return out
}

// propertiesOf are the properties of an operation's JSON body, as far as its schema
// says them at the top.
func propertiesOf(doc *oad.Document, o oad.Operation) map[string]any {
	out := map[string]any{}
	for _, m := range o.Body.Media {
		if !exchange.IsJSON(m.Type) {
			continue
		}
		_, v, err := doc.Resolve(m.Schema)
		object, _ := v.(map[string]any)
		if properties, is := object["properties"].(map[string]any); is && err == nil {
			maps.Copy(out, properties)
		}
	}
	return out
}

// endings are those of the names of members that refer to a record.
var endings = []string{"ids", "id", "uuids", "uuid", "refs", "ref"}

// IsReference reports whether a member's name says that it refers to a record.
func IsReference(name string) bool {
	_, is := stemOf(name)
	return is
}

// stemOf is what a member's name says that it refers to: vessel for vessel_id, for
// vesselId and for vessel_ids. False where the name has no such ending.
func stemOf(name string) (string, bool) {
	for _, ending := range endings {
		if stem, ok := strings.CutSuffix(strings.ToLower(name), ending); ok && len(stem) > 1 {
			parted := strings.HasSuffix(stem, "_") || strings.HasSuffix(stem, "-") || name[len(stem)] >= 'A' && name[len(stem)] <= 'Z'
			if parted {
				return instance.Level(stem), true
			}
		}
	}
	return "", false
}

// refersTo is what a path parameter's name says that it is of: feature for featureName
// and for feature_id, project for project.
func refersTo(parameter string) string {
	if stem, ok := stemOf(parameter); ok {
		return stem
	}
	l := instance.Level(parameter)
	if stem, ok := strings.CutSuffix(l, "name"); ok && stem != "" {
		return stem
	}
	return l
}

// arrange puts each fixture behind those whose values it needs, and those that all may
// need first; what is in a circle stays as it is.
func (c *Sources) arrange() {
	var out []config.Fixture
	placed := map[string]bool{}
	early := c.givers()
	needs := map[string][]string{} // by a fixture's name, the fixtures whose values it takes
	for _, f := range c.Fixtures {
		for _, name := range append(config.References(f.Body), c.sources(f.Send, f.Parameters)...) {
			if by := c.fixtureKeeping([]string{name}); by != nil && by.Name != f.Name {
				needs[f.Name] = append(needs[f.Name], by.Name)
			}
		}
	}
	for len(out) < len(c.Fixtures) {
		ready := func(f config.Fixture) bool {
			return !placed[f.Name] && !slices.ContainsFunc(needs[f.Name], func(name string) bool { return !placed[name] })
		}
		i := slices.IndexFunc(c.Fixtures, func(f config.Fixture) bool { return early[f.Name] && ready(f) })
		if i < 0 {
			i = slices.IndexFunc(c.Fixtures, ready)
		}
		if i < 0 {
			i = slices.IndexFunc(c.Fixtures, func(f config.Fixture) bool { return !placed[f.Name] })
		}
		placed[c.Fixtures[i].Name] = true
		out = append(out, c.Fixtures[i])
	}
	c.Fixtures = out
}
