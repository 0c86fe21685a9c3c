// Package usage has the error of what cannot be done as it was asked for.
package usage

// Error is something that cannot be done as it was asked for.
type Error struct {
	Problem string
	Hint    string // what to do; may be empty
}

func (e *Error) Error() string { return e.Problem }

// New is an *Error.
func New(problem, hint string) error { return &Error{problem, hint} }
