package wire

import (
	"time"

	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/flow/export"
	"anagram/internal/flow/importing"
	"anagram/internal/flow/importing/prepare"
	"anagram/internal/flow/matching"
	"anagram/internal/store/docket"
)

// Export is the output of export.
type Export struct {
	Bytes    int64       `json:"bytes"`
	File     string      `json:"file"`
	Files    int         `json:"files"`
	Parcel   string      `json:"parcel"`
	Records  Chosen      `json:"records"`
	Referred int         `json:"referred"`
	Source   string      `json:"source"`
	Types    []TypeCount `json:"types"`
}

// Chosen are records of a parcel: those that were chosen, and those that came along.
type Chosen struct {
	Along  int `json:"along"`
	Chosen int `json:"chosen"`
	// NotBrought are those among the chosen that earlier dockets have and no import brought.
	NotBrought int `json:"not_brought,omitempty"`
}

// TypeCount are the records of one type.
type TypeCount struct {
	Type   string `json:"type"`
	Chosen int    `json:"chosen"`
	Along  int    `json:"along"`
}

// ExportOf tells of an export.
func ExportOf(r export.Result) Export {
	m := r.Manifest
	out := Export{Parcel: m.Name, File: r.File, Source: m.Source, Records: Chosen{Chosen: m.Chosen(), Along: m.Records() - m.Chosen(),
		NotBrought: r.Earlier},
		Types: []TypeCount{}, Files: len(m.Files), Bytes: r.Bytes}
	for _, t := range m.Types {
		out.Types = append(out.Types, TypeCount{Type: t.Name, Chosen: t.Chosen, Along: t.Records - t.Chosen})
	}
	if m.Referred != nil {
		out.Referred = m.Referred.Records
	}
	return out
}

// Match is the output of match and restore.
type Match struct {
	ApprovedBefore int      `json:"approved_before"`
	Blockers       int      `json:"blockers"`
	ByRule         int      `json:"by_rule"`
	Carried        int      `json:"carried"`
	Cautions       int      `json:"cautions"`
	Checks         []Check  `json:"checks"` // on the whole docket
	Docket         int      `json:"docket"`
	First          *first   `json:"first_match,omitempty"`
	Gone           int      `json:"gone"`
	Open           int      `json:"open"`
	Parcel         string   `json:"parcel"`
	Source         string   `json:"source"`
	Target         string   `json:"target"`
	Totals         Counts   `json:"totals"`
	Types          []Counts `json:"types"`
}

// first says that nothing was known of both sides before.
type first struct {
	Same   int    `json:"same"`
	Latest string `json:"latest,omitempty"` // the latest stamp that records which are the same have in common
}

// Counts are records by status, of one type or of all.
type Counts struct {
	Type        string `json:"type,omitempty"`
	New         int    `json:"new"`
	Changed     int    `json:"changed"`
	Conflict    int    `json:"conflict"`
	TargetEdit  int    `json:"target_edit"`
	TargetOnly  int    `json:"target_only"`
	Same        int    `json:"same"`
	NotCompared int    `json:"not_compared"`
}

// CountsOf counts the records of a type.
func CountsOf(t docket.Type) Counts {
	n := t.Counts
	return Counts{Type: t.Name, New: n[match.New], Changed: n[match.Changed], Conflict: n[match.Conflict],
		TargetEdit: n[match.TargetEdit], TargetOnly: n[match.TargetOnly], Same: n[match.Same], NotCompared: t.NotCompared}
}

// Plus adds the records of two types.
func (c Counts) Plus(o Counts) Counts {
	return Counts{New: c.New + o.New, Changed: c.Changed + o.Changed, Conflict: c.Conflict + o.Conflict,
		TargetEdit: c.TargetEdit + o.TargetEdit, TargetOnly: c.TargetOnly + o.TargetOnly, Same: c.Same + o.Same,
		NotCompared: c.NotCompared + o.NotCompared}
}

// Differs reports whether anything of it is not the same on both sides.
func (c Counts) Differs() bool {
	return c.New+c.Changed+c.Conflict+c.TargetEdit+c.TargetOnly+c.NotCompared > 0
}

// MatchOf tells what a match found.
func MatchOf(r matching.Result) Match {
	h := r.Header
	out := Match{Docket: h.Number, Parcel: h.Parcel, Source: h.Source, Target: h.Target, Types: []Counts{}, Blockers: r.Blockers,
		Cautions: r.Cautions, Carried: r.Carried, ByRule: r.ByRule, Open: r.Open, Gone: r.Gone, ApprovedBefore: r.ApprovedBefore,
		Checks: checksOf(r.Docket)}
	if r.First != nil {
		out.First = &first{Same: r.First.Same}
		if !r.First.Latest.IsZero() {
			out.First.Latest = r.First.Latest.UTC().Format(time.RFC3339Nano)
		}
	}
	for _, t := range r.Types {
		out.Types, out.Totals = append(out.Types, CountsOf(t)), out.Totals.Plus(CountsOf(t))
	}
	return out
}

func checksOf(list []check.Check) []Check {
	out := []Check{}
	for _, c := range list {
		out = append(out, Check{string(c.Code), string(c.Level), c.Message, c.Mend})
	}
	return out
}

// Import is the output of import.
type Import struct {
	Already  int       `json:"already"` // records that held the approved values before
	Around   *Around   `json:"around,omitempty"`
	Docket   int       `json:"docket"`
	Failures []LeftOut `json:"failures,omitempty"`
	LeftOut  []LeftOut `json:"left_out"`
	Outcome  string    `json:"outcome" one:"imported,rehearsed,blocked,interrupted,failed,unknown,written-otherwise,load-files"`
	Seconds  float64   `json:"seconds"`
	Verified bool      `json:"verified"` // all that was written was read back and found equal
	Written  Written   `json:"written"`
}

// Around is what was run around an import.
type Around struct {
	After       int      `json:"after"`
	AfterFailed string   `json:"after_failed,omitempty"`
	Before      int      `json:"before"`
	RemindAfter []string `json:"remind_after"`
}

// LeftOut is a record that was not written, and why.
type LeftOut struct {
	Address string `json:"address"`
	Why     string `json:"why"`
	Message string `json:"message"`
}

// Written are the records that were written.
type Written struct {
	Changed int  `json:"changed"`
	New     int  `json:"new"`
	Removed *int `json:"removed,omitempty"` // of a docket that takes an import back
}

// ImportOf tells what an import did.
func ImportOf(r importing.Result) Import {
	out := Import{Docket: r.Header.Number, Outcome: r.Outcome, Written: Written{New: r.New, Changed: r.Changed}, Already: r.Already,
		LeftOut: leftOut(r.LeftOut), Verified: r.Verified, Seconds: float64(int(r.Seconds*1000)) / 1000}
	if r.Header.Restores != 0 {
		out.Written.Removed = &r.Removed
	}
	if len(r.Failures) > 0 {
		out.Failures = leftOut(r.Failures)
	}
	if r.Around != nil {
		out.Around = &Around{Before: len(r.Around.Before), After: len(r.Around.After), RemindAfter: texts(r.Around.RemindAfter)}
		if r.AfterFailed != nil {
			out.Around.AfterFailed = r.AfterFailed.Error()
		}
	}
	return out
}

func leftOut(list []prepare.LeftOut) []LeftOut {
	out := []LeftOut{}
	for _, one := range list {
		out = append(out, LeftOut(one))
	}
	return out
}

// texts is a list that is printed as one where it is empty.
func texts(list []string) []string { return append([]string{}, list...) }
