package importing

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

// LeftOut is an approved record that was not written.
type LeftOut struct {
	Address string `json:"address"`
	Why     string `json:"why"`
	Message string `json:"message"`
}

// Rest is the approvals of which nothing is to be written: those that are left out, and
// those that hold the approved values already.
type Rest struct {
	left    map[int64]LeftOut // by finding
	already map[int64]bool
}

func newRest() Rest { return Rest{left: map[int64]LeftOut{}, already: map[int64]bool{}} }

// skips reports whether nothing is to be written of an approval.
func (r Rest) skips(a *standing.Approval) bool {
	_, left := r.left[a.ID]
	return left || r.already[a.ID]
}

func (r Rest) leave(a *standing.Approval, why, message string) {
	r.left[a.ID] = LeftOut{Address: a.Address, Why: why, Message: message}
}

// and gives the rest with what one more step found.
func (r Rest) and(more Rest) Rest {
	out := Rest{left: maps.Clone(r.left), already: maps.Clone(r.already)}
	maps.Copy(out.left, more.left)
	maps.Copy(out.already, more.already)
	return out
}

// WithoutRemovals leaves out what an import would remove: load files remove nothing, as who loads
// them could not tell whether a record is still what was looked at.
func (r Ready) WithoutRemovals(rest Rest) Rest {
	out := rest.and(newRest())
	for _, a := range r.Standing.Approved {
		if a.Removes && !out.skips(a) {
			out.leave(a, NotInFiles, fmt.Sprintf("%s is not in the load files: they remove nothing. Import it, or remove it in %s by hand.", a.Address, r.Docket.Header.Target))
		}
	}
	return out
}

// List gives those left out in the order of the docket.
func (r Rest) List(approved []*standing.Approval) []LeftOut {
	var out []LeftOut
	for _, a := range approved {
		if left, ok := r.left[a.ID]; ok {
			out = append(out, left)
		}
	}
	return out
}
