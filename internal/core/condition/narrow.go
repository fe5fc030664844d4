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
		return c.narrowedIn(args)
	default:
		return c.narrowedComparison(call.FunctionName(), args)
	}
}

func (c *Condition) narrowedIn(args []ast.Expr) *Term {
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

func (c *Condition) narrowedComparison(function string, args []ast.Expr) *Term {
	ops := map[string]string{operators.Equals: "=", operators.NotEquals: "!=", operators.Less: "<", operators.LessEquals: "<=",
		operators.Greater: ">", operators.GreaterEquals: ">="}
	op, ok := ops[function]
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
	var ok bool
	switch {
	case isNegative(e):
		var inner record.Value
		inner, ok = literal(field, e.AsCall().Args()[0])
		text = "-" + inner.Text()
	case e.Kind() == ast.CallKind:
		text, ok = timeLiteral(field.Kind, e)
	case e.Kind() == ast.LiteralKind && e.AsLiteral().Type() == types.NullType:
		return record.NullValue(), true
	case e.Kind() == ast.LiteralKind:
		text, ok = constant(field.Kind, e)
	}
	if !ok {
		return record.Value{}, false
	}
	switch field.Kind {
	case record.Text, record.Integer, record.Decimal, record.Boolean, record.Date, record.Timestamp, record.LocalTimestamp:
		v, err := record.Parse(field.Kind, text)
		return v, err == nil && (text != "" || field.Kind == record.Text)
	default:
		return record.Value{}, false
	}
}

// timeLiteral reads date('…') and timestamp('…').
func timeLiteral(kind record.Kind, e ast.Expr) (string, bool) {
	form := map[string]string{"date": time.DateOnly, "timestamp": time.RFC3339}[e.AsCall().FunctionName()]
	if form == "" || e.AsCall().Args()[0].Kind() != ast.LiteralKind {
		return "", false
	}
	t, err := time.Parse(form, fmt.Sprint(e.AsCall().Args()[0].AsLiteral().Value()))
	if err != nil {
		return "", false
	}
	t = t.UTC()
	switch {
	case kind == record.Timestamp:
		return t.Format(time.RFC3339Nano), true
	case kind == record.LocalTimestamp:
		return t.Format("2006-01-02T15:04:05.999999999"), true
	case kind == record.Date && t.Truncate(24*time.Hour).Equal(t):
		return t.Format(time.DateOnly), true
	default:
		return "", false
	}
}

func constant(kind record.Kind, e ast.Expr) (string, bool) {
	switch v := e.AsLiteral().(type) {
	case types.String:
		return string(v), kind == record.Text
	case types.Int:
		return strconv.FormatInt(int64(v), 10), true
	case types.Double:
		return strconv.FormatFloat(float64(v), 'g', -1, 64), true
	case types.Bool:
		return strconv.FormatBool(bool(v)), true
	default:
		return "", false
	}
}
