package test

import (
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/gofrs/flock"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const fieldsTable = "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, f1 TEXT, f2 TEXT, f3 TEXT);"

// fieldsPlace has A and B with two fields that differ, and N that is new.
func fieldsPlace(t *testing.T) *place {
	p := newPlace(t, "types:\n  item: {at: items, key: [code], id: id}\n",
		fieldsTable+"INSERT INTO items (code, f1, f2) VALUES ('A','s','s'),('B','s','s'),('N','s','s');",
		fieldsTable+"INSERT INTO items (code, f1, f2) VALUES ('A','t','t'),('B','t','t');")
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	return p
}

// What somebody declined or held is never written because of a later word about more than
// that: whatever the steps, the import writes exactly what is said here. A and N as CODE f1
// f2; null is a record that was not made.
func TestWhatWasDeclinedIsNotWritten(t *testing.T) {
	t.Parallel()
	inGate(t, "every engine")
	type step []string
	for name, c := range map[string]struct {
		steps []step
		want  []string
	}{
		"everything after a declined field":     {[]step{{"decline", "item/A", "--field", "f2"}, {"approve", "*"}}, []string{"A t t", "B s s", "N s s"}},
		"a type after a held field":             {[]step{{"hold", "item/A", "--field", "f2"}, {"approve", "--type", "item"}}, []string{"A t t", "B s s", "N s s"}},
		"a status after a declined field":       {[]step{{"decline", "item/A", "--field", "f2"}, {"approve", "--status", "changed"}}, []string{"A t t", "B s s"}},
		"after an approved field":               {[]step{{"approve", "item/A", "--field", "f1"}, {"approve", "*"}}, []string{"A s t", "B s s", "N s s"}},
		"the record itself":                     {[]step{{"decline", "item/A", "--field", "f2"}, {"approve", "item/A"}}, []string{"A s t", "B t t"}},
		"the record itself, again":              {[]step{{"decline", "item/A", "--field", "f2"}, {"approve", "item/A", "--again"}}, []string{"A s s", "B t t"}},
		"the field itself":                      {[]step{{"decline", "item/A", "--field", "f2"}, {"approve", "item/A", "--field", "f2"}}, []string{"A t s", "B t t"}},
		"everything, again":                     {[]step{{"decline", "item/A", "--field", "f2"}, {"approve", "*", "--again"}}, []string{"A s s", "B s s", "N s s"}},
		"with the record declined in between":   {[]step{{"decline", "item/A", "--field", "f2"}, {"decline", "item/A"}, {"approve", "item/A"}}, []string{"A s t", "B t t"}},
		"a field of a new record":               {[]step{{"decline", "item/N", "--field", "f2"}, {"approve", "*"}}, []string{"A s s", "B s s"}},
		"a field of a new record, then it":      {[]step{{"decline", "item/N", "--field", "f2"}, {"approve", "item/N"}}, []string{"A t t", "B t t", "N s null"}},
		"everything, then declined by pattern":  {[]step{{"approve", "*"}, {"decline", "item/A*"}}, []string{"A t t", "B s s", "N s s"}},
		"everything, then held by status":       {[]step{{"approve", "*"}, {"hold", "--status", "changed"}}, []string{"A t t", "B t t", "N s s"}},
		"everything, then a field by pattern":   {[]step{{"approve", "*"}, {"decline", "*", "--field", "f2"}}, []string{"A s t", "B s t", "N s null"}},
		"a field, then all declined by pattern": {[]step{{"approve", "item/A", "--field", "f1"}, {"decline", "*"}}, []string{"A t t", "B t t"}},
		"declined, then a field by pattern":     {[]step{{"decline", "item/A"}, {"approve", "*", "--field", "f1"}}, []string{"A t t", "B s t"}},
		"the target's values, then everything":  {[]step{{"approve", "item/A", "--take", "target"}, {"approve", "*"}}, []string{"A t t", "B s s", "N s s"}},
		"a field as in the target":              {[]step{{"approve", "item/A", "--field", "f1", "--take", "target"}, {"approve", "item/A"}}, []string{"A t s", "B t t"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := fieldsPlace(t)
			for _, s := range c.steps {
				p.must(0, s...)
			}
			p.run("import")
			assert.Equal(t, c.want, p.rows("target", "SELECT code, f1, f2 FROM items ORDER BY 1"))
		})
	}
}

