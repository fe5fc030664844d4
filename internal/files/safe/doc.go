// Package safe writes files so that nothing is half there, and nothing that was there is
// lost unasked.
//
// The contract: CreateNew never opens what is there already. Replace puts a whole file in
// the place of another in one step. A Replacement does so for several files of one folder:
// all of them, or after an interruption the rest when Finish is called next. It stays
// within its folder, whatever the note of an interrupted one says and whatever links the
// folder holds.
package safe
