package sqlite

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/environment/sqldb/engine"
	"anagram/internal/tests"
)

// What is read as the rule of a table is what the engine itself holds to, whatever stands
// around it in the statement: comments, texts and names in every form.
func TestRulesAreReadAsTheEngineReadsThem(t *testing.T) {
	db, err := sql.Open("sqlite", ":memory:")
	require.NoError(t, err)
	defer db.Close()
	db.SetMaxOpenConns(1)
	random := rand.New(rand.NewPCG(5, 8))
	pieces := []string{"/*/", "*/", "/*", "--", "\n", "'", "''", `"`, `""`, "[", "]", "`", "CHECK", "(", ")", "check (a > 9)", "x'27'", " ", "\f", "\u00a0", "é", "\ufeff", "\\", "a", "1", "1e", "$", ",", "DEFAULT", "'it''s'", "NOT NULL"}
	noise := func() string {
		out := ""
		for range random.IntN(7) {
			out += pieces[random.IntN(len(pieces))]
		}
		return out
	}
	accepted, tried := 0, 0
	for n := range tests.Times(1000, 3000) {
		quoted := []string{"'" + noise() + "'", "/*" + noise() + "*/", "--" + noise() + "\n", "DEFAULT '" + noise() + "'", noise()}[random.IntN(5)]
		statement := fmt.Sprintf("CREATE TABLE t%d (a INT %s, b INT CHECK (a <> 4711) %s)", n, quoted, noise())
		if _, err := db.Exec(statement); err != nil {
			continue
		}
		accepted++
		_, refused := db.Exec(fmt.Sprintf("INSERT INTO t%d (a) VALUES (4711)", n))
		found := false
		for _, rule := range engine.ChecksIn(statement) {
			if !engine.Triable(rule.Text) {
				continue
			}
			var wrong any
			if err := db.QueryRow("SELECT 1 FROM (SELECT 4711 AS a, NULL AS b) WHERE NOT (" + rule.Text + ")").Scan(&wrong); err == nil {
				found = true
				tried++
			}
		}
		if found {
			assert.Error(t, refused, statement)
		}
		if _, err := db.Exec(fmt.Sprintf("DROP TABLE t%d", n)); err != nil {
			require.NoError(t, err)
		}
	}
	assert.Greater(t, accepted, 100)
	assert.Greater(t, tried, accepted*9/10, "rules that hold are found")
}

// What cannot be one expression is not tried.
func TestOnlyOneExpressionIsTried(t *testing.T) {
	for text, want := range map[string]bool{
		"a > 0": true, "(a) AND b": true, "a IN ('x;y', 'it''s')": true, `"odd ""name" > 1`: true, "[odd] = 'select'": true,
		"": false, " ": false, "a > 0); ATTACH 'x' AS y; SELECT (1": false, "a > 0 -- x": false, "a /*/ > 0 */": false, "a = 'open": false, "a = 'open''": false, `"open`: false, "[open": false,
		"a IN (SELECT 1)": false, "a IN (WITH x AS (VALUES (1)) SELECT 1)": false, "a > 0) OR (1": false, "a; b": false, "(a": false, "a = 1\x00": false,
	} {
		assert.Equal(t, want, engine.Triable(text), text)
	}
}
