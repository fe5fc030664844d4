// Package limit says how much of anything that comes from outside is read. Whatever is
// larger is refused with a sentence that names the limit; docs/security.md lists them.
package limit

// The limits, in bytes where nothing else is said.
const (
	Configuration = 1 << 20   // anagram.yaml, a catalog, what a person trusts
	Depth         = 32        // levels of YAML within each other
	Signs         = 200_000   // brackets, colons, line ends and the like in a configuration
	Name          = 100       // characters of a name: of a record type, a field, an environment
	Text          = 10_000    // characters of a single text in a configuration
	Answers       = 64 << 20  // a file of answers
	Words         = 10_000    // characters of a note or a comment
	Types         = 2_000     // record types in a catalog, environments in a workspace
	Manifest      = 8 << 20   // of a parcel; pairs.jsonl
	ManifestParts = 250_000   // objects and lists in a manifest
	Line          = 16 << 20  // a record as it is written in a parcel, a docket or a file
	Attachment    = 16 << 20  // an attachment that a docket keeps for people to look at
	Entries       = 200_000   // files in a parcel
	Unpacked      = 16 << 30  // all of a parcel, attachments included
	Book          = 512 << 20 // a workbook, unpacked
	BookPart      = 16 << 20  // of a part of it in memory; the rest waits on disk
	Register      = 256 << 20 // what the workspace knows of its dockets
)
