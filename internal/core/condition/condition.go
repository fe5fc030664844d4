// Package condition decides whether a record fulfils a condition, which a person writes
// in the Common Expression Language (CEL, an open specification) over the record's
// fields: kind == 'A' && valid_from > date('2026-01-01').
//
// The contract: Fields lists the fields that a text names. Compile checks it against the
// kinds of the fields and says which field, type and column do not fit. Holds
// decides for one record. Texts, booleans, integers and decimals compare exactly; dates
// and times are times; a reference is the address of what it points at without the
// type; bytes are "sha256:…". A comparison that null cannot answer does not hold. Narrow
// gives what a database may be asked for first: every record that fulfils the condition
// fulfils that too, so a database can only leave out what would be left out anyway.
package condition

import (
	"fmt"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"

	"anagram/internal/core/record"
	"anagram/internal/core/yamldoc"
)

// Error is a condition that cannot be used. Column counts characters from 1; 0 is none.
type Error struct {
	Text    string
	Column  int
	Message string
}

// Error gives the condition, the place and what is wrong there.
func (e *Error) Error() string {
	if e.Column == 0 {
		return fmt.Sprintf("condition %q: %s", e.Text, e.Message)
	}
	return fmt.Sprintf("condition %q, column %d: %s", e.Text, e.Column, e.Message)
}

// Condition is one condition, ready for records whose fields are known.
type Condition struct {
	text    string
	fields  []record.Field // those that it names
	program cel.Program
	narrow  *Term
}

const maxText = 4000

// Fields lists the fields that a condition names, sorted.
func Fields(text string) ([]string, error) {
	if len(text) > maxText {
		return nil, &Error{Text: text[:40] + "…", Message: fmt.Sprintf("it is longer than %d bytes", maxText)}
	}
	env, err := newEnv(nil)
	if err != nil {
		return nil, err
	}
	parsed, issues := env.Parse(text)
	if issues.Err() != nil {
		return nil, wrong(text, issues)
	}
	return named(parsed.NativeRep().Expr()), nil
}

func wrong(text string, issues *cel.Issues) error {
	first := issues.Errors()[0]
	message := first.Message
	if i := strings.Index(message, "Syntax error: "); i >= 0 {
		message = "it cannot be read: " + message[i+len("Syntax error: "):]
		if said := inOurWords(text); said != "" {
			message = "it cannot be read: " + said
		}
	}
	return &Error{Text: text, Column: first.Location.Column() + 1, Message: message}
}

