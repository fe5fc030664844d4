// Package matching compares a parcel with an environment, or with another parcel, and makes
// a docket of what differs.
//
// The contract: in go a parcel whose seal holds, a target and what both last agreed on; out
// comes a docket that appears complete or not at all, and what is agreed now. Of the target
// only what is in the parcel's scope is read; nothing is written to it. What is compared
// with what is a value (compared), the type at work another one (atWork); both are handed
// on and never changed. Findings, needs and checks go into a sink, in the order of the
// catalog and of keys.
//
// Where to look: match.go goes through the types in order; compared.go has the two values;
// scope.go, which records of the target are read; pairs.go, what changed its key; found.go,
// one finding; needs.go and referred.go, what findings refer to; taken.go, unique values;
// rules.go, rules that the target is asked about; attachments.go, what of both sides is
// kept to look at; renames.go, records that look alike;
// times.go, old parcels and open dockets; sink.go, what writes into the docket.
package matching
