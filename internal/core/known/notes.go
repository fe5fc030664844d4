package known

import (
	"encoding/json"

	"anagram/internal/core/record"
)

// Own is what an import or a restore of this workspace left of a record: the stamp by which its own
// write is told from what somebody else did.
type Own struct {
	Docket int    `json:"docket"`
	In     string `json:"in"` // the environment that was written
	At     string `json:"at"` // the stamp as it was read back, and who stands in it
	By     string `json:"by,omitempty"`
	// Restore says that an import was taken back; then WasAt and WasBy are the stamp from before that
	// import, which tells who really changed the record last.
	Restore bool   `json:"restore,omitempty"`
	WasAt   string `json:"was_at,omitempty"`
	WasBy   string `json:"was_by,omitempty"`
}

// Gone says since when the source has a record no more that both sides had.
type Gone struct {
	Docket int    `json:"docket"` // the match that found it first
	At     string `json:"at"`     // RFC 3339
}

// Notes are what an entry says beside the values.
type Notes struct {
	Own  *Own  `json:"own,omitempty"`
	Gone *Gone `json:"gone,omitempty"`
}

// NotesOf reads the notes of an entry; one that cannot be read has none.
func NotesOf(entry *record.Record) Notes {
	var n Notes
	if entry == nil || entry.Through == "" || json.Unmarshal([]byte(entry.Through), &n) != nil {
		return Notes{}
	}
	return n
}

// On writes the notes into an entry, in a place of its line that agreed values do not use otherwise.
func (n Notes) On(entry *record.Record) {
	entry.ChangedAt, entry.ChangedBy, entry.Came = "", "", record.Came{}
	if n.Own != nil || n.Gone != nil {
		text, _ := json.Marshal(n)
		entry.Through = string(text)
	}
}

// OwnOf gives the own write that a record still shows: nobody else changed it since, as far as its
// stamp tells. Nil where it shows none.
func OwnOf(entry *record.Record, environment string, of *record.Record) *Own {
	if entry == nil || entry.Through == "" || of == nil || of.ChangedAt == "" {
		return nil
	}
	own := NotesOf(entry).Own
	if own == nil || own.In != environment || own.At != of.ChangedAt || own.By != of.ChangedBy {
		return nil
	}
	return own
}

// Changed tells when and by whom a record was last changed by somebody else than this workspace: at is
// "" where its own write is all that the stamp tells.
func Changed(entry *record.Record, environment string, of *record.Record) (at, by string) {
	if own := OwnOf(entry, environment, of); own != nil {
		return own.WasAt, own.WasBy
	}
	return of.ChangedAt, of.ChangedBy
}
