package test

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const twoTypes = "types:\n  a: {at: a, key: [code], id: id, stamp: {at: changed}}\n  b: {at: b, key: [code], id: id, stamp: {at: changed}}\n"

func twoTables(values string) string {
	return "CREATE TABLE a (id INTEGER PRIMARY KEY, code TEXT, name TEXT, changed DATETIME); CREATE TABLE b (id INTEGER PRIMARY KEY, code TEXT, name TEXT, changed DATETIME);" + values
}

// What changed since the last import is told for each record type: one that was in none is
// taken whole, and nothing of it is missed.
func TestChangesSinceTheLastImportOfEachType(t *testing.T) {
	t.Parallel()
	p := newPlace(t, twoTypes, twoTables("INSERT INTO a VALUES (1,'A','x','2026-01-01 00:00:00'); INSERT INTO b VALUES (1,'B','x','2026-01-01 00:00:00');"), twoTables(""))
	p.refused("Nothing was imported from source into target yet", "export", "source", "--changed-since", "last-import:target")
	p.must(3, "match", "source", "--type", "a", "--against", "target", "--name", "first")
	p.must(0, "approve", "*")
	p.must(0, "import")
	r := p.must(0, "export", "source", "--changed-since", "last-import:target", "--name", "second")
	assert.Contains(t, words(r.out), "In no import so far, so all of their records are chosen: b.")
	p.must(3, "match", "second", "--against", "target")
	assert.Equal(t, "new", p.review()["b/B"].Status)
	p.must(0, "approve", "*")
	p.must(0, "import")
	p.sql("source", "UPDATE b SET name = 'y', changed = datetime('now')")
	r = p.must(0, "export", "source", "--changed-since", "last-import:target", "--name", "third")
	assert.NotContains(t, r.out, "In no import")
	assert.Contains(t, words(r.out), "Exported 1 record")
	// Some records of a type are not all of it.
	p.sql("source", "INSERT INTO a VALUES (2,'C','x',datetime('now')), (3,'D','x',datetime('now'))")
	p.must(3, "match", "source", "--record", "a/C", "--against", "target", "--name", "one")
	p.must(0, "approve", "a/C")
	p.must(0, "import")
	p.must(0, "export", "source", "--changed-since", "last-import:target", "--name", "fourth")
	p.must(3, "match", "fourth", "--against", "target")
	assert.Equal(t, "new", p.review()["a/D"].Status)
}

// What an export carried and no import wrote is exported again, as long as nothing later knows better.
func TestWhatWasNotBroughtIsExportedAgain(t *testing.T) {
	t.Parallel()
	const rows = "INSERT INTO a VALUES (1,'OPEN','x','2026-01-01 00:00:00'),(2,'HELD','x','2026-01-01 00:00:00'),(3,'DECLINED','x','2026-01-01 00:00:00'),(4,'BROUGHT','x','2026-01-01 00:00:00'),(5,'SAME','x','2026-01-01 00:00:00'),(6,'GONE','x','2026-01-01 00:00:00'),(7,'HAND','x','2026-01-01 00:00:00');"
	p := newPlace(t, twoTypes, twoTables(rows), twoTables("INSERT INTO a VALUES (5,'SAME','x','2026-01-01 00:00:00')"))
	p.must(3, "match", "source", "--type", "a", "--against", "target", "--name", "first")
	p.must(0, "approve", "a/BROUGHT")
	p.must(0, "decline", "a/DECLINED")
	p.must(0, "hold", "a/HELD")
	p.must(0, "import")
	p.sql("source", "INSERT INTO a VALUES (8,'LATER','x',datetime('now')); DELETE FROM a WHERE code = 'GONE'")
	r := p.must(0, "export", "source", "--type", "a", "--changed-since", "last-import:target", "--name", "second")
	assert.Contains(t, words(r.out), "Of those chosen 4 did not change since the last import: earlier dockets have them, and no import brought them; 1 others were chosen.")
	assert.Equal(t, []string{"a/DECLINED", "a/HAND", "a/HELD", "a/LATER", "a/OPEN"}, p.holds("second"))
	assert.InDelta(t, 4, p.json(0, "export", "source", "--type", "a", "--changed-since", "last-import:target", "--name", "json")["records"].(map[string]any)["not_brought"], 0)
	p.must(0, "export", "source", "--type", "a", "--changed-since", "last-import:target", "--leave-out", "a/OPEN", "--leave-out", "a/LATER", "--name", "left")
	assert.Equal(t, []string{"a/DECLINED", "a/HAND", "a/HELD"}, p.holds("left"))

	// A later match that finds both sides the same knows better.
	p.sql("target", "INSERT INTO a VALUES (9,'HAND','x','2026-01-01 00:00:00')")
	p.must(3, "match", "source", "--type", "a", "--against", "target", "--name", "third")
	p.must(0, "approve", "a/OPEN")
	p.must(0, "import")
	p.must(0, "export", "source", "--type", "a", "--changed-since", "last-import:target", "--name", "fourth")
	got := p.holds("fourth")
	assert.NotContains(t, got, "a/OPEN")
	assert.NotContains(t, got, "a/HAND")
	assert.Contains(t, got, "a/HELD")
}

