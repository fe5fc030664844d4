package wire

import (
	"time"

	"anagram/internal/flow/renew"
)

// Renewed is the output of env renewed.
type Renewed struct {
	Agreed      int           `json:"agreed"` // records that are known to be the same by a parcel
	Declined    []oldDecision `json:"declined"`
	Environment string        `json:"environment"`
	From        string        `json:"from"`
	Lacking     []string      `json:"lacking"` // what the old one had, by its last parcel, and the new one lacks
	LastParcel  string        `json:"last_parcel"`
	On          string        `json:"on"`
	Other       int           `json:"other"` // records of it with other values
	Problem     string        `json:"problem,omitempty"`
}

// oldDecision says how many findings of a docket of the old environment were declined.
type oldDecision struct {
	Docket   int    `json:"docket"`
	Findings int    `json:"findings"`
	Problem  string `json:"problem,omitempty"`
}

// RenewedOf tells what became of an environment that was made anew.
func RenewedOf(r renew.Result) Renewed {
	out := Renewed{Agreed: r.Agreed, Declined: []oldDecision{}, Environment: r.Environment, From: r.From, Lacking: texts(r.Lacking),
		LastParcel: r.Last, On: r.At.UTC().Format(time.RFC3339), Other: r.Other}
	for _, d := range r.Declined {
		one := oldDecision{Docket: d.Docket, Findings: d.Findings}
		if d.Failed != nil {
			one.Problem = d.Failed.Error()
		}
		out.Declined = append(out.Declined, one)
	}
	if r.Unread != nil {
		out.Problem = r.Unread.Error()
	}
	return out
}
