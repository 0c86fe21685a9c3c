package sample

import (
	"encoding/json"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"obiter/internal/core/instance"
	"obiter/internal/input/schema"
	"obiter/internal/input/sources"
)

// Free reports whether a field may have any value like the one it has: what stands for a thing
// that the service knows, or has to have a form that the description does not tell, may not.
func Free(sh *schema.Shape, pointer string, now any) bool {
	name := instance.Last(pointer)
	if sh.HasEnum || sh.WriteOnly || sh.Secret || sh.Binary || sh.ReadOnly || len(sh.Unchecked) > 0 {
		return false
	}
	switch now := now.(type) {
	case string:
		if now == "" || slices.ContainsFunc(sh.Formats, func(f string) bool { return !slices.Contains(renewableFormats, f) }) {
			return false
		}
		if len(sh.Patterns) > 0 || sources.IsReference(name) || listed(name) {
			return IsKey(pointer) && !sources.IsReference(name)
		}
		return len(sh.Formats) > 0 || isWords(now) || IsKey(pointer)
	case json.Number:
		return IsKey(pointer) && !strings.ContainsAny(now.String(), ".eE")
	}
	return false
}

// Renewable reports whether a field may get a new value where the service reports a duplicate.
func Renewable(sh *schema.Shape, pointer string, now any) bool {
	name := instance.Last(pointer)
	if sh.HasEnum || sh.WriteOnly || sh.Secret || sh.Binary || sh.ReadOnly || sources.IsReference(name) || listed(name) || strings.Count(pointer, "/") != 1 {
		return false
	}
	switch now := now.(type) {
	case string:
		return now != "" && !slices.ContainsFunc(sh.Formats, func(f string) bool { return !slices.Contains(renewableFormats, f) })
	case json.Number:
		return !strings.ContainsAny(now.String(), ".eE")
	}
	return false
}

// renewableFormats are those that anything may have a new value of.
var renewableFormats = []string{"uuid", "email", "idn-email", "uri", "url", "uri-reference", "iri", "hostname"}

// isWords reports whether a text is made of words: no date, address, number or expression, in
// which a service may read something.
func isWords(text string) bool {
	letters := 0
	for _, r := range text {
		switch {
		case unicode.IsLetter(r):
			letters++
		case unicode.IsDigit(r), unicode.IsSpace(r), strings.ContainsRune("-_.,;'’!?()&", r):
		default:
			return false
		}
	}
	return letters > 2
}

// keyNames are names of fields that records are known by.
var keyNames = []string{"id", "uuid", "guid", "key", "slug", "ref", "reference", "code", "name", "number", "no", "title", "label", "email", "username", "login", "identifier"}

// IsKey reports whether records are probably known by a field at the top of a body: one that is
// called so, or whose name ends so, as order_number.
func IsKey(pointer string) bool {
	name := instance.Last(pointer)
	if instance.Parent(pointer) != "" || listed(name) {
		return false
	}
	all := nameWords.FindAllString(name, -1)
	return len(all) > 0 && slices.Contains(keyNames, strings.ToLower(all[len(all)-1]))
}

var nameWords = regexp.MustCompile(`[A-Z]?[a-z]+|[A-Z]+`)

// listed reports whether a field has one of a few values that every service knows.
func listed(name string) bool {
	return slices.ContainsFunc(nameWords.FindAllString(name, -1), func(word string) bool { return slices.Contains(listedNames, strings.ToLower(word)) })
}

var listedNames = []string{"type", "kind", "status", "state", "country", "currency", "language", "locale", "lang", "timezone", "zone", "mode", "level", "role", "scope", "unit", "category", "severity", "method", "format", "version", "encoding", "charset", "gender", "region", "postal", "zip"}
