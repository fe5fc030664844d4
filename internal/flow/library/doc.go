// Package library keeps parcels: under names that are free, listed, opened, verified,
// renamed, removed, and received from elsewhere. What is there already is never replaced,
// and what a docket still needs is not removed unasked.
package library