// named collects the identifiers of an expression but those that a macro binds.
func named(e ast.Expr) []string {
	found := map[string]bool{}
	var walk func(e ast.Expr, bound []string)
	walk = func(e ast.Expr, bound []string) {
		switch e.Kind() {
		case ast.IdentKind:
			if name := e.AsIdent(); !slices.Contains(bound, name) {
				found[name] = true
			}
		case ast.ComprehensionKind:
			c := e.AsComprehension()
			walk(c.IterRange(), bound)
			inner := append(slices.Clone(bound), c.IterVar(), c.IterVar2(), c.AccuVar())
			for _, part := range []ast.Expr{c.AccuInit(), c.LoopCondition(), c.LoopStep(), c.Result()} {
				walk(part, inner)
			}
		default:
			for _, child := range children(e) {
				walk(child, bound)
			}
		}
	}
	walk(e, nil)
	var out []string
	for name := range found {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

func children(e ast.Expr) []ast.Expr {
	switch e.Kind() {
	case ast.CallKind:
		call := e.AsCall()
		if call.IsMemberFunction() {
			return append([]ast.Expr{call.Target()}, call.Args()...)
		}
		return call.Args()
	case ast.ListKind:
		return e.AsList().Elements()
	case ast.SelectKind:
		return []ast.Expr{e.AsSelect().Operand()}
	case ast.MapKind:
		var out []ast.Expr
		for _, entry := range e.AsMap().Entries() {
			out = append(out, entry.AsMapEntry().Key(), entry.AsMapEntry().Value())
		}
		return out
	default:
		return nil
	}
}

// typeOf gives the type under which a field is declared; all of them may be null.
func typeOf(kind record.Kind) *cel.Type {
	switch kind {
	case record.Integer:
		return cel.NullableType(cel.IntType)
	case record.Boolean:
		return cel.NullableType(cel.BoolType)
	case record.Date, record.Timestamp, record.LocalTimestamp:
		return cel.TimestampType
	case record.Decimal, record.JSON:
		return cel.DynType
	default:
		return cel.NullableType(cel.StringType)
	}
}

func newEnv(fields []record.Field) (*cel.Env, error) {
	options := []cel.EnvOption{
		cel.CrossTypeNumericComparisons(true),
		cel.Function("date", cel.Overload("date_of_text", []*cel.Type{cel.StringType}, cel.TimestampType, cel.UnaryBinding(dateOf))),
	}
	for _, field := range fields {
		options = append(options, cel.Variable(field.Name, typeOf(field.Kind)))
	}
	return cel.NewEnv(options...)
}

// Compile makes a condition for records of a type with these fields. Those it does not
// name are passed over.
func Compile(text, typ string, fields []record.Field) (*Condition, error) {
	mentioned, err := Fields(text)
	if err != nil {
		return nil, err
	}
	c := &Condition{text: text}
	for _, name := range mentioned {
		at := slices.IndexFunc(fields, func(f record.Field) bool { return f.Name == name })
		if at < 0 {
			return nil, &Error{Text: text, Column: columnOf(text, name),
				Message: fmt.Sprintf("%s has no field %q%s", typ, name, yamldoc.Nearest(name, names(fields)))}
		}
		c.fields = append(c.fields, fields[at])
	}
	env, err := newEnv(c.fields)
	if err != nil {
		return nil, err
	}
	parsed, issues := env.Parse(text)
	if issues.Err() != nil {
		return nil, wrong(text, issues)
	}
	turn(parsed.NativeRep())
	if err := c.decimals(parsed.NativeRep()); err != nil {
		return nil, err
	}
	checked, issues := env.Check(parsed)
	if issues.Err() != nil {
		return nil, c.misfit(typ, issues)
	}
	if !checked.OutputType().IsExactType(cel.BoolType) && !checked.OutputType().IsAssignableType(cel.BoolType) {
		return nil, &Error{Text: text, Message: "it is no condition: a condition is true or false, such as status == 'A'"}
	}
	if c.program, err = env.Program(checked, cel.EvalOptions(cel.OptOptimize), cel.CostLimit(1_000_000)); err != nil {
		return nil, &Error{Text: text, Message: err.Error()}
	}
	c.narrow = c.narrowed(checked.NativeRep().Expr())
	return c, nil
}

// misfit words the checker's complaint for the fields at hand.
func (c *Condition) misfit(typ string, issues *cel.Issues) error {
	first := issues.Errors()[0]
	message := first.Message
	if operator, applied, ok := strings.Cut(strings.TrimPrefix(message, "found no matching overload for '"), "' applied to '"); ok {
		message = fmt.Sprintf("%s cannot be used on %s", strings.Trim(operator, "_"), strings.TrimSuffix(applied, "'"))
		for _, from := range []struct{ cel, word string }{{"wrapper(string)", "text"}, {"wrapper(int)", "integer"},
			{"wrapper(bool)", "boolean"},
			{"timestamp", "time"}, {"string", "text"}, {"double", "decimal"}, {"bool)", "boolean)"}, {"int)", "integer)"},
			{"int,", "integer,"}} {
			message = strings.ReplaceAll(message, from.cel, from.word)
		}
	}
	var kinds []string
	for _, field := range c.fields {
		kinds = append(kinds, fmt.Sprintf("%s is %s", field.Name, kindName(field.Kind)))
	}
	if len(kinds) > 0 {
		message += " (of " + typ + ", " + strings.Join(kinds, ", ") + ")"
	}
	return &Error{Text: c.text, Column: first.Location.Column() + 1, Message: message}
}

func kindName(kind record.Kind) string {
	switch kind {
	case record.Reference:
		return "a reference, which compares as text"
	case record.Date, record.Timestamp, record.LocalTimestamp:
		return "a " + kind.String() + ", to be compared with date('2026-01-01') or timestamp('2026-01-01T08:00:00Z')"
	case record.Integer:
		return "an integer"
	default:
		return "a " + kind.String()
	}
}

func columnOf(text, name string) int {
	if at := strings.Index(text, name); at >= 0 {
		return len([]rune(text[:at])) + 1
	}
	return 0
}

// Fields lists the fields that the condition needs, in the order of Holds.
func (c *Condition) Fields() []record.Field { return c.fields }

// Text gives the condition as it was written.
func (c *Condition) Text() string { return c.text }

// Holds decides for the values of Fields; address writes what a reference points at
// without the type. An error names what about the record cannot be decided.
func (c *Condition) Holds(values []record.Value, address func(record.Value) string) (bool, error) {
	in := make(map[string]any, len(values))
	anyNull := false
	for i, field := range c.fields {
		v, err := celValue(values[i], address)
		if err != nil {
			return false, fmt.Errorf("condition %q, field %s: %w", c.text, field.Name, err)
		}
		anyNull = anyNull || v == types.NullValue
		in[field.Name] = v
	}
	out, _, err := c.program.Eval(in)
	if err != nil {
		if anyNull {
			return false, nil
		}
		return false, fmt.Errorf("condition %q: %w", c.text, err)
	}
	if out == types.NullValue {
		return false, nil // a boolean field on its own
	}
	holds, ok := out.(types.Bool)
	if !ok {
		return false, fmt.Errorf("condition %q gives %v for this record, which is neither true nor false", c.text, out.Value())
	}
	return bool(holds), nil
}

// comparisons and what they become when their sides are exchanged.
var turned = map[string]string{
	operators.Equals: operators.Equals, operators.NotEquals: operators.NotEquals,
	operators.Less: operators.Greater, operators.Greater: operators.Less,
	operators.LessEquals: operators.GreaterEquals, operators.GreaterEquals: operators.LessEquals,
}

// turn writes comparisons with the literal on the left the other way round, so that
// the field decides how both compare.
func turn(a *ast.AST) {
	factory := ast.NewExprFactory()
	ast.PostOrderVisit(a.Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		if e.Kind() != ast.CallKind {
			return
		}
		call := e.AsCall()
		other, ok := turned[call.FunctionName()]
		if ok && call.Args()[0].Kind() == ast.LiteralKind && call.Args()[1].Kind() != ast.LiteralKind {
			e.SetKindCase(factory.NewCall(e.ID(), other, call.Args()[1], call.Args()[0]))
		}
	}))
}

