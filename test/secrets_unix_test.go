//go:build unix

package test

import (
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const marker = "mArKeR-7f3a"

// No value of a secret field comes out, whatever the database refuses and however it says
// so: not in what is printed, nor in any file.
func TestNoSecretComesOut(t *testing.T) {
	t.Parallel()
	raise := map[string][]string{
		"postgres": {"CREATE FUNCTION refuse() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE EXCEPTION 'no: %', OLD.token USING DETAIL = OLD.token, HINT = OLD.token; END $$", "CREATE TRIGGER refuse BEFORE UPDATE ON items FOR EACH ROW EXECUTE FUNCTION refuse()"},
		"mysql":    {"CREATE TRIGGER refuse BEFORE UPDATE ON items FOR EACH ROW BEGIN DECLARE text VARCHAR(99); SET text = concat('no: ', OLD.token); SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = text; END"},
		"sqlite":   {"CREATE TRIGGER refuse BEFORE UPDATE ON items BEGIN SELECT RAISE(ABORT, 'no: " + marker + "'); END"},
	}
	refusals := map[string]map[string][]string{
		"a check": {"postgres": {"ALTER TABLE items ADD CONSTRAINT fair CHECK (price < 5 OR token IS NULL)"}, "mysql": {"ALTER TABLE items ADD CONSTRAINT fair CHECK (price < 5 OR token IS NULL)"}},
		"a unique value": {"postgres": {"CREATE UNIQUE INDEX one ON items (lower(name), token)"}, "sqlite": {"CREATE UNIQUE INDEX one ON items (lower(name), token)"},
			"mysql": {"ALTER TABLE items ADD COLUMN low VARCHAR(99) AS (concat(lower(name), token)), ADD UNIQUE (low)"}},
		"a required value": {"postgres": {"ALTER TABLE items ALTER COLUMN note SET NOT NULL"}, "mysql": {"ALTER TABLE items MODIFY note VARCHAR(40) NOT NULL"}},
		"a trigger":        raise,
		"a wrong cast": {"postgres": {"CREATE FUNCTION cast_it() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN NEW.price := OLD.token::integer; RETURN NEW; END $$", "CREATE TRIGGER cast_it BEFORE UPDATE ON items FOR EACH ROW EXECUTE FUNCTION cast_it()"},
			"mysql": {"CREATE TRIGGER cast_it BEFORE UPDATE ON items FOR EACH ROW SET NEW.price = OLD.token"}},
		"a strange statement": {"postgres": {"CREATE FUNCTION run_it() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN EXECUTE 'SELECT ' || quote_ident(OLD.token); RETURN NEW; END $$", "CREATE TRIGGER run_it BEFORE UPDATE ON items FOR EACH ROW EXECUTE FUNCTION run_it()"}},
		"a value that a trigger alters": {"postgres": {"CREATE FUNCTION alter_it() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN NEW.token := NEW.token || 'x'; NEW.other := NEW.token; RETURN NEW; END $$", "CREATE TRIGGER alter_it BEFORE UPDATE ON items FOR EACH ROW EXECUTE FUNCTION alter_it()"},
			"mysql":  {"CREATE TRIGGER alter_it BEFORE UPDATE ON items FOR EACH ROW SET NEW.token = concat(NEW.token, 'x'), NEW.other = NEW.token"},
			"sqlite": {"CREATE TRIGGER alter_it AFTER UPDATE OF price ON items BEGIN UPDATE items SET other = token WHERE code = NEW.code; END"}},
	}
	for kind, of := range refusals {
		for engine, statements := range of {
			if !thorough && engine != slices.Sorted(maps.Keys(of))[len(kind)%len(of)] {
				continue
			}
			t.Run(kind+" on "+engine, func(t *testing.T) {
				t.Parallel()
				p, source, target := pair(t, engine, "types:\n  item: {at: items, key: [code], secret: [token], local: {other: {}}}\n",
					"CREATE TABLE items (code VARCHAR(9) PRIMARY KEY, name VARCHAR(40), price INTEGER, note VARCHAR(40), token VARCHAR(60), other VARCHAR(60))")
				run(t, source, "INSERT INTO items VALUES ('A','Apple',50,NULL,'"+marker+"s',NULL),('B','bean',2,'n','"+marker+"s',NULL),('C','APPLE',3,'n','"+marker+"t',NULL)")
				run(t, target, "INSERT INTO items VALUES ('A','old',1,'n','"+marker+"',NULL),('B','bean',200,'n','"+marker+"',NULL),('C','apple',4,'n','"+marker+"',NULL)")
				if kind == "a check" || kind == "a required value" {
					run(t, target, "UPDATE items SET price = 1")
				}
				var printed strings.Builder
				do := func(args ...string) {
					forms := [][]string{nil, {"--json"}}
					if !longRun && args[0] != "review" && args[len(args)-1] != "import" {
						forms = forms[:1]
					}
					for _, more := range forms {
						r := p.run(append(args, more...)...)
						printed.WriteString(r.out + r.err)
					}
				}
				do("catalog", "draft", "target")
				do("catalog", "check")
				do("env", "test")
				do("match", "source", "--against", "target", "--name", "p")
				p.run("match", "source", "--against", "target", "--name", "q")
				do("review")
				p.must(0, "approve", "*")
				run(t, target, statements...)
				do("import", "--rehearse")
				do("import")
				do("history", "1")
				do("history", "2")
				do("status")
				do("match", "p", "--against", "target")
				do("parcel", "show", "p")
				do("import", "--into-files", "load", "--form", "sql")
				text := printed.String()
				assert.Contains(t, text, "item/A")
				assert.NotContains(t, text, marker)
				assert.NotContains(t, text, strings.ToLower(marker))
				require.NoError(t, filepath.WalkDir(p.dir, func(path string, entry os.DirEntry, err error) error {
					if err != nil || entry.IsDir() || strings.HasSuffix(path, ".db") || strings.Contains(path, ".db-") {
						return err
					}
					content, err := os.ReadFile(path)
					assert.NotContains(t, string(content), marker, path)
					return err
				}))
				met := "the database refuses it"
				switch kind {
				case "a value that a trigger alters":
					met = "was not to be written"
				case "a required value": // which is asked again before anything is written
					met = "is null, and a value is required"
				case "a strange statement":
					met = "a column is not there (42703)"
				}
				assert.Contains(t, words(text), met, "the refusal was met")
			})
		}
	}
}
