package sources

import (
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"obiter/internal/input/config"
)

// Everywhere are the texts that go into every request: headers and credentials.
func (c *Sources) Everywhere() []string {
	if c.texts == nil {
		return c.everyText()
	}
	return c.texts
}

func (c *Sources) everyText() []string {
	out := []string{}
	for _, h := range c.Headers {
		out = append(out, h[1])
	}
	for _, credentials := range []map[string]string{c.Credentials, c.Lesser} {
		for _, name := range slices.Sorted(maps.Keys(credentials)) {
			out = append(out, credentials[name])
		}
	}
	for _, operation := range slices.Sorted(maps.Keys(c.Operations)) {
		own := c.Operations[operation].Credentials
		for _, name := range slices.Sorted(maps.Keys(own)) {
			out = append(out, own[name])
		}
	}
	return out
}

// Secrets are values that may not be written anywhere, by name: of environment
// variables that the file refers to, and of fixtures where headers or credentials
// are made of them.
func (c *Sources) Secrets(values map[string]any) map[string]string {
	out := map[string]string{}
	said := c.Written()
	said = maps.Clone(said)
	delete(said, "at") // where the service is, is told
	maps.Copy(out, c.inAddress(c.Written()["at"]))
	for _, ref := range config.References(said) {
		if v, set := c.Env(ref); set {
			if _, kept := values[ref]; !kept {
				out[ref] = v
			}
		}
	}
	for name, v := range values {
		if c.IsCredential(name) {
			out[name] = fmt.Sprint(v)
		}
	}
	return out
}

// inAddress are the values of the environment in the service's address, but for what names its
// host.
func (c *Sources) inAddress(at any) map[string]string {
	out := map[string]string{}
	u, err := url.Parse(c.At)
	for _, ref := range config.References(at) {
		v, set := c.Env(ref)
		if !set || err != nil || v == "" || strings.Contains(u.Scheme+"://"+u.Host, v) {
			continue
		}
		if whole, err := url.Parse(v); err == nil && whole.Host == u.Host && whole.Host != "" { // the address is the value
			if password, has := whole.User.Password(); has {
				out[ref] = password
			}
			continue
		}
		out[ref] = v
	}
	return out
}

// Kept are the values that are no credentials.
func (c *Sources) Kept(values map[string]any) map[string]any {
	out := maps.Clone(values)
	maps.DeleteFunc(out, func(name string, _ any) bool { return c.IsCredential(name) })
	return out
}

// IsCredential reports whether headers or credentials are made of a value.
func (c *Sources) IsCredential(name string) bool { return c.authority[name] }

// seeCredentials notes what headers and credentials are made of: each
// operation and fixture wants to know.
func (c *Sources) seeCredentials() {
	c.authority = map[string]bool{}
	c.texts = slices.Clip(c.everyText())
	for _, text := range c.texts {
		for _, name := range config.References(text) {
			c.authority[name] = true
		}
	}
}
