// Package catalog describes record types: where they live, their keys, what they
// refer to, and the order in which they depend on each other.
//
// The contract: Parse accepts the bytes of a catalog.yaml and refuses what it does
// not know, naming file, line and the nearest valid word. A Catalog is complete in
// itself; whether it holds in an environment is asked with Fit.
package catalog
