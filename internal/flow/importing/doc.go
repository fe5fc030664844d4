// Package importing writes what is approved in a docket into its target.
//
// The contract: in goes a docket; what it proposes, who approved what and what stands in
// the way is read from it (Prepare). The target is read again first: what moved since it
// was matched is left out and named, with whatever depends on it. Before-images are
// durable in the docket before the first write. Everything from reading to reading back
// is one transaction. Only approved fields are written, never is anything removed. Each
// step gets what it works on and gives what it found; nothing is shared between them.
//
// An answer that was lost at commit leaves the outcome unknown; the target is read to
// settle it, now or at the next import or match (settle.go). What was written is read back
// whole (readback.go), and what was not to be written is watched (watch.go).
package importing
