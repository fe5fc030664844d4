// Package importing writes what is approved in a docket into its target.
//
// The contract: in goes a docket; what it proposes, who approved what and what stands in
// the way is read from it (prepare). The target is read again first: what moved since it
// was matched is left out and named, with whatever depends on it. Before-images are
// durable in the docket before the first write (write, or journal where there are no
// transactions). What was written is read back whole (verify). Everything from reading to
// reading back is one transaction where the target has them. Only approved fields are written;
// only what an import made is ever removed. Each step gets what it works on and gives what it
// found; nothing is shared between them.
//
// Here are the ways through those rooms: import.go for one transaction, stepwise.go for none;
// settle.go for imports that were cut off, around.go for what runs before and after, remember.go and
// agreedback.go for what both sides agree on afterwards.
package importing
