package schema

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"math/big"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"obiter/internal/core/instance"
)

// formats are those of OpenAPI's format registry that JSON Schema itself does
// not define. Formats that only tell how a value is shown (password, binary)
// constrain nothing and are not among them.
func formats() []*jsonschema.Format {
	return []*jsonschema.Format{
		{Name: "int32", Validate: integerOf(32)},
		{Name: "int64", Validate: integerOf(64)},
		{Name: "byte", Validate: func(v any) error {
			s, ok := v.(string)
			if !ok {
				return nil
			}
			_, err := base64.StdEncoding.DecodeString(s)
			return err
		}},
	}
}

func integerOf(bits uint) func(any) error {
	limit := new(big.Rat).SetInt(new(big.Int).Lsh(big.NewInt(1), bits-1))
	floor := new(big.Rat).Neg(limit)
	return func(v any) error {
		n, ok := v.(json.Number)
		if !ok {
			return nil
		}
		r, ok := instance.Rat(n)
		if !ok || !r.IsInt() || r.Cmp(floor) < 0 || r.Cmp(limit) >= 0 {
			return errors.New("is not an integer of that size")
		}
		return nil
	}
}
