// Package agreed keeps what two environments last had in common, for each pair in parcel
// form, so that a match can tell which side changed what since.
//
// The contract: agreed values are replaced in one step, after a match (Begin, Type and its
// Remembering, Finish) or after an import (Keep). They are kept by the keys that were
// agreed on and compared by those of the source; where a person paired two keys these
// differ, and the records are brought into the other order. A type that nothing is said
// about keeps what was agreed on it. Streams are in key order; nothing is held in memory
// but one record of each.
package agreed
