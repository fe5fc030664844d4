// Package report writes a review to be handed round: a workbook, a table in CSV, a page.
//
// The contract: a report is written from a stream of findings, in memory that does not grow
// with them but for the page's own; whatever a value holds stays text. What comes back is
// read by flow/decide, which says what is in the cells.
package report

import (
	"context"

	"anagram/internal/core/decision"
	"anagram/internal/flow/decide"
	"anagram/internal/store/docket"
)

// Review is what is reported.
type Review struct {
	Docket  *docket.Docket
	Digest  string
	Tally   decision.Tally
	Groups  []docket.Group
	Grouped []decide.Grouped // those with findings that are meant, in the docket's order
	Made    string           // when the report is made, UTC, RFC 3339
	By      string           // who makes it
	// Removals is what only the target has, in the order in which it can go.
	Removals []decide.Removal
	// Each gives the findings that are meant, by type in dependency order and status; ByGroup in
	// the order of groups.
	ByGroup func(ctx context.Context, give func(decide.Reviewed) error) error
	Each    func(ctx context.Context, give func(decide.Reviewed) error) error
}
