//go:build unix

package test

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// While others move amounts between the rows of two types, an export is as at one moment: the
// sum is what it always was. Where it cannot be, it is refused, and says who writes.
func TestAnExportIsAsAtOneMoment(t *testing.T) {
	t.Parallel()
	for _, engine := range []string{"sqlite", "sqlite with a log", "postgres", "mysql"} {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			kind, _, logged := strings.Cut(engine, " ")
			p := &place{t: t, dir: t.TempDir(), user: "mara"}
			address, db := server(t, p, kind, "source")
			const rows, each, writers = 400, 100, 10
			if logged {
				run(t, db, "PRAGMA journal_mode = WAL")
			}
			tables := []string{"lefts", "rights"}
			for _, table := range tables {
				var values []string
				for i := range rows {
					values = append(values, fmt.Sprintf("(%d, %d)", i, each))
				}
				run(t, db, "CREATE TABLE "+table+" (code INTEGER PRIMARY KEY, amount INTEGER)", "INSERT INTO "+table+" VALUES "+strings.Join(values, ", "))
			}
			p.write("anagram.yaml", fmt.Sprintf("environments:\n  source: {connect: %q}\n", address))
			p.write("catalog.yaml", "types:\n  left: {at: lefts, key: [code]}\n  right: {at: rights, key: [code]}\n")
			trustElsewhere(p)
			ctx, stop := context.WithCancel(t.Context())
			defer stop()
			if kind == "sqlite" {
				other, err := sql.Open("sqlite", p.uri("source")+"?_pragma=busy_timeout(2000)&_pragma=synchronous(0)&_txlock=immediate")
				require.NoError(t, err)
				defer other.Close()
				db = other
			}
			var busy sync.WaitGroup
			moved := make([]int, writers)
			for w := range writers {
				busy.Go(func() {
					r := rand.New(rand.NewPCG(26, uint64(w)))
					for ctx.Err() == nil {
						if move(ctx, db, tables[w%2], tables[1-w%2], r) {
							moved[w]++
						}
						time.Sleep(time.Duration(r.IntN(4)) * time.Millisecond)
					}
				})
			}
			done, refused := 0, 0
			for i := range full(10, 200) {
				name := fmt.Sprint("p", i)
				r := p.process("export", "source", "--name", name)
				if r.code != 0 {
					refused++
					assert.Regexp(t, "locked by another program|another program writes|is changing the same records", words(r.err))
					continue
				}
				done++
				records, sum, n := recordsOf(p, name), 0, 0
				for _, text := range records {
					for line := range strings.Lines(text) {
						var amount int
						_, err := fmt.Sscanf(line[strings.Index(line, `"amount":`):], `"amount":%d`, &amount)
						require.NoError(t, err, line)
						sum += amount
						n++
					}
				}
				assert.Equal(t, []int{2 * rows, 2 * rows * each}, []int{n, sum}, "export %d holds every record, and the sum of all amounts", i)
			}
			stop()
			busy.Wait()
			total := 0
			for _, n := range moved {
				total += n
			}
			assert.Positive(t, total, "amounts were moved")
			assert.Positive(t, done, "exports came about")
			t.Logf("%s: %d exports, %d refused, %d amounts moved meanwhile", engine, done, refused, total)
		})
	}
}

// move moves an amount from a row of one table to a row of another.
func move(ctx context.Context, db *sql.DB, from, to string, r *rand.Rand) bool {
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return false
	}
	defer func() { _ = tx.Rollback() }()
	n := 1 + r.IntN(9)
	for _, statement := range []string{
		fmt.Sprintf("UPDATE %s SET amount = amount - %d WHERE code = %d", from, n, r.IntN(400)),
		fmt.Sprintf("UPDATE %s SET amount = amount + %d WHERE code = %d", to, n, r.IntN(400)),
	} {
		if _, err := tx.ExecContext(ctx, statement); err != nil {
			return false
		}
	}
	return tx.Commit() == nil
}
