// Package build writes what a match finds into a new docket.
//
// The contract: a docket is built beside its place and appears there complete or not at all. What
// findings need, claim and hang on is linked once all of them are known. After Finish nothing of it
// ever changes.
package build
