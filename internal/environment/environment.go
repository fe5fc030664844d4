// Package environment says what a connector is: the way to one place where records live.
//
// The contract: a connector describes its places, streams records of a type whose
// references are brought to keys, tells which keys it has, and writes within a unit of
// work. It knows the core and its own driver; parcels, dockets and screens it does not
// know. Internal ids never leave it except as text for messages. Every error that a
// person can see is an *Error or names the record it is about.
package environment

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"anagram/internal/core/catalog"
	"anagram/internal/core/condition"
	"anagram/internal/core/record"
)

// Model is the catalog as it is to be read in one environment: the shapes say to
// which kinds keys are brought, so that two engines deliver one form.
type Model struct {
	Environment string
	Catalog     *catalog.Catalog
	Shapes      record.Shapes
	// Here is the zone of this environment's times without one, There that of the other
	// side's; nil where it is not known. Only where one side has instants and the other has
	// not is either needed: what cannot be told then is an error.
	Here, There *time.Location
}

// Reading asks for records of one type.
type Reading struct {
	Type   string
	Fields []record.Field // the fields wanted, with the kinds they are brought to
	// Keys limits the stream to the records with these keys; nil is all of them.
	Keys []record.Key
	// Field and Of limit it to the records whose reference Field points at one of these keys.
	Field string
	Of    []record.Key
	// With limits it to the records that hold one of these sets of values.
	With *Values
	// Where limits it to those that fulfil all of these conditions. A connector may ask its
	// database for less first; see condition.Narrow.
	Where []*condition.Condition
	// Beside names columns of the place of which sums are wanted as well, however they are
	// stored; they are never brought here themselves.
	Beside []string
	// Sums says that of bytes only their SHA-256 is wanted at first. A connector may deliver them
	// all the same, or their content when it is opened, while the reader is and nothing else is
	// read.
	Sums bool
	// Lines says that of each record its Line will do, with ID and stamps: a connector may leave
	// out its values, and of its key all but the order, which Load brings when they are needed.
	// Nothing else may be asked of the reader before the stream has ended.
	Lines bool
	// Forms asks for what is stored where the same value would be written in another form.
	Forms bool
	// OnlyOutside, with Keys, asks for the records that the type's own only leaves out,
	// instead of those that it does not.
	OnlyOutside bool
	// Left, where it is given, is told the keys of records that the type's only leaves out,
	// as far as they have one that can be told.
	Left func(record.Key) error
	// Unkeyed, where it is given, is told of rows whose key cannot be read, by their internal id;
	// they are in no stream.
	Unkeyed func(id, why string) error
	// Outside, where it is given, counts the records that the type's only leaves out.
	Outside *int
}

// Values are sets of values that some fields may hold together, none of them null.
type Values struct {
	Fields []string
	Sets   [][]record.Value // one value for each of Fields
}

// Description is what an environment tells about itself.
type Description struct {
	Product string // name and version of the engine
	Account string // "" where the engine has no accounts
	Address string // where it is, without secrets
	Rights  string // what the account may do, in words
	// Zone is that of its times without zone, nil where it is not known.
	Zone *time.Location
	// Numbers says that numbers which it gives to new records are not given again where these
	// are taken back.
	Numbers bool
	// Clock is the server's time when it was asked, zero where it is this machine's.
	Clock time.Time
	// Ahead is how far its clock is before this machine's; negative is behind.
	Ahead  time.Duration
	Places map[string]catalog.Place
	// Broken are places that are there and cannot be read, and why. They are none of Places.
	Broken map[string]string
}

// Unreadable gives why a place is not among Places though it is there, "" where it is not.
func (d Description) Unreadable(place string) string {
	if why, ok := d.Broken[place]; ok {
		return why
	}
	book, _, _ := strings.Cut(place, "/") // of a workbook that cannot be read no sheet is known
	return d.Broken[book]
}

// Where is what an address leads to, as the driver itself understands it.
type Where struct {
	Server   string // host and port, or the path of a socket; of files their path
	Account  string
	Database string
	Here     bool     // it is on this machine
	Files    []string // that the address names
}

