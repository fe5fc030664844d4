// Package inspect looks at environments before there is any work: can they be reached, what
// may the account do, and what would a first catalog of them be.
package inspect
