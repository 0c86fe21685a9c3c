package plan_test

import (
	"fmt"
	"strings"
	"testing"

	"obiter/internal/generate/flaw"
	"obiter/internal/generate/plan"
	"obiter/internal/input/oad"
)

// TestShards: each case is in one shard, those of one collection in the same; what can be
// even is even; and a case is the same wherever it is sent from.
func TestShards(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long, and nothing of it is done side by side")
	}
	const one = "{type: object, required: [name], properties: {name: {type: string, minLength: 2, maxLength: 9}}}"
	var paths strings.Builder
	for i := range 12 {
		fmt.Fprintf(&paths, "  /quays/{q}/bollards%d:\n    parameters: [{name: q, in: path, required: true, schema: {type: integer}}]\n    post: {requestBody: {required: true, content: {application/json: {schema: %s}}}, responses: {'201': {description: made}}}\n", i, one)
		fmt.Fprintf(&paths, "  /quays/{q}/bollards%d/{b}:\n    parameters: [{name: q, in: path, required: true, schema: {type: integer}}, {name: b, in: path, required: true, schema: {type: integer}}]\n    get: {responses: {'200': {description: ok}}}\n", i)
		fmt.Fprintf(&paths, "  /quays/{q}/bollards%d/{b}/paint:\n    parameters: [{name: q, in: path, required: true, schema: {type: integer}}, {name: b, in: path, required: true, schema: {type: integer}}]\n    put: {requestBody: {required: true, content: {application/json: {schema: %s}}}, responses: {'200': {description: ok}}}\n", i, one)
	}
	doc, err := oad.Read("quays.yaml", []byte("openapi: 3.1.0\ninfo: {title: Quays, version: '1'}\npaths:\n"+paths.String()))
	if err != nil {
		t.Fatal(err)
	}
	opt := plan.Options{Depth: flaw.Usual, Base: "http://h"}
	whole := map[string]string{}
	for _, c := range cases(t, doc, opt) {
		whole[c.ID] = fmt.Sprintf("%d %s %+v", c.Number, c.Name, c.Request)
	}
	for _, of := range []int{1, 2, 5, 40} {
		shardOf := map[string]int{} // by collection
		seen, most, least := map[string]bool{}, 0, len(whole)
		for i := 1; i <= of; i++ {
			p, err := plan.New(doc, opt)
			if err != nil {
				t.Fatal(err)
			}
			opt := opt
			opt.Within = p.Within(plan.Shard{Index: i, Of: of}, 2)
			n := 0
			if len(opt.Within) > 0 {
				for _, c := range cases(t, doc, opt) {
					if n++; seen[c.ID] || whole[c.ID] != fmt.Sprintf("%d %s %+v", c.Number, c.Name, c.Request) {
						t.Errorf("%d/%d: %s is there twice, or another one: %d %s %+v", i, of, c.ID, c.Number, c.Name, c.Request)
					}
					seen[c.ID] = true
				}
			}
			most, least = max(most, n), min(least, n)
			for name := range opt.Within {
				_, path, _ := strings.Cut(name, " ")
				parts := strings.Split(path, "/")
				if len(parts) < 4 {
					continue
				}
				if at, has := shardOf[parts[3]]; has && at != i {
					t.Errorf("%s is in %d/%d, others of its collection in %d", name, i, of, at)
				}
				shardOf[parts[3]] = i
			}
		}
		if len(seen) != len(whole) {
			t.Errorf("%d shards have %d cases of %d", of, len(seen), len(whole))
		}
		if of < 6 && most-least > len(whole)/12+10 {
			t.Errorf("%d shards have from %d to %d cases", of, least, most)
		}
	}
	for text, want := range map[string]bool{"2/5": true, "1/1": true, "5/5": true, "0/5": false, "6/5": false, "2/5x": false, "02/5": false, "-1/5": false, "": false, "2": false, "1/1001": false} {
		if s, ok := plan.ParseShard(text); ok != want || ok && s.String() != text {
			t.Errorf("%q is %v, %v", text, s, ok)
		}
	}
}
