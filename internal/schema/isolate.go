package schema

import "github.com/santhosh-tekuri/jsonschema/v6"

// Breaks tells whether v violates that keyword, looked at by itself: the
// validator stops at a failed type, enum or format and would not say.
func (sh *Shape) Breaks(keyword string, v any) bool {
	for _, s := range sh.Sources {
		key := isolation{s.js, keyword}
		only, known := s.set.isolated[key]
		if !known {
			only, _ = isolate(s.js, keyword)
			s.set.isolated[key] = only
		}
		if only != nil && only.Validate(v) != nil {
			return true
		}
	}
	return false
}

// isolation is a schema of which one keyword is looked at.
type isolation struct {
	js      *jsonschema.Schema
	keyword string
}

// isolate is the schema with all assertions gone but one.
func isolate(js *jsonschema.Schema, keyword string) (*jsonschema.Schema, bool) {
	only := *js
	only.Ref, only.RecursiveRef, only.DynamicRef, only.Types, only.Enum, only.Const = nil, nil, nil, nil, nil, nil
	only.Not, only.AllOf, only.AnyOf, only.OneOf, only.If, only.Then, only.Else, only.Format = nil, nil, nil, nil, nil, nil, nil, nil
	only.MaxProperties, only.MinProperties, only.Required, only.PropertyNames, only.Properties = nil, nil, nil, nil, nil
	only.PatternProperties, only.AdditionalProperties, only.Dependencies = nil, nil, nil
	only.DependentRequired, only.DependentSchemas, only.UnevaluatedProperties = nil, nil, nil
	only.MinItems, only.MaxItems, only.UniqueItems, only.Contains, only.MinContains, only.MaxContains = nil, nil, false, nil, nil, nil
	only.Items, only.AdditionalItems, only.PrefixItems, only.Items2020, only.UnevaluatedItems = nil, nil, nil, nil, nil
	only.MinLength, only.MaxLength, only.Pattern = nil, nil, nil
	only.ContentEncoding, only.ContentMediaType, only.ContentSchema, only.Extensions = nil, nil, nil, nil
	only.Maximum, only.Minimum, only.ExclusiveMaximum, only.ExclusiveMinimum, only.MultipleOf = nil, nil, nil, nil, nil

	switch keyword {
	case "type":
		only.Types = js.Types
	case "enum":
		only.Enum = js.Enum
	case "const":
		only.Const = js.Const
	case "format":
		only.Format = js.Format
	case "minLength":
		only.MinLength = js.MinLength
	case "maxLength":
		only.MaxLength = js.MaxLength
	case "pattern":
		only.Pattern = js.Pattern
	case "minimum":
		only.Minimum = js.Minimum
	case "maximum":
		only.Maximum = js.Maximum
	case "exclusiveMinimum":
		only.ExclusiveMinimum = js.ExclusiveMinimum
	case "exclusiveMaximum":
		only.ExclusiveMaximum = js.ExclusiveMaximum
	case "multipleOf":
		only.MultipleOf = js.MultipleOf
	case "minItems":
		only.MinItems = js.MinItems
	case "maxItems":
		only.MaxItems = js.MaxItems
	case "uniqueItems":
		only.UniqueItems = js.UniqueItems
	case "required":
		only.Required = js.Required
	case "minProperties":
		only.MinProperties = js.MinProperties
	case "maxProperties":
		only.MaxProperties = js.MaxProperties
	case "additionalProperties":
		only.Properties, only.PatternProperties, only.AdditionalProperties = js.Properties, js.PatternProperties, js.AdditionalProperties
	case "oneOf":
		only.OneOf = js.OneOf
	case "anyOf":
		only.AnyOf = js.AnyOf
	case "not":
		only.Not = js.Not
	case "contains":
		only.Contains, only.MinContains, only.MaxContains = js.Contains, js.MinContains, js.MaxContains
	case "propertyNames":
		only.PropertyNames = js.PropertyNames
	case "dependentRequired":
		only.DependentRequired = js.DependentRequired
	default:
		return nil, false
	}
	return &only, true
}
