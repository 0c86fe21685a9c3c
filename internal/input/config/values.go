package config

import "obiter/internal/core/instance"

// Parameters are values of parameters by place (path, query, header, cookie) and
// name. Texts may hold ${NAME}; null leaves an optional parameter out.
type Parameters map[string]map[string]any

// Places are where parameters are.
var Places = []string{"path", "query", "header", "cookie"}

// parameters reads the values that an operation's or a fixture's parameters have.
func (r reader) parameters(at string, object map[string]any) (Parameters, error) {
	var out Parameters
	for _, in := range Places {
		v, has := object[in]
		if !has {
			continue
		}
		values, err := r.object(instance.Join(at, in), v)
		if err != nil {
			return nil, err
		}
		for name, v := range values {
			if v == nil && in == "path" {
				return nil, r.tree.Fail(instance.Join(at, in, name), "write a value, or ${NAME}", "a path parameter cannot be left out")
			}
		}
		if out == nil {
			out = Parameters{}
		}
		out[in] = values
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
