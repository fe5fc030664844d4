// Package restore makes a docket that takes an import back.
//
// The contract: what the target held before an import, as its before-images say, is matched
// with what it holds now. What was written then is what both last agreed on, so that what
// anybody changed since is a conflict, and other edits stay. Records that the import made are
// found as created-here. The docket is reviewed, approved and imported like any other; nothing
// is written here.
package restore
