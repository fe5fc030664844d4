package wire

import "anagram/internal/flow/audit"

// Brought is a line of the output of history --since.
type Brought struct {
	Address     string   `json:"address"`
	Approved    []string `json:"approved_by"`
	At          string   `json:"at"`
	By          string   `json:"by"`
	Docket      int      `json:"docket"`
	Environment string   `json:"environment"`
	Field       string   `json:"field"`
	New         *string  `json:"new"`
	Old         *string  `json:"old"`
	TakenBack   int      `json:"taken_back_by,omitempty"` // the docket
	What        string   `json:"what" one:"came,changed,removed,by-others"`
}

// BroughtOf tells of one field that reached an environment.
func BroughtOf(r audit.Reached) Brought {
	return Brought{Address: r.Address, Approved: texts(r.Approved), At: r.At, By: r.By, Docket: r.Docket, Environment: r.Environment,
		Field: r.Field, New: r.New, Old: r.Old, TakenBack: r.TakenBack, What: r.What}
}
