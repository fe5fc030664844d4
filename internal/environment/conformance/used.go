package conformance

import (
	"database/sql"
	"errors"
	"sync"
)

// usedUp are databases of PostgreSQL that tests have done with. Making and dropping one costs
// the server more than most tests do, so they are emptied and used again until the tests end.
type usedUp struct {
	mu   sync.Mutex
	on   bool
	free []string
	all  map[string]bool
}

var used = &usedUp{all: map[string]bool{}}

// Reuse lets tests use databases that others have done with. What it gives drops them all, and
// is called when the tests have ended.
func Reuse() (end func() error) {
	used.mu.Lock()
	used.on = true
	used.mu.Unlock()
	return used.drop
}

// take gives the name of an empty database, "" where one has to be made.
func (u *usedUp) take() string {
	u.mu.Lock()
	defer u.mu.Unlock()
	if len(u.free) == 0 {
		return ""
	}
	name := u.free[len(u.free)-1]
	u.free = u.free[:len(u.free)-1]
	return name
}

// emptied is what makes a database as good as new: nobody else is connected, and nothing is
// in it or set for it.
const emptied = `DO $$ DECLARE s text; BEGIN
	PERFORM pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid();
	FOR s IN SELECT nspname FROM pg_namespace WHERE nspname NOT LIKE 'pg\_%' AND nspname <> 'information_schema' LOOP
		EXECUTE format('DROP SCHEMA %I CASCADE', s);
	END LOOP;
	FOR s IN SELECT evtname FROM pg_event_trigger LOOP
		EXECUTE format('DROP EVENT TRIGGER %I', s);
	END LOOP;
	PERFORM lo_unlink(oid) FROM pg_largeobject_metadata;
	EXECUTE format('ALTER DATABASE %I RESET ALL', current_database());
	CREATE SCHEMA public; GRANT ALL ON SCHEMA public TO pg_database_owner; GRANT USAGE ON SCHEMA public TO PUBLIC;
END $$`

// giveBack empties a database for others and closes the connection; false where it has to be
// dropped.
func (u *usedUp) giveBack(db *sql.DB, name string) bool {
	u.mu.Lock()
	on := u.on
	u.mu.Unlock()
	if !on {
		return false
	}
	// What the test itself holds open must not keep its tables locked.
	db.SetMaxIdleConns(0)
	_, err := db.Exec(emptied)
	_ = db.Close()
	u.mu.Lock()
	defer u.mu.Unlock()
	u.all[name] = true
	if err == nil {
		u.free = append(u.free, name)
	}
	return true
}

// drop drops all of them.
func (u *usedUp) drop() error {
	u.mu.Lock()
	defer u.mu.Unlock()
	if len(u.all) == 0 {
		return nil
	}
	admin, err := sql.Open("pgx", setting(postgresVariable, defaultPostgres))
	if err != nil {
		return err
	}
	var all []error
	for name := range u.all {
		_, err := admin.Exec(`DROP DATABASE "` + name + `" WITH (FORCE)`)
		all = append(all, err)
	}
	return errors.Join(append(all, admin.Close())...)
}
