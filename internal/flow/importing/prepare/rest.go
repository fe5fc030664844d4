package prepare

import (
	"fmt"
	"maps"

	"anagram/internal/flow/standing"
)

// Why an approved record was left out, beside the codes of checks.
const (
	MovedSinceMatch = "moved-since-match"
	DependsOnLeft   = "depends-on-left-out"
	Refused         = "refused"
	ReadBackDiffers = "read-back-differs"
	NotInFiles      = "not-in-files"
)

// MaxFailures is how many refused records are named before an import gives up.
const MaxFailures = 20

// LeftOut is an approved record that was not written.
type LeftOut struct {
	Address string `json:"address"`
	Why     string `json:"why"`
	Message string `json:"message"`
}

// Rest is the approvals of which nothing is to be written: those that are left out, and
// those that hold the approved values already.
type Rest struct {
	Left    map[int64]LeftOut // by finding
	Already map[int64]bool
}

// NewRest is a rest in which nothing is yet.
func NewRest() Rest { return Rest{Left: map[int64]LeftOut{}, Already: map[int64]bool{}} }

// Skips reports whether nothing is to be written of an approval.
func (r Rest) Skips(a *standing.Approval) bool {
	_, left := r.Left[a.ID]
	return left || r.Already[a.ID]
}

// Leave leaves an approval out, with a code and a sentence that say why.
func (r Rest) Leave(a *standing.Approval, why, message string) {
	r.Left[a.ID] = LeftOut{Address: a.Address, Why: why, Message: message}
}

// And gives the rest with what one more step found.
func (r Rest) And(more Rest) Rest {
	out := Rest{Left: maps.Clone(r.Left), Already: maps.Clone(r.Already)}
	maps.Copy(out.Left, more.Left)
	maps.Copy(out.Already, more.Already)
	return out
}

// WithoutRemovals leaves out what an import would remove: load files remove nothing, as who loads
// them could not tell whether a record is still what was looked at.
func (r Ready) WithoutRemovals(rest Rest) Rest {
	out := rest.And(NewRest())
	for _, a := range r.Standing.Approved {
		if a.Removes && !out.Skips(a) {
			out.Leave(a, NotInFiles,
				fmt.Sprintf("%s is not in the load files: they remove nothing. Import it, or remove it in %s by hand.",
					a.Address, r.Docket.Header.Target))
		}
	}
	return out
}

// List gives those left out in the order of the docket.
func (r Rest) List(approved []*standing.Approval) []LeftOut {
	var out []LeftOut
	for _, a := range approved {
		if left, ok := r.Left[a.ID]; ok {
			out = append(out, left)
		}
	}
	return out
}
