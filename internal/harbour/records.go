package harbour

import (
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"

	"obiter/internal/core/instance"
)

// shown is a record as it is given out: without what is only written.
func shown(id string, record any) map[string]any {
	out := map[string]any{}
	if m, ok := record.(map[string]any); ok {
		for k, v := range m {
			if k != "pass_phrase" {
				out[k] = v
			}
		}
	}
	out["id"] = id
	return out
}

func (o *Office) create(w http.ResponseWriter, r *http.Request, kind, _ string, body map[string]any) {
	id := o.newID(kind)
	if kind == "sessions" {
		body = maps.Clone(body)
		body["token"] = newToken()
	}
	o.keep(kind, id, body)
	if o.faults["answer-differs"] && kind == "sessions" {
		answer(w, http.StatusCreated, "application/json", instance.Encode(map[string]any{"id": id, "token": body["token"], "minutes": "unlimited"}))
		return
	}
	w.Header().Set("Location", "/"+kind+"/"+url.PathEscape(id))
	answer(w, http.StatusCreated, "application/json", instance.Encode(shown(id, body)))
}

func (o *Office) replace(w http.ResponseWriter, _ *http.Request, kind, id string, body map[string]any) {
	o.keep(kind, id, body)
	answer(w, http.StatusOK, "application/json", instance.Encode(shown(id, body)))
}

// change merges a patch (RFC 7396): null takes a member off the record.
func (o *Office) change(w http.ResponseWriter, _ *http.Request, kind, id string, body map[string]any) {
	record, _ := o.find(kind, id)
	merged := shown(id, record)
	delete(merged, "id")
	for k, v := range body {
		if v == nil {
			delete(merged, k)
		} else {
			merged[k] = v
		}
	}
	o.keep(kind, id, merged)
	answer(w, http.StatusOK, "application/json", instance.Encode(shown(id, merged)))
}

func (o *Office) read(w http.ResponseWriter, _ *http.Request, kind, id string, _ map[string]any) {
	record, _ := o.find(kind, id)
	answer(w, http.StatusOK, "application/json", instance.Encode(shown(id, record)))
}

func (o *Office) remove(w http.ResponseWriter, _ *http.Request, kind, id string, _ map[string]any) {
	o.mu.Lock()
	s := o.stores[kind]
	delete(s.records, id)
	s.order = slices.DeleteFunc(s.order, func(have string) bool { return have == id })
	o.mu.Unlock()
	w.WriteHeader(http.StatusNoContent)
}

// list gives out vessels, narrowed by the query.
func (o *Office) list(w http.ResponseWriter, r *http.Request, kind, _ string, _ map[string]any) {
	q := r.URL.Query()
	c := &checker{}
	limit := 20
	if q.Has("limit") {
		n, err := strconv.Atoi(q.Get("limit"))
		if err != nil || n < 1 || n > 100 {
			c.fail("/limit", "limit", "must be a whole number from 1 to 100")
		}
		limit = n
	}
	if q.Has("type") {
		oneOf("cargo", "tanker", "ferry", "tug", "yacht")(c, "/type", q.Get("type"))
	}
	if q.Has("built_after") {
		text(0, 0, fullDate)(c, "/built_after", q.Get("built_after"))
	}
	if o.faults["filter-unchecked"] {
		c.errors, limit = nil, 20
	}
	if len(c.errors) > 0 {
		problem{status: 400, kind: "invalid-parameters", title: "Parameters are invalid", detail: "Some query parameters are not as they should be.", errors: c.errors,
			change: func(doc map[string]any) {
				for _, e := range doc["errors"].([]any) {
					e.(map[string]any)["in"] = "query"
				}
			}}.write(w)
		return
	}
	o.mu.Lock()
	out := []any{}
	for _, id := range o.stores[kind].order {
		record, ok := o.stores[kind].records[id].(map[string]any)
		if !ok || len(out) == limit || q.Has("type") && record["type"] != q.Get("type") {
			continue
		}
		if built, _ := record["built_on"].(string); q.Has("built_after") && built <= q.Get("built_after") {
			continue
		}
		out = append(out, shown(id, record))
	}
	o.mu.Unlock()
	answer(w, http.StatusOK, "application/json", instance.Encode(out))
}

func (o *Office) berths(w http.ResponseWriter, _ *http.Request, _, _ string, _ map[string]any) {
	answer(w, http.StatusOK, "application/json", []byte(`["A1","A2","B1","C12","F30"]`))
}
