// Package byhand seals parcels that were edited or written by hand, after checking them as a
// whole, and writes the records of a parcel as a table.
package byhand
