package spill

import (
	"database/sql"
	"errors"
	"os"
	"path/filepath"

	"anagram/internal/files/sqlitefile"
)

// pickedFile is a set in a database of its own, of any size.
type pickedFile struct {
	folder string
	db     *sql.DB
	tx     *sql.Tx
	pick   *sql.Stmt
	refer  *sql.Stmt
	why    *sql.Stmt
}

func newPickedFile(parent string) (*pickedFile, error) {
	folder, err := os.MkdirTemp(parent, "picked-")
	if err != nil {
		return nil, err
	}
	s := &pickedFile{folder: folder}
	if err := s.open(); err != nil {
		_ = s.Close()
		return nil, err
	}
	return s, nil
}

func (s *pickedFile) open() (err error) {
	if s.db, err = sqlitefile.Open(filepath.Join(s.folder, "picked.db"), sqlitefile.Options{Create: true}); err != nil {
		return err
	}
	s.db.SetMaxOpenConns(1)
	for _, statement := range []string{
		"PRAGMA journal_mode = OFF", "PRAGMA synchronous = OFF",
		`CREATE TABLE picked (type TEXT, ord BLOB, key TEXT, along INTEGER, through TEXT, round INTEGER, parts INTEGER, followed INTEGER, PRIMARY KEY (type, ord)) WITHOUT ROWID`,
		`CREATE INDEX rounds ON picked (round, type, ord)`,
		`CREATE TABLE referred (type TEXT, ord BLOB, key TEXT, through TEXT, source TEXT, line INTEGER, PRIMARY KEY (type, ord)) WITHOUT ROWID`,
	} {
		if _, err := s.db.Exec(statement); err != nil {
			return err
		}
	}
	if s.tx, err = s.db.Begin(); err != nil {
		return err
	}
	if s.pick, err = s.tx.Prepare(`INSERT INTO picked VALUES (?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET
		through = CASE WHEN excluded.parts > parts THEN excluded.through
			WHEN along AND excluded.round = round AND excluded.parts = parts AND excluded.through < through THEN excluded.through ELSE through END,
		round = CASE WHEN excluded.parts > parts THEN excluded.round ELSE round END,
		parts = max(parts, excluded.parts), followed = max(followed, excluded.followed)`); err != nil {
		return err
	}
	if s.refer,
		err = s.tx.Prepare(`INSERT INTO referred VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET through = excluded.through, source = excluded.source, line = excluded.line
		WHERE (excluded.source, excluded.line, excluded.through) < (source, line, through)`); err != nil {
		return err
	}
	s.why, err = s.tx.Prepare("SELECT along, through, NOT parts FROM picked WHERE type = ? AND ord = ?")
	return err
}

func (s *pickedFile) Close() error {
	if s.tx != nil {
		_ = s.tx.Rollback()
	}
	if s.db != nil {
		_ = s.db.Close()
	}
	return os.RemoveAll(s.folder)
}

func (s *pickedFile) Pick(r Pick, round int) error {
	_, err := s.pick.Exec(r.Type, []byte(r.Order), r.Key, r.Along, r.Through, round, !r.OwnerOnly, r.Followed)
	return err
}

func (s *pickedFile) Refer(r Pick) error {
	_, err := s.refer.Exec(r.Type, []byte(r.Order), r.Key, r.Through, r.From, r.Line)
	return err
}

func (s *pickedFile) Why(typ, order string) (r Pick, ok bool, err error) {
	r = Pick{Type: typ, Order: order}
	err = s.why.QueryRow(typ, []byte(order)).Scan(&r.Along, &r.Through, &r.OwnerOnly)
	if errors.Is(err, sql.ErrNoRows) {
		return r, false, nil
	}
	return r, err == nil, err
}

func (s *pickedFile) Count(typ string) (n int, err error) {
	err = s.tx.QueryRow("SELECT count(*) FROM picked WHERE type = ?", typ).Scan(&n)
	return n, err
}

func (s *pickedFile) CountIn(typ string, round int) (n int, err error) {
	if round < 0 {
		return s.Count(typ)
	}
	err = s.tx.QueryRow("SELECT count(*) FROM picked WHERE round = ? AND type = ?", round, typ).Scan(&n)
	return n, err
}

func (s *pickedFile) Batch(typ string, round int, after string, limit int) ([]Pick, error) {
	query,
		args := "SELECT type, ord, key, along, through, NOT parts, followed, '', 0 FROM picked WHERE type = ? AND ord > ? ORDER BY ord LIMIT ?", []any{typ, []byte(after), limit}
	if round >= 0 {
		query,
			args = "SELECT type, ord, key, along, through, NOT parts, followed, '', 0 FROM picked WHERE round = ? AND type = ? AND ord > ? ORDER BY ord LIMIT ?", append([]any{round}, args...)
	}
	return s.records(query, args...)
}

func (s *pickedFile) Referred(typ, after string, limit int) ([]Pick, error) {
	return s.records(`SELECT type, ord, key, 0, through, 0, 0, source, line FROM referred r WHERE (type, ord) > (?, ?)
		AND NOT EXISTS (SELECT 1 FROM picked p WHERE p.type = r.type AND p.ord = r.ord) ORDER BY type,
			ord LIMIT ?`, typ, []byte(after), limit)
}

func (s *pickedFile) records(query string, args ...any) ([]Pick, error) {
	rows, err := s.tx.Query(query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Pick
	for rows.Next() {
		var r Pick
		var order []byte
		if err := rows.Scan(&r.Type, &order, &r.Key, &r.Along, &r.Through, &r.OwnerOnly, &r.Followed, &r.From, &r.Line); err != nil {
			return nil, err
		}
		r.Order = string(order)
		out = append(out, r)
	}
	return out, rows.Err()
}
