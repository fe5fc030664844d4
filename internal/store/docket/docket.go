package docket

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/decision"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/store/parcel"
)

// Docket is an open docket.
type Docket struct {
	Header  Header
	Catalog *catalog.Catalog
	Types   []Type // in dependency order

	db      *sql.DB
	path    string
	origin  *Origin // where what happens now is done; nil where nobody said
	witness Witness // empty where nobody keeps the head of its chain
	digest  string  // once it was worked out
	// turn lets those who read and who writes within this program wait for each other, however
	// slow the disk is; the database would give up after a while.
	turn sync.RWMutex
	// announced is the link that the open transaction adds.
	announced *Seal
}

// Header says what was compared with what.
type Header struct {
	Number        int    `json:"number"`
	Parcel        string `json:"parcel"`
	ParcelFile    string `json:"parcel_file"`
	ParcelSeal    string `json:"parcel_seal"`
	Source        string `json:"source"`
	ExportedAt    string `json:"exported_at"`
	ExportedBy    string `json:"exported_by"`
	Target        string `json:"target"`
	TargetAddress string `json:"target_address"`
	// Brings are the record types of which all was in the parcel, or with a moment all that
	// had changed since.
	Brings map[string]string `json:"brings,omitempty"`
	// Release and Settings are the source's: what has to fit is asked again at the import.
	Release  string            `json:"release,omitempty"`
	Settings map[string]string `json:"settings,omitempty"`
	// Fills are what an import gives records beside their fields, by record type.
	Fills map[string]Fills `json:"fills,omitempty"`
	// Zones are those of times without zone, by environment, as the workspace said.
	Zones map[string]string `json:"zones,omitempty"`
	// The target of a match of two parcels; "" where it is an environment.
	TargetParcel     string `json:"target_parcel,omitempty"`
	TargetExportedAt string `json:"target_exported_at,omitempty"`
	TargetExportedBy string `json:"target_exported_by,omitempty"`
	// Of a parcel that was edited after its export, or made by hand.
	Resealed []parcel.Reseal `json:"resealed,omitempty"`
	ByHand   bool            `json:"by_hand,omitempty"`
	// Restores is the docket whose import this one takes back, 0 for none. The source is what
	// the target held before it then.
	Restores int `json:"restores,omitempty"`
	// Around is what an import runs and reminds of, as the workspace said.
	Around      *Around       `json:"around,omitempty"`
	MatchedAt   string        `json:"matched_at"`
	MatchedBy   string        `json:"matched_by"`
	Keys        record.Shapes `json:"keys"`
	NotCompared []string      `json:"not_compared,omitempty"` // types and fields on one side only
	Paired      []Paired      `json:"paired,omitempty"`
	Program     string        `json:"program"`
}

// Again says what makes such a docket anew, at the beginning of a sentence; AgainInside is the
// same further on.
func (h Header) Again() string {
	if h.Restores > 0 {
		return fmt.Sprintf("Run anagram restore %d again", h.Restores)
	}
	return "Match again"
}

// AgainInside says what makes such a docket anew, within a sentence.
func (h Header) AgainInside() string {
	again := h.Again()
	return strings.ToLower(again[:1]) + again[1:]
}

// Around is what is done before and after an import: statements, and reminders to people.
type Around struct {
	Before       []string `json:"before,omitempty"`
	After        []string `json:"after,omitempty"`
	RemindBefore []string `json:"remind_before,omitempty"`
	RemindAfter  []string `json:"remind_after,omitempty"`
}

// Fills are fields that no record of the source brings: those of the target alone, and
// stamps that nothing else fills.
type Fills struct {
	New     []Filled `json:"new,omitempty"`     // of records that are added
	Changed []string `json:"changed,omitempty"` // stamps of records that are changed
}

// Filled is one of them. What is "value", "time" of the import or "person" who imports.
type Filled struct {
	Field string `json:"field"`
	What  string `json:"what"`
	Value string `json:"value,omitempty"`
}

