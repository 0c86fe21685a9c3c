package document

import (
	"cmp"
	"errors"
	"slices"
	"strings"
)

// Errors are all that is wrong with what somebody wrote, in the order of the places.
type Errors []*Error

func (e Errors) Error() string {
	var out []string
	for _, one := range e {
		out = append(out, one.Error())
	}
	return strings.Join(out, "\n")
}

// Join puts errors together: nil where there are none, the only one as it is, several
// as Errors, each place and problem once. One that is no *Error comes before all
// others, for it is not about what was written.
func Join(errs ...error) error {
	var all Errors
	for _, err := range errs {
		var several Errors
		var one *Error
		switch {
		case err == nil:
		case errors.As(err, &several):
			all = append(all, several...)
		case errors.As(err, &one):
			all = append(all, one)
		default:
			return err
		}
	}
	slices.SortStableFunc(all, func(a, b *Error) int {
		return cmp.Or(cmp.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
	})
	all = slices.CompactFunc(all, func(a, b *Error) bool { return *a == *b })
	switch len(all) {
	case 0:
		return nil
	case 1:
		return all[0]
	}
	return all
}
