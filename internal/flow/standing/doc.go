// Package standing works out what of a docket is approved and what stands in its way.
//
// The contract: it reads a docket and changes nothing. Every approved finding is given, in
// the docket's order, with what it needs from others and the blockers that hold for what is
// going to be written of it. A finding that needs one which cannot be imported falls with
// it; circles stand or fall as a whole.
package standing