// Paired is a record that the target knows by another key than the source.
type Paired struct {
	Type   string          `json:"type"`
	Source json.RawMessage `json:"source"` // keys as in a record line
	Target json.RawMessage `json:"target"`
}

// Type is one record type of a docket.
type Type struct {
	Name        string
	Fields      []record.Field // the fields that were compared
	Required    []string       // those that the target wants of a new record
	Counts      map[match.Status]int
	NotCompared int
}

// Type finds a record type of the docket.
func (d *Docket) Type(name string) (Type, bool) {
	for _, t := range d.Types {
		if t.Name == name {
			return t, true
		}
	}
	return Type{}, false
}

// Path is where the docket is.
func (d *Docket) Path() string { return d.path }

// Close closes the docket.
func (d *Docket) Close() error { return d.db.Close() }

func (d *Docket) read(ctx context.Context) error {
	var application, version int
	row := d.db.QueryRowContext(ctx, "SELECT (SELECT * FROM pragma_application_id), (SELECT * FROM pragma_user_version)")
	if err := row.Scan(&application, &version); err != nil {
		return d.wrap(err)
	}
	if application != applicationID {
		return &Error{Path: d.path, Message: "the file is an SQLite database, but not a docket"}
	}
	if version != Version {
		advice := "Use a newer anagram"
		if version < Version {
			advice = "Match again, or use the anagram that made it"
		}
		return &Error{Path: d.path, Message: fmt.Sprintf("the docket has version %d; this program knows version %d. %s", version, Version, advice)}
	}
	if err := d.checkSchema(ctx); err != nil {
		return err
	}
	var header, source string
	err := d.db.QueryRowContext(ctx, "SELECT (SELECT value FROM header WHERE name = 'match'), (SELECT value FROM header WHERE name = 'catalog')").Scan(&header, &source)
	if err != nil {
		return d.wrap(err)
	}
	if err := json.Unmarshal([]byte(header), &d.Header); err != nil {
		return &Error{Path: d.path, Message: "its header cannot be read: " + err.Error(), Cause: err}
	}
	if d.Catalog, err = catalog.Parse(d.path+", catalog", []byte(source)); err != nil {
		return err
	}
	rows, err := d.db.QueryContext(ctx, "SELECT name, fields, required, conflict, changed, new, target_edit, target_only, same, not_compared FROM types ORDER BY rank")
	if err != nil {
		return d.wrap(err)
	}
	defer rows.Close()
	for rows.Next() {
		var t Type
		var fields, required string
		n := make([]int, 6)
		if err := rows.Scan(&t.Name, &fields, &required, &n[0], &n[1], &n[2], &n[3], &n[4], &n[5], &t.NotCompared); err != nil {
			return d.wrap(err)
		}
		if err := errors.Join(json.Unmarshal([]byte(fields), &t.Fields), json.Unmarshal([]byte(required), &t.Required)); err != nil {
			return &Error{Path: d.path, Message: "its record types cannot be read: " + err.Error(), Cause: err}
		}
		t.Counts = map[match.Status]int{}
		for i, status := range match.Statuses() {
			t.Counts[status] = n[i]
		}
		d.Types = append(d.Types, t)
	}
	return d.wrap(rows.Err())
}

// Field is one field of a finding, as people see it. Nil is null.
type Field struct {
	Field       string  `json:"field"`
	Source      *string `json:"source"`
	Target      *string `json:"target"`
	Agreed      *string `json:"agreed"`
	AgreedKnown bool    `json:"agreed_known"`
	Moved       string  `json:"moved"`
	Take        string  `json:"take"`
	Decision    string  `json:"decision,omitempty"` // where it differs from the record's
}

// Finding is one record in a docket, with what has been decided about it.
type Finding struct {
	ID      int64
	Type    string
	Address string
	Was     string // address that the record has in the target, "" where it is the same
	Title   string
	Status  match.Status
	Reasons []match.Reason
	Fields  []Field
	Key     string // as in a record line
	Order   string
	Source  string // record line, "" where the side does not have it
	Target  string
	Agreed  string  // what both last agreed on, "" where nothing is known
	Group   int     // number of the group that it is in, from 1
	Owner   int64   // the finding of the record that it is a part of, 0 where that is none
	Before  Earlier // an approval of an earlier docket; its docket is 0 where there is none
	Standing
}

