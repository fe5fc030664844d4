package docket

import (
	"encoding/json"
	"fmt"
	"strings"

	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/store/parcel"
)

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
	// Rules are those of the target that were tried, in its own language, by record type.
	Rules map[string][]string `json:"rules,omitempty"`
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
	// Then is the environment that a parcel of its own is compared with: the source is what it was
	// when the parcel was exported, and is called NAME@TIME. "" is any other docket.
	Then string `json:"then,omitempty"`
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
