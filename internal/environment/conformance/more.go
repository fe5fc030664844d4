package conformance

import (
	"context"
	"slices"
	"strings"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
)

func readsHolding(b *bench) {
	env := b.open(true)
	ask := func(with environment.Values) []string {
		out := []string{}
		for rec, err := range env.Read(context.Background(), b.model, environment.Reading{Type: "thing", Fields: b.fields["thing"],
			With: &with}) {
			require.NoError(b, err)
			out = append(out, b.model.Catalog.Address("thing", rec.Key))
		}
		slices.Sort(out)
		return out
	}
	text, err := record.TextValue("Æther 'x'")
	require.NoError(b, err)
	blank, err := record.TextValue("")
	require.NoError(b, err)
	amount, err := record.Parse(record.Decimal, "12.5")
	require.NoError(b, err)
	none, err := record.TextValue("nobody has this")
	require.NoError(b, err)
	leaf := record.ReferenceValue("node", b.key("node", `[null,"leaf"]`))
	nowhere := record.ReferenceValue("node", b.key("node", `[null,"nowhere"]`))
	assert.Equal(b, []string{"thing/A", "thing/B"}, ask(environment.Values{Fields: []string{"name"},
		Sets: [][]record.Value{{text}, {none}, {blank}}}))
	assert.Equal(b, []string{"thing/A"}, ask(environment.Values{Fields: []string{"name", "amount"},
		Sets: [][]record.Value{{text, amount}, {blank, amount}}}))
	assert.Equal(b, []string{"thing/B"}, ask(environment.Values{Fields: []string{"node_id"}, Sets: [][]record.Value{{leaf}, {nowhere}}}))
	assert.Empty(b, ask(environment.Values{Fields: []string{"node_id"}, Sets: [][]record.Value{{nowhere}}}))
}

func rekeys(b *bench) {
	ctx := context.Background()
	work, err := b.open(false).Begin(ctx, nil)
	require.NoError(b, err)
	rekey := func(typ, was, key, values string) {
		c := b.change(typ, false, key, values)
		old := b.key(typ, was)
		c.Was = &old
		b.write(work, c)
	}
	b.lines(work, "part", nil) // what was learned by the old key must not be used after
	rekey("thing", `["A"]`, `["Z"]`, `{"name":"renamed"}`)
	rekey("node", `[[null,"root"],"leaf"]`, `[null,"twig"]`, `{}`)
	rekey("part", `[["B"],null]`, `[["Z"],9]`, `{}`)
	rekey("thing", `["none"]`, `["B"]`, `{"name":"there already"}`)
	b.write(work, b.change("part", false, `[["Z"],1]`, `{"note":"found by the new key"}`))
	refused, err := work.Write(ctx, b.model, []environment.Change{func() environment.Change {
		c := b.change("thing", false, `["Y"]`, `{}`)
		old := b.key("thing", `["none"]`)
		c.Was = &old
		return c
	}()})
	require.NoError(b, err)
	require.Error(b, refused[0], "a record that is under neither key")
	require.NoError(b, work.Commit(ctx))
	after := b.open(true)
	things := b.lines(after, "thing", nil)
	assert.Equal(b, b.as(strings.NewReplacer("thing/A", "thing/Z", `["A"]`, `["Z"]`, "Æther 'x'", "renamed", `[[null,"root"],"leaf"]`,
		`[null,"twig"]`).Replace(lineA))[0], things[2])
	assert.Contains(b, things[0], "there already")
	assert.Equal(b, []string{`part/Z/1 {"key":[["Z"],1],"values":{"note":"found by the new key"}}`,
		`part/Z/2 {"key":[["Z"],2],"values":{"note":"two"}}`, `part/Z/9 {"key":[["Z"],9],"values":{"note":"none"}}`},
		b.lines(after, "part", nil))
}

func judges(b *bench) {
	statement := `CREATE TABLE ruled (code {text} NOT NULL UNIQUE, n {integer}, high {decimal}, day {date}, CHECK (n < high), CHECK (code <> 'it''s (no)'))`
	for word, typ := range b.engine.Words {
		statement = strings.ReplaceAll(statement, "{"+word+"}", typ)
	}
	b.engine.Exec(b.T, statement)
	env := b.open(true)
	about, err := env.Describe(context.Background())
	require.NoError(b, err)
	judge := env.Can().Judge
	if judge == nil {
		b.Skip("this environment has no rules")
	}
	value := func(kind record.Kind, text string) record.Value {
		if text == "" {
			return record.NullValue()
		}
		v, err := record.Parse(kind, text)
		require.NoError(b, err)
		return v
	}
	tried := 0
	for _, rule := range about.Places["ruled"].Rules {
		switch {
		case slices.Equal(rule.Columns, []string{"n", "high"}):
			refused, err := judge.Judge(context.Background(), "ruled", rule,
				b.rows(value, record.Integer, record.Decimal, "1 1.5", "2 1.5", "2 2", "3 ", " ", "-5 -4.999"))
			require.NoError(b, err)
			assert.Equal(b, []bool{false, true, true, false, false, false}, refused)
			tried++
		case slices.Equal(rule.Columns, []string{"code"}) && !strings.Contains(rule.Text, "length"):
			refused, err := judge.Judge(context.Background(), "ruled", rule,
				[][]record.Value{{value(record.Text, "x")}, {value(record.Text, "it's (no)")}})
			require.NoError(b, err)
			assert.Equal(b, []bool{false, true}, refused)
			tried++
		}
	}
	assert.Equal(b, 2, tried, "%v", about.Places["ruled"].Rules)

	// What an engine cannot try is not refused, and the others are tried all the same.
	refused, err := judge.Judge(context.Background(), "ruled", catalog.Rule{Text: "n / 0 > no_such_column", Columns: []string{"n"}},
		[][]record.Value{{record.IntegerValue(1)}})
	require.NoError(b, err)
	assert.Equal(b, []bool{false}, refused)
	assert.Equal(b, b.as(lineA, lineB, lineC), b.lines(env, "thing", nil), "reading goes on")
}

// rows reads pairs of values, a blank between; nothing is null.
func (b *bench) rows(value func(record.Kind, string) record.Value, one, other record.Kind, lines ...string) [][]record.Value {
	var out [][]record.Value
	for _, line := range lines {
		first, second, _ := strings.Cut(line, " ")
		out = append(out, []record.Value{value(one, first), value(other, second)})
	}
	return out
}
