package condition

import (
	"fmt"
	"slices"
	"strconv"
	"time"

	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"

	"anagram/internal/core/record"
)

// Term is a condition in a form that a database can be asked for: And or Or of terms, or
// a comparison of a field with values.
type Term struct {
	And, Or []Term
	Field   record.Field
	Op      string         // "=" (any of Values), "<", "<=", ">", ">=", "null", "not null"
	Values  []record.Value // of the field's kind
}

// Narrow gives what every record fulfils that fulfils the condition, or nil where
// nothing can be said without looking at the record.
func (c *Condition) Narrow() *Term { return c.narrow }

func (c *Condition) narrowed(e ast.Expr) *Term {
	if e.Kind() != ast.CallKind {
		return nil
	}
	call := e.AsCall()
	args := call.Args()
	switch call.FunctionName() {
	case operators.LogicalAnd:
		a, b := c.narrowed(args[0]), c.narrowed(args[1])
		switch {
		case a == nil:
			return b
		case b == nil:
			return a
		}
		return &Term{And: []Term{*a, *b}}
	case operators.LogicalOr:
		a, b := c.narrowed(args[0]), c.narrowed(args[1])
		if a == nil || b == nil {
			return nil
		}
		return &Term{Or: []Term{*a, *b}}
	case operators.In:
		field, ok := c.field(args[0])
		if !ok || args[1].Kind() != ast.ListKind || len(args[1].AsList().Elements()) == 0 {
			return nil
		}
		t := &Term{Field: field, Op: "="}
		for _, element := range args[1].AsList().Elements() {
			v, ok := literal(field, element)
			if !ok || v.IsNull() {
				return nil
			}
			t.Values = append(t.Values, v)
		}
		return t
	}
	ops := map[string]string{operators.Equals: "=", operators.NotEquals: "!=", operators.Less: "<", operators.LessEquals: "<=", operators.Greater: ">", operators.GreaterEquals: ">="}
	op, ok := ops[call.FunctionName()]
	if !ok {
		return nil
	}
	field, ok := c.field(args[0])
	if !ok {
		return nil
	}
	v, ok := literal(field, args[1])
	switch {
	case !ok:
		return nil
	case v.IsNull() && op == "=":
		return &Term{Field: field, Op: "null"}
	case v.IsNull() && op == "!=":
		return &Term{Field: field, Op: "not null"}
	case v.IsNull() || op == "!=" || field.Kind == record.Boolean && op != "=":
		return nil
	case field.Kind == record.Text && op != "=":
		return nil // the order of texts is a matter of the database's collation
	}
	return &Term{Field: field, Op: op, Values: []record.Value{v}}
}

func (c *Condition) field(e ast.Expr) (record.Field, bool) {
	if e.Kind() != ast.IdentKind {
		return record.Field{}, false
	}
	at := slices.IndexFunc(c.fields, func(f record.Field) bool { return f.Name == e.AsIdent() })
	if at < 0 || c.fields[at].Rule != (record.Rule{}) {
		return record.Field{}, false
	}
	return c.fields[at], true
}

// literal reads a value of the field's kind from an expression that is one.
func literal(field record.Field, e ast.Expr) (record.Value, bool) {
	var text string
	switch {
	case isNegative(e):
		inner, ok := literal(field, e.AsCall().Args()[0])
		if !ok {
			return inner, false
		}
		text = "-" + inner.Text()
	case e.Kind() == ast.CallKind && (e.AsCall().FunctionName() == "date" || e.AsCall().FunctionName() == "timestamp"):
		arg := e.AsCall().Args()[0]
		if arg.Kind() != ast.LiteralKind {
			return record.Value{}, false
		}
		form := time.RFC3339
		if e.AsCall().FunctionName() == "date" {
			form = time.DateOnly
		}
		t, err := time.Parse(form, fmt.Sprint(arg.AsLiteral().Value()))
		if err != nil {
			return record.Value{}, false
		}
		t = t.UTC()
		switch field.Kind {
		case record.Timestamp:
			text = t.Format(time.RFC3339Nano)
		case record.LocalTimestamp:
			text = t.Format("2006-01-02T15:04:05.999999999")
		case record.Date:
			if t.Truncate(24*time.Hour) != t {
				return record.Value{}, false
			}
			text = t.Format(time.DateOnly)
		}
	case e.Kind() == ast.LiteralKind:
		switch v := e.AsLiteral().(type) {
		case types.Null:
			return record.NullValue(), true
		case types.String:
			if field.Kind != record.Text {
				return record.Value{}, false
			}
			text = string(v)
		case types.Int:
			text = strconv.FormatInt(int64(v), 10)
		case types.Double:
			text = strconv.FormatFloat(float64(v), 'g', -1, 64)
		case types.Bool:
			text = strconv.FormatBool(bool(v))
		}
	}
	switch field.Kind {
	case record.Text, record.Integer, record.Decimal, record.Boolean, record.Date, record.Timestamp, record.LocalTimestamp:
		v, err := record.Parse(field.Kind, text)
		return v, err == nil && (text != "" || field.Kind == record.Text)
	default:
		return record.Value{}, false
	}
}
