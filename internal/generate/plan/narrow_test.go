package plan_test

import (
	"testing"

	"obiter/internal/core/instance"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/plan"
)

// TestMembersAreLeftOut as far as the request is valid without them.
func TestMembersAreLeftOut(t *testing.T) {
	doc := oddities(t, `{"type":"object","required":["name"],"minProperties":2,"dependentRequired":{"colour":["shade"]},
		"properties":{"name":{"const":"Quay"},"colour":{"const":"red"},"shade":{"const":"dark"},"depth":{"const":4}}}`)
	for _, x := range []struct {
		leave []string
		want  string
	}{
		{nil, `{"colour":"red","depth":4,"name":"Quay","shade":"dark"}`},
		{[]string{"/depth"}, `{"colour":"red","name":"Quay","shade":"dark"}`},
		{[]string{"/shade", "/colour"}, `{"depth":4,"name":"Quay"}`},
		{[]string{"/shade"}, `{"colour":"red","depth":4,"name":"Quay","shade":"dark"}`},
		{[]string{"/shade", "/depth"}, `{"colour":"red","name":"Quay","shade":"dark"}`},
		{[]string{"/depth", "/colour", "/shade"}, `{"name":"Quay","shade":"dark"}`},
		{[]string{"/none"}, `{"colour":"red","depth":4,"name":"Quay","shade":"dark"}`},
	} {
		leave := map[string][]plan.Member{}
		for _, at := range x.leave {
			leave["POST /quays"] = append(leave["POST /quays"], plan.Member{In: "body", Pointer: at})
		}
		list := cases(t, doc, plan.Options{Depth: flaw.Quick, Leave: leave})
		if got := string(instance.Encode(list[0].Body)); got != x.want {
			t.Errorf("without %q the control is %s, not %s", x.leave, got, x.want)
		}
	}
}
