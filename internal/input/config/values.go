package config

import "obiter/internal/core/instance"

// Parameters are values of parameters by place (path, query, header, cookie) and
// name. Texts may hold ${NAME}; null leaves an optional parameter out.
type Parameters map[string]map[string]any

// Places are where parameters are.
var Places = []string{"path", "query", "header", "cookie"}

// values are the keys of Parameters, in whatever has them.
type values struct{ Path, Query, Header, Cookie map[string]any }

// parameters are those that have values.
func (r reader) parameters(at string, v values) (Parameters, error) {
	var out Parameters
	for i, named := range []map[string]any{v.Path, v.Query, v.Header, v.Cookie} {
		if named == nil {
			continue
		}
		if out == nil {
			out = Parameters{}
		}
		out[Places[i]] = named
	}
	for name, v := range v.Path {
		if v == nil {
			return nil, r.tree.Fail(instance.Join(at, "path", name), "write a value, or ${NAME}", "a path parameter cannot be left out")
		}
	}
	return out, nil
}

// References lists the names that the values refer to.
func (p Parameters) References() []string {
	var out []string
	for _, in := range Places {
		for _, name := range instance.Names(p[in]) {
			out = append(out, References(p[in][name])...)
		}
	}
	return out
}
