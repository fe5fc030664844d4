// Package sides lets records be seen as one side of a match or an import: those of a parcel
// as if it were an environment, and those of a target by the names that the source gives
// them, where a person paired two keys.
package sides