// Stamps without zone are those of the environment's zone.
func TestStampsWithoutZone(t *testing.T) {
	t.Parallel()
	p := newPlace(t, twoTypes, twoTables(""), twoTables(""))
	config := string(p.read("anagram.yaml"))
	p.write("anagram.yaml", strings.Replace(config, `source.db"`, `source.db", zone: America/New_York`, 1))
	p.sql("source", "INSERT INTO a VALUES (1,'A','x','2026-01-01 00:00:00')")
	p.must(3, "match", "source", "--against", "target", "--name", "first")
	p.must(0, "approve", "*")
	p.must(0, "import")
	zone, err := time.LoadLocation("America/New_York")
	require.NoError(t, err)
	p.sql("source", "UPDATE a SET name = 'y', changed = '"+time.Now().In(zone).Format(time.DateTime)+"'")
	r := p.must(0, "export", "source", "--changed-since", "last-import:target", "--name", "second")
	assert.Contains(t, words(r.out), "Exported 1 record")
	p.write("anagram.yaml", strings.Replace(config, `source.db"`, `source.db", zone: Mars/North`, 1))
	p.refused(`zone: "Mars/North" is not known; it looks like Europe/Berlin or UTC`, "status")
}

// What is agreed on a type stays when another one is matched, is known in both directions,
// and is learned from nobody who only says where a parcel comes from.
func TestWhatIsAgreedIsKept(t *testing.T) {
	t.Parallel()
	p := newPlace(t, twoTypes, twoTables("INSERT INTO a (code, name) VALUES ('A','x'); INSERT INTO b (code, name) VALUES ('B','x');"), twoTables("INSERT INTO a (code, name) VALUES ('A','x'); INSERT INTO b (code, name) VALUES ('B','x');"))
	p.must(0, "match", "source", "--against", "target", "--name", "both")
	p.sql("target", "UPDATE a SET name = 't'")
	p.must(0, "match", "source", "--type", "b", "--against", "target", "--name", "other")
	p.must(0, "match", "source", "--type", "a", "--against", "target", "--name", "again")
	assert.Equal(t, "target-edit", p.review()["a/A"].Status, "it is still known what a agreed on")
	p.must(3, "match", "target", "--type", "a", "--against", "source", "--name", "back")
	f := p.review()["a/A"]
	assert.Equal(t, []string{"changed", "source"}, []string{f.Status, f.Fields[0].Moved}, "the other way round, too")

	// A stranger's parcel claims to be from source.
	stranger := newPlace(t, twoTypes, twoTables("INSERT INTO a (code, name) VALUES ('A','t'); INSERT INTO b (code, name) VALUES ('B','x');"), twoTables(""))
	stranger.must(0, "export", "source", "--name", "claims")
	text, err := os.ReadFile(stranger.path("parcels/claims.parcel"))
	require.NoError(t, err)
	p.write("parcels/claims.parcel", string(text))
	p.must(0, "match", "claims", "--against", "target")
	p.must(0, "match", "again", "--against", "target")
	assert.Equal(t, "target-edit", p.review()["a/A"].Status, "nothing was learned")
}

// What was left out on purpose is no news.
func TestWhatWasLeftOutIsNotNews(t *testing.T) {
	t.Parallel()
	p := newPlace(t, twoTypes, twoTables("INSERT INTO a VALUES (1,'A','x','2026-01-01 00:00:00'),(2,'NEWEST','x','2026-03-01 00:00:00');"), twoTables(""))
	p.must(0, "export", "source", "--leave-out", "a/NEWEST", "--name", "p")
	assert.NotContains(t, p.must(3, "match", "p", "--against", "target").out, "source-moved")
	p.sql("source", "UPDATE a SET changed = '2026-04-01 00:00:00' WHERE code = 'A'")
	assert.Contains(t, p.must(3, "match", "p", "--against", "target").out, "source-moved")
}
