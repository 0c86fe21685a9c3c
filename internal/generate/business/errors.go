package business

import (
	"fmt"

	"obiter/internal/core/instance"
)

// RuleError is a rule that cannot be used: the member of it that is at fault, what
// is wrong, and what to do. Whoever knows where the rule was written adds the place.
type RuleError struct{ Member, Problem, Hint string }

func (e *RuleError) Error() string { return e.Problem }

// Unfit is an expression that does not go with the description.
func Unfit(text string, e *ExpressionError) *RuleError {
	return &RuleError{"holds", fmt.Sprintf("the rule %q does not fit the description, at its character %d: %s", text, e.Column, e.Problem), "it can use body, query, path, header and now"}
}

// Unsatisfiable is an expression for which no valid request was found.
func Unsatisfiable(text string) *RuleError {
	return &RuleError{"holds", fmt.Sprintf("no valid request was found for which %q holds", text), "correct the rule, or give a body: that keeps it"}
}

// Contradictory is an expression for which none was found that keeps the rules
// before it as well.
func Contradictory(text string) *RuleError {
	return &RuleError{"holds", fmt.Sprintf("no valid request was found for which %q and the rules before it hold", text), "change one of them"}
}

// Unbreakable is an expression that no valid request was found to break.
func Unbreakable(text, tried string) *RuleError {
	return &RuleError{"holds", fmt.Sprintf("no request was found that breaks %q and nothing else: %s", text, tried), "write the rule so that a valid request can break it, or leave it out"}
}

// NoField is a rule about a field that the body does not have.
func NoField(member, operation, at string) *RuleError {
	return &RuleError{member, fmt.Sprintf("the body of %s has no field %q", operation, at), "obiter survey --fields lists them"}
}

// NoPlace is a field that is blamed and that the request does not have.
func NoPlace(operation, at, near string) *RuleError {
	hint := "obiter survey --fields lists them"
	if near != "" {
		hint = "did you mean " + near + "?"
	}
	return &RuleError{"blames", fmt.Sprintf("a request of %s has no field %q to be blamed", operation, at), hint}
}

// NoParameter is a flaw of a parameter that the operation does not have.
func NoParameter(operation, in, name string) *RuleError {
	return &RuleError{in, fmt.Sprintf("%s has no %s parameter %q", operation, in, name), "obiter survey --fields lists them"}
}

// NoRoom is a value that a field has to be and that its schema does not allow.
func NoRoom(at string, v any) *RuleError {
	return &RuleError{"is", fmt.Sprintf("with %s at %s no valid request was found", instance.Encode(v), at), "correct the value, or the schema"}
}

// NoEffect is a patch that changes nothing.
func NoEffect(flaw string) *RuleError {
	return &RuleError{"flaw", fmt.Sprintf("the patch of %q leaves the request as it is", flaw), "write what makes the request wrong"}
}
