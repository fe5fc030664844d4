package condition

import (
	"encoding/json"
	"fmt"
	"reflect"
	"strconv"
	"strings"
	"time"

	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"

	"anagram/internal/core/record"
)

// celValue brings a value to the form in which the expression language has it.
func celValue(v record.Value, address func(record.Value) string) (ref.Val, error) {
	switch v.Kind() {
	case record.Null, record.Absent:
		return types.NullValue, nil
	case record.Integer:
		n, err := strconv.ParseInt(v.Text(), 10, 64)
		if err != nil {
			return nil, fmt.Errorf("%s is beyond the whole numbers that a condition can hold (64 bit)", v.Text())
		}
		return types.Int(n), nil
	case record.Decimal:
		return number(v.Text()), nil
	case record.Boolean:
		return types.Bool(v.Text() == "true"), nil
	case record.Date:
		return instant(time.DateOnly, v.Text())
	case record.LocalTimestamp:
		return instant("2006-01-02T15:04:05", v.Text())
	case record.Timestamp:
		return instant(time.RFC3339, v.Text())
	case record.Reference:
		return types.String(address(v)), nil
	case record.Woven:
		var out strings.Builder
		for _, piece := range v.Parts() {
			if piece.Kind() == record.Reference {
				out.WriteString(address(piece))
			} else {
				out.WriteString(piece.Text())
			}
		}
		return types.String(out.String()), nil
	case record.Bytes:
		return types.String("sha256:" + v.Text()), nil
	case record.JSON:
		var content any
		if err := json.Unmarshal([]byte(v.Text()), &content); err != nil {
			return nil, err
		}
		return types.DefaultTypeAdapter.NativeToValue(content), nil
	default:
		return types.String(v.Text()), nil
	}
}

func instant(form, text string) (ref.Val, error) {
	t, err := time.Parse(form, text)
	return types.Timestamp{Time: t}, err
}

// dateOf is the function date('2026-01-01'): that day's midnight.
func dateOf(arg ref.Val) ref.Val {
	text, ok := arg.(types.String)
	if !ok {
		return types.MaybeNoSuchOverloadErr(arg)
	}
	t, err := time.Parse(time.DateOnly, string(text))
	if err != nil {
		return types.NewErr("date(%q) is no date; it is written like date('2026-01-01')", string(text))
	}
	return types.Timestamp{Time: t}
}

// number is a decimal in canonical text. It compares exactly with other numbers; a
// literal such as 12.10 counts as the shortest decimal that it can mean.
type number string

var numberType = types.NewObjectType("decimal", traits.ComparerType)

// order gives bytes that compare as numbers do.
func order(v ref.Val) (string, bool) {
	var text string
	switch v := v.(type) {
	case number:
		text = string(v)
	case types.Int:
		text = strconv.FormatInt(int64(v), 10)
	case types.Uint:
		text = strconv.FormatUint(uint64(v), 10)
	case types.Double:
		text = strconv.FormatFloat(float64(v), 'g', -1, 64)
	default:
		return "", false
	}
	parsed, err := record.Parse(record.Decimal, text)
	if err != nil {
		return "", false
	}
	return record.NewKey([]record.Value{parsed}, nil).Order(), true
}

// Compare is less, equal or greater as -1, 0, 1.
func (n number) Compare(other ref.Val) ref.Val {
	a, _ := order(n)
	b, ok := order(other)
	if !ok {
		return types.MaybeNoSuchOverloadErr(other)
	}
	return types.Int(strings.Compare(a, b))
}

// Equal reports whether both are the same number; what is no number is not.
func (n number) Equal(other ref.Val) ref.Val {
	a, _ := order(n)
	b, ok := order(other)
	return types.Bool(ok && a == b)
}

// ConvertToNative is not needed: decimals do not leave the condition.
func (n number) ConvertToNative(reflect.Type) (any, error) {
	return nil, fmt.Errorf("a decimal cannot be converted")
}

// ConvertToType is not offered: it would not be exact.
func (n number) ConvertToType(ref.Type) ref.Val {
	return types.NewErr("a decimal cannot be converted")
}

// Type names the type.
func (n number) Type() ref.Type { return numberType }

// Value gives the canonical text.
func (n number) Value() any { return string(n) }
