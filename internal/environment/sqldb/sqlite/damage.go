package sqlite

import (
	"context"
	"errors"
	"time"

	"modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"

	"anagram/internal/environment/sqldb/engine"
	"anagram/internal/files/sqlitefile"
)

// checkTime is how long the engine may look for damage, and between is how long it waits
// before it looks again: damage stays, a page that was just being written does not.
const (
	checkTime = 20 * time.Second
	between   = 200 * time.Millisecond
)

// damaged asks the engine's own check whether the file is damaged. What a reading came upon
// may also be the work of a program that writes at the same time.
func (d dialect) damaged() bool {
	ctx, cancel := context.WithTimeout(context.Background(), checkTime)
	defer cancel()
	if !d.checkFinds(ctx) {
		return false
	}
	time.Sleep(between)
	return d.checkFinds(ctx)
}

func (d dialect) checkFinds(ctx context.Context) bool {
	db, err := sqlitefile.Open(d.path, sqlitefile.Options{ReadOnly: true, Wait: engine.Wait})
	if err != nil {
		return false
	}
	defer db.Close()
	var said string
	if err := db.QueryRowContext(ctx, "PRAGMA quick_check(1)").Scan(&said); err != nil {
		var refused *sqlite.Error
		return errors.As(err, &refused) && (refused.Code()&0xFF == lib.SQLITE_CORRUPT || refused.Code()&0xFF == lib.SQLITE_NOTADB)
	}
	return said != "ok"
}
