package schema

import (
	"fmt"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

// Weight is how much a schema asks for, roughly: how many values its smallest instances
// have, at least, and how many schemas a validator goes through for one. Few schemas of a
// few lines each, that refer to one another twice, double both at each level.
type Weight struct{ Values, Steps int }

// maxWeight is as much as is counted.
const maxWeight = 1 << 40

// Weight weighs the schema.
func (s Schema) Weight() Weight { return s.set.weigh(s.js, map[*jsonschema.Schema]bool{}) }

func (s *Set) weigh(js *jsonschema.Schema, active map[*jsonschema.Schema]bool) Weight {
	if js == nil {
		return Weight{}
	}
	if w, known := s.weights[js]; known {
		return w
	}
	if active[js] { // what recurses is built and checked as deep as the instance is
		return Weight{1, 1}
	}
	active[js] = true
	defer delete(active, js)
	of := func(inner *jsonschema.Schema) Weight { return s.weigh(inner, active) }
	w := Weight{1, 1}
	more := func(n int) { w.Values = min(w.Values+n, maxWeight) }
	steps := func(n int) { w.Steps = min(w.Steps+n, maxWeight) }

	// In the same place: what one of these asks for, another may ask for, too.
	beside := 0
	for _, inner := range append([]*jsonschema.Schema{js.Ref, js.RecursiveRef}, js.AllOf...) {
		i := of(inner)
		beside = max(beside, i.Values-1)
		steps(i.Steps)
	}
	if js.DynamicRef != nil {
		steps(of(js.DynamicRef.Ref).Steps)
	}
	for _, branches := range [][]*jsonschema.Schema{js.OneOf, js.AnyOf} {
		least := maxWeight
		for _, b := range branches {
			i := of(b)
			least = min(least, i.Values-1)
			steps(i.Steps)
		}
		if len(branches) > 0 {
			beside = max(beside, least)
		}
	}
	for _, inner := range []*jsonschema.Schema{js.Not, js.If, js.Then, js.Else} {
		steps(of(inner).Steps)
	}
	for _, inner := range js.DependentSchemas {
		steps(of(inner).Steps)
	}
	more(beside)

	// Inside: all that is required, and one of the others.
	required := map[string]bool{}
	for _, name := range js.Required {
		required[name] = true
	}
	heaviest := 0
	for name, p := range js.Properties {
		i := of(p)
		if required[name] {
			more(i.Values)
			steps(i.Steps)
			continue
		}
		heaviest = max(heaviest, i.Steps)
	}
	if additional, is := js.AdditionalProperties.(*jsonschema.Schema); is {
		heaviest = max(heaviest, of(additional).Steps)
	}
	items, _ := js.Items.(*jsonschema.Schema)
	if js.Items2020 != nil {
		items = js.Items2020
	}
	if items != nil {
		i, n := of(items), 0
		if js.MinItems != nil {
			n = min(*js.MinItems, maxElements)
		}
		more(min(n*i.Values, maxWeight))
		steps(min(max(n, 1)*i.Steps, maxWeight))
	}
	steps(heaviest)
	s.weights[js] = w
	return w
}

// maxElements bounds the elements of one array that are counted.
const maxElements = 1_000

// What a schema may ask for: hundreds of times what those of real descriptions do.
const (
	MaxValues = 5_000     // in one instance
	maxSteps  = 10_000    // for all fields of its instances to be tried
	mostSteps = 1_000_000 // for one to be made
)

// ErrSteps is for schemas of which only a lean instance is made.
var ErrSteps = fmt.Errorf("its schemas refer to one another so often that checking one value takes more than %d steps", maxSteps)

// Bearable refuses a schema whose instances are too large to be made and checked by the
// hundred. The error is ErrSteps where a lean one can be.
func (s Schema) Bearable() error {
	w := s.Weight()
	switch {
	case w.Values > MaxValues:
		return fmt.Errorf("each valid value has more than %d values in it", MaxValues)
	case w.Steps > mostSteps:
		return fmt.Errorf("its schemas refer to one another so often that checking one value takes more than %d steps", mostSteps)
	case w.Steps > maxSteps:
		return ErrSteps
	}
	return nil
}
