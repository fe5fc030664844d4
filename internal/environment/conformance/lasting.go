package conformance

import (
	"context"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/record"
	"anagram/internal/environment"
)

// What holds where each write is lasting by itself.

// writesExpected changes a record that somebody else changed since it was read.
func writesExpected(b *bench) {
	ctx := context.Background()
	work, err := b.open(false).Begin(ctx, nil)
	require.NoError(b, err)
	assert.False(b, work.Transaction())
	b.lines(work, "thing", []record.Key{b.key("thing", `["A"]`), b.key("thing", `["B"]`)})
	b.engine.Exec(b.T, `UPDATE things SET name = 'by somebody else' WHERE code = 'A'`)
	var changes []environment.Change
	was := map[string]string{"A": "Æther 'x'", "B": ""}
	for _, code := range []string{"A", "B"} {
		c := b.change("thing", false, `["`+code+`"]`, `{"name":"ours"}`)
		c.Check = true
		c.Expect = make([]record.Value, len(c.Fields))
		for i := range c.Expect {
			c.Expect[i] = record.AbsentValue()
			if c.Fields[i].Name == "name" {
				if c.Expect[i], err = record.TextValue(was[code]); err != nil {
					b.Fatal(err)
				}
			}
		}
		changes = append(changes, c)
	}
	refused, err := work.Write(ctx, b.model, changes)
	require.NoError(b, err)
	require.ErrorIs(b, refused[0], environment.ErrMoved)
	require.NoError(b, refused[1])
	require.NoError(b, work.Settle(ctx))
	require.NoError(b, work.Commit(ctx))
	after := b.lines(b.open(true), "thing", nil)
	assert.Contains(b, after[0], "by somebody else")
	assert.Contains(b, after[1], `"name":"ours"`)
}

// removes takes away records as a restore does, and none that is referred to.
func removes(b *bench) {
	ctx := context.Background()
	work, err := b.open(false).Begin(ctx, nil)
	require.NoError(b, err)
	thing := environment.Change{Type: "thing", Key: b.key("thing", `["C"]`), Remove: true}
	refused, err := work.Write(ctx, b.model, []environment.Change{thing})
	require.NoError(b, err)
	require.NoError(b, refused[0])
	require.NoError(b, work.Commit(ctx))
	assert.Equal(b, b.as(lineA, lineB), b.lines(b.open(true), "thing", nil))
}
