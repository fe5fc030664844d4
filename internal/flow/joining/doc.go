// Package joining reads in what was decided elsewhere: in copies of a docket, in answers files,
// and in tables that somebody filled in.
//
// The contract: a file is read whole before anything of it counts; what is wrong with it is told
// by its places, and then nothing of any file is taken. What is taken is added under the names of
// those who decided, with who read it in.
package joining
