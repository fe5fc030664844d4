// Package export copies records of an environment into a new parcel. It only reads; the
// parcel appears complete or not at all.
package export
