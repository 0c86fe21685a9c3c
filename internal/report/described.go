package report

import (
	"encoding/json"

	"obiter/internal/exchange"
	"obiter/internal/instance"
)

// AddOperation takes in what the description has of an operation; the last one counts.
func (r *Report) AddOperation(d exchange.Described) {
	r.Line(d.Operation)
	text, err := instance.Marshal(d)
	if err != nil {
		panic("report: texts and numbers that cannot be written: " + err.Error())
	}
	r.described[d.Operation], r.last = text, exchange.Described{}
}

// Described is what the description has of an operation; nothing where that is not known.
func (r *Report) Described(operation string) exchange.Described {
	text := r.described[operation]
	if text == nil {
		return exchange.Described{}
	}
	if r.last.Operation == operation {
		return r.last
	}
	r.last = exchange.Described{}
	if err := json.Unmarshal(text, &r.last); err != nil {
		panic("report: reading what was written: " + err.Error())
	}
	return r.last
}
