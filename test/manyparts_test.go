package test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Parts of very many records are found by reading all parts, unless there are far too many of
// them. Either way the same come along, with what they need, and are told alike.
func TestThePartsOfVeryManyRecords(t *testing.T) {
	inLongRun(t, "very many records")
	t.Parallel()
	const owners = 21_000
	catalog := "types:\n  unit: {at: units, key: [code], id: id}\n  panel: {at: panels, key: [code], id: id}\n" +
		"  step: {at: steps, key: [panel_id, no], id: id, part_of: panel, refers: {panel_id: panel, unit_id: unit, after_id: panel}}\n"
	for _, c := range []struct {
		what         string
		steps, wrong int    // of each panel, and of panels that are not chosen
		more         string // another statement
	}{{"all parts are read", 2, 1, ""}, {"there are too many between them", 1, 12, ""},
		{"one that is not chosen cannot be told", 2, 1, fmt.Sprintf("UPDATE steps SET day = 'none' WHERE panel_id = %d;", owners+9)}} {
		t.Run(c.what, func(t *testing.T) {
			p := newPlace(t, catalog, fmt.Sprintf(`CREATE TABLE units (id INTEGER PRIMARY KEY, code TEXT UNIQUE);
				CREATE TABLE panels (id INTEGER PRIMARY KEY, code TEXT UNIQUE, grade INTEGER);
				CREATE TABLE steps (id INTEGER PRIMARY KEY, panel_id INTEGER REFERENCES panels (id), no INTEGER, unit_id INTEGER REFERENCES units (id), after_id INTEGER REFERENCES panels (id), day DATE, UNIQUE (panel_id, no));
				INSERT INTO units VALUES (1, 'mmol'), (2, 'mg'), (3, 'of nobody chosen');
				WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < %d) INSERT INTO panels SELECT i, printf('P%%06d', i), i <= %d FROM n;
				WITH RECURSIVE k(j) AS (SELECT 1 UNION ALL SELECT j + 1 FROM k WHERE j < 12) INSERT INTO steps (panel_id, no, unit_id, after_id)
					SELECT p.id, k.j, CASE WHEN p.grade THEN 1 + k.j %% 2 ELSE 3 END, CASE WHEN p.id = 7 AND k.j = 1 THEN %d WHEN p.id = 9 AND k.j = 1 THEN 8 END
					FROM panels p JOIN k ON k.j <= CASE WHEN p.grade THEN %d ELSE %d END;`, 2*owners, owners, owners+5, c.steps, c.wrong)+c.more, "")
			p.must(0, "export", "source", "--where", "panel: grade == 1", "--name", "many")
			// Panel 7 needs one that was not chosen, through a part of it.
			p.must(0, "export", "source", "--record", "panel/P000007", "--record", "panel/P000009", "--name", "few")
			all := map[string]map[string]string{"many": recordsOf(p, "many"), "few": recordsOf(p, "few")}
			lines := func(parcel, typ string) []string {
				return strings.Split(strings.TrimSpace(all[parcel]["records/"+typ+".jsonl"]), "\n")
			}
			panels, steps := lines("many", "panel"), lines("many", "step")
			assert.Len(t, panels, owners+1)
			assert.Len(t, steps, c.steps*owners+c.wrong)
			assert.Len(t, lines("many", "unit"), map[bool]int{true: 3, false: 2}[c.steps > 1], "the third is needed by the parts of the panel that came along")
			require.Contains(t, panels[owners], fmt.Sprintf("P%06d", owners+5))
			assert.Contains(t, panels[owners], `"why":"along","through":"step/P000007/1 after_id"`)
			assert.Contains(t, steps[0], `"why":"along","through":"part of panel/P000001"`)
			few := lines("few", "step")
			require.GreaterOrEqual(t, len(few), 2*c.steps)
			for _, line := range few {
				if strings.Contains(line, "P000007") || strings.Contains(line, "P000009") {
					assert.Contains(t, steps, line, "a part is told alike, however it was found")
				}
			}
		})
	}
}

// A part that cannot be told stops nothing as long as its owner is not picked.
func TestAnOddPartOfAnotherRecord(t *testing.T) {
	t.Parallel()
	p := newPlace(t, "types:\n  panel: {at: panels, key: [code], id: id}\n  step: {at: steps, key: [panel_id, no], id: id, part_of: panel, refers: {panel_id: panel}}\n", `CREATE TABLE panels (id INTEGER PRIMARY KEY, code TEXT UNIQUE, grade INTEGER);
		CREATE TABLE steps (id INTEGER PRIMARY KEY, panel_id INTEGER REFERENCES panels (id), no INTEGER, day DATE);
		WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 21010) INSERT INTO panels SELECT i, printf('P%06d', i), i <= 21000 FROM n;
		INSERT INTO steps (panel_id, no, day) VALUES (5, 1, '2026-01-01'), (21005, 1, 'none'), (7, 1, NULL);`, "")
	p.must(0, "export", "source", "--where", "panel: grade == 1", "--name", "many")
	records := recordsOf(p, "many")
	assert.Equal(t, 21000, strings.Count(records["records/panel.jsonl"], "\n"))
	assert.Regexp(t, `^\{"key":\[\["P000005"\],1\],"values":\{"day":"2026-01-01"\}.*\n\{"key":\[\["P000007"\],1\],.*\n$`, records["records/step.jsonl"])
	p.sql("source", "UPDATE panels SET grade = 1 WHERE id = 21005")
	assert.Contains(t, words(p.must(0, "export", "source", "--where", "panel: grade == 1").out), `1 record has a value that cannot be read, and cannot be approved: step/P021005/1, field day: "none" is not a date`)
	// What a condition picks by itself is there once, though it is a part of what another picks.
	p.sql("source", "UPDATE steps SET day = NULL WHERE day = 'none'; INSERT INTO steps (panel_id, no) VALUES (8, 2)")
	p.must(0, "export", "source", "--where", "panel: grade == 1", "--where", "step: no == 1", "--name", "both")
	both := recordsOf(p, "both")["records/step.jsonl"]
	assert.Equal(t, 4, strings.Count(both, "\n"), both)
	assert.Equal(t, 3, strings.Count(both, `"why":"chosen"`), both)
}
