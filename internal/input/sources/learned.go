package sources

import (
	"maps"
	"slices"

	"obiter/internal/input/config"
)

// Renews lists the fields of an operation's body, and of a fixture's where it has some,
// that have a new value each time.
func (c *Sources) Renews(operation string, rules []config.Rule) []string {
	var out []string
	for _, r := range append(c.RulesOf(operation), rules...) {
		if r.Unique != "" {
			out = append(out, r.Unique)
		}
	}
	return out
}

// LearnUnique adds the rule that a field of an operation's body has a value which no
// other record has, as the service said. False where there is such a rule already.
func (c *Sources) LearnUnique(operation, pointer string) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if slices.ContainsFunc(c.rulesOf(operation), func(r config.Rule) bool { return r.Unique == pointer }) {
		return false
	}
	if c.rules == nil {
		c.rules = map[string][]config.Rule{}
	}
	c.rules[operation] = append(c.rules[operation], config.Rule{Unique: pointer, Inferred: true, Fresh: c.creates != nil && !c.creates[operation]})
	return true
}

// RulesOf are the rules of an operation: those of the file, and what was learned.
func (c *Sources) RulesOf(operation string) []config.Rule {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.rulesOf(operation)
}

func (c *Sources) rulesOf(operation string) []config.Rule {
	return slices.Concat(c.Operations[operation].Rules, c.rules[operation])
}

// Ruled lists the operations that have rules.
func (c *Sources) Ruled() []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := slices.Collect(maps.Keys(c.rules))
	for name, o := range c.Operations {
		if len(o.Rules) > 0 && c.rules[name] == nil {
			out = append(out, name)
		}
	}
	return out
}