// Reader reads records. All reading of one Reader sees one moment of the environment
// where the engine offers that.
type Reader interface {
	// Read streams records in any order. A value that has no canonical form is told by
	// record.UnreadableValue.
	Read(ctx context.Context, model *Model, reading Reading) record.Stream
	// Locate tells for each key how many records have it.
	Locate(ctx context.Context, model *Model, typ string, keys []record.Key) ([]int, error)
}

// Environment is an open connection.
type Environment interface {
	Reader
	Describe(ctx context.Context) (Description, error)
	// Can says what the environment can do beyond reading and writing.
	Can() Capabilities
	// Begin locks the environment against other imports and starts a unit of work, in which
	// these places are written.
	Begin(ctx context.Context, places []string) (Work, error)
	Close() error
}

// Capabilities are what not every environment can do; those that it cannot are nil.
type Capabilities struct {
	Prober   Prober
	Judge    Judge
	Scripter Scripter
	Holder   Holder
	Signer   Signer
}

// Signer finds people among the records of an environment.
type Signer interface {
	// Person gives the id under which a person of this name stands in the stamps of a type; "" where
	// nobody does, or several do.
	Person(ctx context.Context, model *Model, typ, name string) (id string, err error)
}

// Prober looks at data in bounded questions, to draft a catalog and to check one.
type Prober interface {
	// CountUpTo counts the rows of a place, but no more than most of them.
	CountUpTo(ctx context.Context, place string, most int) (int, error)
	// Look gives the first rows of a place in the order of its primary key: of each the values
	// of some columns, in the kinds that these have by themselves. It ends early where the rows
	// are large.
	Look(ctx context.Context, place string, columns []string, most int, give func([]record.Value) error) error
	// Dangling counts the values of a column that another place's column does not have, those
	// apart that stand for nothing.
	Dangling(ctx context.Context, place, column, to, toColumn string, none []string, most int) (int, error)
}

// Judge tries values against a rule of a place without writing them.
type Judge interface {
	// Judge tells of each row of values, one for each column of the rule, whether the rule
	// refuses it. What cannot be tried is not refused.
	Judge(ctx context.Context, place string, rule catalog.Rule, rows [][]record.Value) ([]bool, error)
}

// Holder tells what holds on to records that the catalog knows nothing of.
type Holder interface {
	// Held tells of each key what refers to its record by a constraint of the environment, from
	// a place that is none of the catalog's, in words; "" where nothing does.
	Held(ctx context.Context, model *Model, typ string, keys []record.Key) ([]string, error)
}

// Scripter writes changes as a text that somebody else can run.
type Scripter interface {
	// Script begins such a text.
	Script() Script
}

// Script is a text of statements in the making; each call gives the next of them. Each step of
// the text goes on only where all before it did, also where what runs it goes on after an error,
// and in one transaction nothing lasts unless all did.
type Script interface {
	// Begin and End frame the text.
	Begin() string
	End() string
	// Check stops where a record is not as the change expects it, or, of a new one, where there is
	// one. The first check also stops where the text was run before.
	Check(ctx context.Context, model *Model, change Change) (string, error)
	// Write writes a change: what it refers to has to be there once, and what was written is read
	// again.
	Write(ctx context.Context, model *Model, change Change) (string, error)
}

// Change is one record to be written: Values, one for each of Fields, and for an
// insert the key as well.
type Change struct {
	Type   string
	Key    record.Key
	Insert bool
	// Remove asks for the record to be removed, which is for taking back an import that made
	// it and for nothing else. It is refused while anything refers to the record, whatever
	// would become of that.
	Remove bool
	// At tells the record that is to be changed by its ID, as this unit of work read it; ""
	// finds it by its key. Keys move while they are written, ids do not.
	At string
	// Was is the key that the record has so far where it is to get Key instead; nil where
	// it stays. A record that has Key already is taken as it is.
	Was    *record.Key
	Fields []record.Field
	Values []record.Value
	// Expect are what the record holds in Fields so far, for a text that is run later; nil
	// where nothing is said.
	Expect []record.Value
	// Check says that the record is only written while it holds what is expected; else it is
	// refused with ErrMoved. It stands in for a transaction where there is none.
	Check bool
	// Later are references of a new record that get their values in another change of the
	// same unit of work, as what they refer to is not there yet. Where null is refused,
	// something else stands there until then.
	Later []record.Field
	// Clear are references of a record that are to be emptied before it and what it refers to
	// are removed in the same unit of work. Where null is refused, something else stands there
	// until then.
	Clear []record.Field
	// There is the key as the environment itself spells it, where that is known; rules of keys
	// may take two spellings for one.
	There *record.Key
	// Stored are forms in which values of Fields are to be stored, as Record.Stored gave them.
	Stored map[string]record.Stored
	// By is who does it, for stamps that the environment does not fill by itself.
	By string
	// Fixed are texts for fields that belong to this environment alone, by field name.
	Fixed map[string]string
}