// Entries gives what in a log makes the finding stand as it does: what holds on the record, and
// after it what holds on single fields beside it.
func (f Finding) Entries() []LogEntry {
	var out []LogEntry
	if f.Decision != Undecided {
		out = append(out, LogEntry{At: f.DecidedAt, Who: f.DecidedBy, Finding: f.ID, Decision: f.Decision, Note: f.Note, Carried: f.CarriedFrom, Rule: f.ByRule})
	}
	for _, field := range slices.Sorted(maps.Keys(f.ByField)) {
		own := f.Own(field)
		out = append(out, LogEntry{At: own.At, Who: own.Who, Finding: f.ID, Field: field, Decision: own.Decision, Note: own.Note, Carried: own.Carried})
	}
	return out
}

// Standing is what has been decided; see core/decision.
type Standing = decision.Standing

// Decision is what a person decided; see core/decision.
type Decision = decision.Decision

// The decisions, as a docket keeps them.
const (
	Undecided  = decision.Undecided
	Approved   = decision.Approved
	Declined   = decision.Declined
	Held       = decision.Held
	TargetKept = decision.TargetKept
	Reopened   = decision.Reopened
)

// Of gives what of the finding its standing depends on.
func (f Finding) Of() decision.Finding {
	out := decision.Finding{Status: f.Status, Reasons: f.Reasons, InTarget: f.Target != "", Standing: f.Standing, Fields: make([]decision.Field, len(f.Fields))}
	for i, field := range f.Fields {
		out.Fields[i] = field.of()
	}
	return out
}

func (f Field) of() decision.Field {
	return decision.Field{Name: f.Field, Moved: match.Moved(f.Moved)}
}

// ApprovedFields lists the fields that may be written, in field order.
func (f Finding) ApprovedFields() []string { return f.Of().ApprovedFields() }

// Proposes gives what the finding proposes for a field.
func (f Finding) Proposes(field Field) match.Proposal { return f.Of().Proposes(field.of()) }

// Settled reports whether a side was chosen for every field of a conflict that needs it.
func (f Finding) Settled() bool { return f.Of().Settled() }

// Stand gives the decision on the finding as a whole.
func (f Finding) Stand() Decision { return f.Of().Stand() }

// Hopeless reports whether a conflict cannot be settled by choosing a side.
func (f Finding) Hopeless() bool { return match.Hopeless(f.Reasons) }

// Adds is match.Adds.
func (f Finding) Adds() bool { return match.Adds(f.Status, f.Target != "", f.Reasons) }

// Removes is match.Removes.
func (f Finding) Removes() bool { return match.Removes(f.Status, f.Reasons) }

// Asks reports whether the finding asks for a decision.
func (f Finding) Asks() bool { return match.Asks(f.Status) || f.Removes() }

// IsApproved reports whether the finding, or a field of it, is approved.
func (f Finding) IsApproved() bool { return f.Of().IsApproved() }

// Check is a stored check. Where Fields are named it only holds if, of these, exactly
// those in Writes are written.
type Check struct {
	check.Check
	Fields, Writes []string
	Partial        bool // Writes are not what the finding proposes, so it holds after a choice only
}

// Holds reports whether the check holds where writes says which fields are written.
func (c Check) Holds(writes func(field string) bool) bool {
	return !slices.ContainsFunc(c.Fields, func(field string) bool { return writes(field) != slices.Contains(c.Writes, field) })
}

// Need is a stored need, for the sequence of an import.
type Need struct {
	Holder   int64 // the finding that refers
	Required bool
	ByName   bool // it is the key that is stored, so what is referred to must have it
	// Frees says that it is the other way round: the holder is to be removed, and what is
	// named refers to it by the field.
	Frees bool
	Type  string
	Key   string
	check.Need
}