// decimals refuses what would not be exact: a decimal field is compared with numbers,
// with other decimal fields or with a list of numbers, and nothing else.
func (c *Condition) decimals(a *ast.AST) error {
	isDecimal := func(e ast.Expr) bool {
		return e.Kind() == ast.IdentKind && slices.ContainsFunc(c.fields,
			func(f record.Field) bool { return f.Name == e.AsIdent() && f.Kind == record.Decimal })
	}
	plain := func(e ast.Expr) bool { return e.Kind() == ast.LiteralKind || isDecimal(e) || isNegative(e) }
	var bad ast.Expr
	var walk func(e ast.Expr)
	walk = func(e ast.Expr) {
		if isDecimal(e) {
			bad = e
			return
		}
		if e.Kind() == ast.CallKind {
			call := e.AsCall()
			_, comparison := turned[call.FunctionName()]
			if comparison && isDecimal(call.Args()[0]) && plain(call.Args()[1]) {
				return
			}
			if call.FunctionName() == operators.In && isDecimal(call.Args()[0]) && call.Args()[1].Kind() == ast.ListKind {
				if elements := call.Args()[1].AsList().Elements(); !slices.ContainsFunc(elements,
					func(e ast.Expr) bool { return !plain(e) }) {
					e.SetKindCase(anyOf(ast.NewExprFactory(), e.ID(), call.Args()[0], elements))
					return
				}
			}
		}
		if e.Kind() == ast.ComprehensionKind {
			x := e.AsComprehension()
			for _, part := range []ast.Expr{x.IterRange(), x.AccuInit(), x.LoopCondition(), x.LoopStep(), x.Result()} {
				walk(part)
			}
		}
		for _, child := range children(e) {
			walk(child)
		}
	}
	walk(a.Expr())
	if bad == nil {
		return nil
	}
	return &Error{Text: c.text, Column: columnOf(c.text, bad.AsIdent()), Message: fmt.Sprintf(
		"field %s is a decimal, which compares exactly with ==, !=, <, <=, >, >= and in with numbers; nothing else can be done with it", bad.AsIdent())}
}

func isNegative(e ast.Expr) bool {
	return e.Kind() == ast.CallKind && e.AsCall().FunctionName() == operators.Negate && e.AsCall().Args()[0].Kind() == ast.LiteralKind
}

// anyOf writes x in [a, b] as x == a || x == b. New nodes get ids of their own, above
// those that the parser gave.
func anyOf(f ast.ExprFactory, id int64, x ast.Expr, elements []ast.Expr) ast.Expr {
	if len(elements) == 0 {
		return f.NewLiteral(id, types.False)
	}
	next := id * maxText
	fresh := func() int64 { next++; return next }
	out := f.NewCall(fresh(), operators.Equals, x, elements[0])
	for _, e := range elements[1:] {
		out = f.NewCall(fresh(), operators.LogicalOr, out, f.NewCall(fresh(), operators.Equals, f.CopyExpr(x), e))
	}
	return out
}

func names(fields []record.Field) []string {
	out := make([]string, len(fields))
	for i, field := range fields {
		out[i] = field.Name
	}
	return out
}