// A decision on a field carries over like one on a record, whatever else became of the
// record, and also where a docket lay in between.
func TestFieldDecisionsCarryOver(t *testing.T) {
	t.Parallel()
	p := fieldsPlace(t)
	p.must(0, "decline", "item/A", "--field", "f2", "--note", "not this one")
	p.must(0, "approve", "item/A", "item/N")
	p.must(0, "import")
	p.must(3, "match", "p", "--against", "target")
	p.must(3, "match", "p", "--against", "target")
	f := p.review()["item/A"]
	assert.Equal(t, []string{"declined"}, []string{f.Fields[0].Decision})
	assert.Contains(t, words(p.must(0, "review", "--only", "item/A").out), "changed, declined by mara")
	assert.Contains(t, words(p.must(0, "review", "--only", "item/A").out), "carried over from docket 1: not this one")
	p.must(0, "approve", "*")
	p.must(0, "import")
	assert.Equal(t, []string{"A s t", "B s s", "N s s"}, p.rows("target", "SELECT code, f1, f2 FROM items ORDER BY 1"))

	// Another value is another question.
	p.sql("source", "UPDATE items SET f2 = 'new', f1 = 'new' WHERE code = 'A'")
	p.must(3, "match", "source", "--against", "target", "--name", "q")
	assert.Empty(t, p.review()["item/A"].Fields[1].Decision)
	// What was approved anew is not declined again by what was said before.
	p.must(0, "approve", "item/A", "--field", "f2")
	p.sql("source", "UPDATE items SET f2 = 's' WHERE code = 'A'")
	p.must(3, "match", "source", "--against", "target", "--name", "r")
	assert.Empty(t, p.review()["item/A"].Fields[1].Decision)
	// A record that was declined but for one field stays declined in the others.
	p.must(0, "decline", "item/A")
	p.must(0, "approve", "item/A", "--field", "f1")
	p.must(3, "match", "r", "--against", "target")
	f = p.review()["item/A"]
	assert.Equal(t, []string{"open", "", "declined"}, []string{f.Decision, f.Fields[0].Decision, f.Fields[1].Decision})
}

// The side of the target is the whole record as it is, and shown as that.
func TestTheTargetsSide(t *testing.T) {
	t.Parallel()
	p := newPlace(t, "types:\n  item: {at: items, key: [code], id: id}\n",
		fieldsTable+"INSERT INTO items (code, f1, f2, f3) VALUES ('A','1','1','1'),('B','1','1','1'),('C','1','1','1');",
		fieldsTable+"INSERT INTO items (code, f1, f2, f3) VALUES ('A','1','1','1'),('B','1','1','1'),('C','1','1','1');")
	p.must(0, "match", "source", "--against", "target", "--name", "p")
	p.sql("source", "UPDATE items SET f1 = 's', f2 = 's'")
	p.sql("target", "UPDATE items SET f1 = 't', f3 = 't'")
	p.must(3, "match", "source", "--against", "target", "--name", "q")
	assert.Contains(t, words(p.must(0, "approve", "item/A", "--take", "target").out), "target keeps its values")
	r := p.must(0, "approve", "item/B", "--take", "source")
	assert.Contains(t, words(r.out), "The values of source are taken in 3 fields; target had changed 2 of them itself.")
	p.must(0, "approve", "item/C", "--take", "source")
	p.must(0, "approve", "item/C", "--take", "target", "--field", "f1")
	text := words(p.must(0, "review", "--full").out)
	assert.Contains(t, text, "conflict (both-moved), target keeps its values, approved by mara")
	assert.Contains(t, text, "conflict (both-moved), approved with the values of source by mara")
	assert.Contains(t, text, "Decisions: 0 open, 2 approved, 0 declined, 0 held, 1 kept.")
	assert.Equal(t, "target-kept", p.review()["item/A"].Decision)
	p.must(0, "import")
	assert.Equal(t, []string{"A t 1 t", "B s s 1", "C t s 1"}, p.rows("target", "SELECT code, f1, f2, f3 FROM items ORDER BY 1"))
	p.must(0, "match", "q", "--against", "target")
	assert.Contains(t, words(p.must(0, "review", "--only", "item/A").out), "target keeps its values, approved by mara")
}

// While an import runs nothing is decided, and two do not import one docket.
func TestNobodyDecidesDuringAnImport(t *testing.T) {
	t.Parallel()
	p := fieldsPlace(t)
	p.must(0, "approve", "item/A")
	p.hurry = 10
	lock := flock.New(p.path("dockets/.0001.docket.lock"))
	got, err := lock.TryLock()
	require.NoError(t, err)
	require.True(t, got)
	r := p.must(1, "decline", "item/A")
	assert.Contains(t, words(r.err), "the docket is being imported, so nothing can be decided in it now. Nothing was decided; wait until the import has ended")
	assert.Contains(t, words(p.must(1, "import").err), "it is being imported or decided by another anagram")
	assert.Equal(t, "approved", p.review()["item/A"].Decision, "reading goes on")
	p.hurry = 0
	go func() {
		time.Sleep(100 * time.Millisecond)
		_ = lock.Unlock()
	}()
	p.must(0, "decline", "item/A") // it waits a moment
	assert.Equal(t, "declined", p.review()["item/A"].Decision)
}

// Several people decide and read at once: nothing is refused and nothing lost.
func TestManyDecideAtOnce(t *testing.T) {
	t.Parallel()
	p := fieldsPlace(t)
	var all sync.WaitGroup
	for i := range 4 {
		for _, args := range [][]string{{"decline", []string{"item/A", "item/B", "item/N", "item/A"}[i], "--note", fmt.Sprint("by ", i)}, {"review", "1"}} {
			all.Go(func() {
				r := p.run(args...)
				assert.Zero(t, r.code, "%v: %s", args, r.err)
			})
		}
	}
	all.Wait()
	f := p.review()
	for _, address := range []string{"item/A", "item/B", "item/N"} {
		assert.Equal(t, "declined", f[address].Decision)
	}
}