// ErrMoved is the refusal of a change whose record no longer holds what was expected.
var ErrMoved = errors.New("it was changed since it was read")

// Work is a unit of work. Where it is a transaction, nothing of it is visible to others
// before Commit, and without Commit nothing of it remains.
type Work interface {
	Reader
	// Transaction says whether it is one. A target without has no rehearsal, and each write
	// is done once it is sent: Write is given as many changes as Together says then.
	Transaction() bool
	// Together is how many changes Write takes at a time where there is no transaction: 1 where
	// each is sent by itself.
	Together(ctx context.Context) (int, error)
	// Write carries out changes in their order. Refused has one entry for each, nil where it
	// was written; the others are *RecordError. They leave the unit of work usable, so that
	// all refused records can be named; the caller rolls back then. After err nothing more
	// can be done with it.
	Write(ctx context.Context, model *Model, changes []Change) (refused []error, err error)
	// Settle makes all happen that the environment would leave to the commit: constraints and
	// triggers that are deferred, counters that are to be kept. What it refuses is an *Error.
	// Afterwards records can be read as they will be.
	Settle(ctx context.Context) error
	// Commit makes it lasting. Its error is an *UnknownOutcomeError where it cannot be known
	// whether it did; after any other error nothing of it remains.
	Commit(ctx context.Context) error
	// Rollback takes everything back; after Commit it does nothing.
	Rollback() error
}

// Runner is a unit of work that carries out statements in the environment's own language, such
// as a workspace says around imports.
type Runner interface {
	// Run carries out one statement. Its error is an *Error.
	Run(ctx context.Context, statement string) error
}

// Error is a failure of an environment that a person can act on.
type Error struct {
	Environment string
	Message     string // what is the matter
	Mend        string // what to do about it
	// Conflict says that somebody else changed the same records at the same time, so that nothing
	// of the unit of work remains.
	Conflict bool
	Cause    error
}

// Error gives environment, facts and mend.
func (e *Error) Error() string {
	text := e.Environment + ": " + e.Message
	if e.Mend != "" {
		text += " " + e.Mend
	}
	return text
}

// Unwrap gives the cause.
func (e *Error) Unwrap() error { return e.Cause }

// UnknownOutcomeError is a commit whose answer was lost.
type UnknownOutcomeError struct {
	Environment string
	Cause       error
}

// Error says what cannot be known and how it is settled.
func (e *UnknownOutcomeError) Error() string {
	return fmt.Sprintf("%s: the connection was lost while everything was being made lasting (%v), so it cannot be known whether it was written. Import again: the target is read first, and nothing is written twice.", e.Environment, e.Cause)
}

// Unwrap gives the cause.
func (e *UnknownOutcomeError) Unwrap() error { return e.Cause }

// RecordError is a failure about one record.
type RecordError struct {
	Environment string
	Address     string
	Field       string // "" where it is about the whole record
	Cause       error
}

// Error names environment, record, field and cause.
func (e *RecordError) Error() string {
	if e.Field != "" {
		return fmt.Sprintf("%s in %s, field %s: %v", e.Address, e.Environment, e.Field, e.Cause)
	}
	return fmt.Sprintf("%s in %s: %v", e.Address, e.Environment, e.Cause)
}

// Unwrap gives the cause.
func (e *RecordError) Unwrap() error { return e.Cause }
