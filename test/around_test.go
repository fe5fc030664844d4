package test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// aroundPlace has a target for which something is run and reminded of around imports.
func aroundPlace(t *testing.T, engine, around string) (*place, func(query string) []string, func(statements ...string)) {
	t.Helper()
	p, source, target := pair(t, engine, "types:\n  item: {at: items, key: [code]}\n", "CREATE TABLE items (code VARCHAR(9) PRIMARY KEY, name VARCHAR(20))", "CREATE TABLE features (code VARCHAR(9) PRIMARY KEY, state VARCHAR(9))", "CREATE TABLE seen (what VARCHAR(40))")
	run(t, source, "INSERT INTO items VALUES ('A','new')")
	run(t, target, "INSERT INTO items VALUES ('A','old')", "INSERT INTO features VALUES ('auto','on')")
	text := string(p.read("anagram.yaml"))
	at := strings.Index(text, "target: {") + len("target: {")
	p.write("anagram.yaml", text[:at]+"around_import: "+around+", "+text[at:])
	return p, func(query string) []string { return lines(t, target, query) }, func(statements ...string) { run(t, target, statements...) }
}

const switchOff = `{before: ["UPDATE features SET state = 'off'", "INSERT INTO seen SELECT name FROM items"], after: ["INSERT INTO seen SELECT name FROM items", "UPDATE features SET state = 'on'"], remind: {before: ["Ask users to sign out."], after: ["Refresh the web cache."]}}`

func TestAnImportIsSurrounded(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), everyEngine...) {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			p, see, do := aroundPlace(t, engine, switchOff)
			assert.Contains(t, words(p.must(2, "match", "source", "--against", "target").err), "runs before an import: UPDATE features SET state = 'off'")
			p.trust()
			r := p.must(3, "match", "source", "--against", "target", "--name", "p")
			for _, said := range []string{"before the import, run: UPDATE features SET state = 'off'", "before the import, to do: Ask users to sign out.", "after the import, run: UPDATE features SET state = 'on'", "after the import, to do: Refresh the web cache."} {
				assert.Contains(t, words(r.out), said)
				assert.Contains(t, words(p.must(0, "review", "1").out), said)
			}
			p.must(0, "approve", "*")
			r = p.must(0, "import", "--rehearse") // nothing around it
			assert.Empty(t, see("SELECT what FROM seen"))
			r = p.must(4, "import")
			assert.Contains(t, words(r.err), "reminders: Before an import into target: Ask users to sign out. See to it, then say so with anagram import 1 --reminded.")
			assert.Empty(t, see("SELECT what FROM seen"))
			r = p.must(0, "import", "1", "--reminded") // as it says
			assert.Contains(t, words(r.out), "Run in target as anagram.yaml says: 2 statements before and 2 statements after the import.")
			assert.Contains(t, words(r.out), "To do now: Refresh the web cache.")
			assert.Equal(t, []string{"new", "old"}, see("SELECT what FROM seen ORDER BY 1"))
			assert.Equal(t, []string{"on"}, see("SELECT state FROM features"))

			// Whatever becomes of the import, what comes after it is run.
			do("DELETE FROM seen", "UPDATE items SET name = 'old'")
			if engine == "sqlite" {
				do("CREATE TRIGGER alters AFTER UPDATE ON items BEGIN UPDATE items SET name = 'x' WHERE code = NEW.code; END")
			} else {
				do(trigger(engine, "BEFORE", "UPDATE", "SET NEW.name = 'x'")...)
			}
			p.must(0, "match", "p", "--against", "target")
			p.must(0, "approve", "*", "--take", "source")
			r = p.must(1, "import", "--reminded")
			assert.Contains(t, words(r.out), "Nothing was written to target")
			assert.Equal(t, []string{"old", "old"}, see("SELECT what FROM seen"))
			assert.Equal(t, []string{"on"}, see("SELECT state FROM features"))
		})
	}
}

