package report

import (
	"encoding/json"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
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

// DescribedAs takes in what another report, to which nothing is added any more, has of all
// operations.
func (r *Report) DescribedAs(other *Report) { r.described = other.described }

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