// What was matched is what is run: the workspace may not say otherwise since.
func TestWhatIsRunIsWhatWasShown(t *testing.T) {
	t.Parallel()
	p, see, do := aroundPlace(t, "sqlite", `{before: ["UPDATE features SET state = 'off'"], after: ["UPDATE no_such_table SET a = 1", "UPDATE features SET state = 'on'"]}`)
	p.trust()
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	p.must(0, "approve", "*")
	config := string(p.read("anagram.yaml"))
	p.write("anagram.yaml", strings.Replace(config, "state = 'off'", "state = 'gone'", 1))
	p.trust()
	assert.Contains(t, words(p.must(4, "import").err), "anagram.yaml says otherwise under around_import: of target than when docket 1 was matched. Match again.")
	p.write("anagram.yaml", config)
	assert.Contains(t, words(p.must(2, "import").err), "anagram trust")
	p.trust()
	r := p.must(1, "import") // one of them fails, the others are run; it is told, and due again
	assert.Contains(t, words(r.out), `what anagram.yaml says to run after an import was not, of docket 1 into target: "UPDATE no_such_table SET a = 1"`)
	assert.Contains(t, words(r.out), "Imported docket 1 into target")
	assert.Equal(t, []string{"on"}, see("SELECT state FROM features"))
	do("CREATE TABLE no_such_table (a INTEGER)")
	r = p.must(0, "match", "p", "--against", "target")
	assert.Contains(t, words(r.err), "What is to be run after the import of docket 1 into target had not all been run. It was run now.")
	r = p.must(0, "match", "p", "--against", "target")
	assert.NotContains(t, r.err, "had not all been run")

	// What fails before it keeps the import from happening, and is taken back.
	p.write("anagram.yaml", strings.Replace(config, `before: ["UPDATE features SET state = 'off'"`, `before: ["UPDATE features SET state = 'off'", "UPDATE nothing SET a = 1"`, 1))
	p.trust()
	do("UPDATE items SET name = 'old'", "CREATE TABLE told (state TEXT)", "CREATE TRIGGER tells AFTER UPDATE ON features BEGIN INSERT INTO told VALUES (new.state); END")
	p.must(0, "match", "p", "--against", "target")
	p.must(0, "approve", "*", "--take", "source")
	r = p.must(1, "import")
	assert.Contains(t, words(r.err), "what anagram.yaml says to run before an import failed, so nothing was imported")
	assert.Equal(t, []string{"old"}, see("SELECT name FROM items"))
	assert.Equal(t, []string{"on"}, see("SELECT state FROM told"), "only what comes after it remained")
	for why, around := range map[string]string{"holds an empty text": `{before: [""]}`, "befor": `{befor: ["x"]}`} {
		p.write("anagram.yaml", "environments:\n  source: {connect: \"sqlite:source.db\"}\n  target: {connect: \"sqlite:target.db\", around_import: "+around+"}\n")
		assert.Contains(t, words(p.must(2, "status").err), why)
	}
	p.write("anagram.yaml", "environments:\n  source: {connect: \"sqlite:source.db\"}\n  target: {connect: \"folder:x\", around_import: {after: [x]}}\n")
	assert.Contains(t, words(p.must(2, "status").err), "a folder of files runs no statements")
}

// Where the program is killed, what comes after the import is run at the next start.
func TestAKillDoesNotKeepWhatComesAfterFromRunning(t *testing.T) {
	inLongRun(t, "a server has to notice a kill")
	t.Parallel()
	for _, next := range [][]string{{"match", "p", "--against", "target"}, {"import", "1"}} {
		p, see, do := aroundPlace(t, "mysql", `{before: ["UPDATE features SET state = 'off'"], after: ["UPDATE features SET state = 'on'"]}`)
		p.trust()
		p.must(3, "match", "source", "--against", "target", "--name", "p")
		p.must(0, "approve", "*")
		do("CREATE TRIGGER slow BEFORE UPDATE ON items FOR EACH ROW SET @a = sleep(4)")
		cmd := p.command("import")
		require.NoError(t, cmd.Start())
		for range 1500 {
			if see("SELECT state FROM features")[0] == "off" {
				break
			}
			time.Sleep(2 * time.Millisecond)
		}
		require.Equal(t, []string{"off"}, see("SELECT state FROM features"))
		require.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait()
		do("DROP TRIGGER slow")
		time.Sleep(4 * time.Second) // the server ends the connection of the one that was killed
		r := p.run(next...)
		assert.Contains(t, words(r.out+r.err), "What is to be run after the import of docket 1 into target had not all been run. It was run now.")
		assert.Equal(t, []string{"on"}, see("SELECT state FROM features"))
	}
}
