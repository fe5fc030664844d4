// Package parcel keeps one export: records, manifest and catalog, sealed, as a ZIP
// file or as a plain folder.
//
// The contract: a Writer takes records in any order and leaves either a complete,
// sealed parcel or nothing. The same records give the same bytes in records/ on every
// run and machine. A Reader streams; before anything of a parcel is believed, Verify
// compares every byte with the seal. Readers refuse names outside the parcel's own
// layout, links, double entries and sizes that the manifest does not announce, and
// name file and line of what is wrong. docs/formats.md describes the form.
package parcel

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"

	"anagram/internal/core/known"
	"anagram/internal/core/limit"
	"anagram/internal/core/pattern"
	"anagram/internal/core/record"
)

// Format and Version stand at the head of every manifest.
const (
	Format  = "anagram parcel"
	Version = 1
)

const (
	manifestName = "parcel.json"
	catalogName  = "catalog.yaml"
	// Suffix is how the ZIP form's file name ends.
	Suffix = ".parcel"
)

// Manifest describes a parcel.
type Manifest struct {
	Format  string `json:"format"`
	Version int    `json:"version"`
	ID      string `json:"id"`
	Name    string `json:"name"`
	Note    string `json:"note"`
	Source  string `json:"source"`
	Release string `json:"release"` // of the source, "" where it is not known
	// Settings are the source's values of what has to be equal on both sides, by address.
	Settings   map[string]string `json:"settings,omitempty"`
	ExportedAt string            `json:"exported_at"` // UTC, to the millisecond
	ExportedBy string            `json:"exported_by"`
	Program    string            `json:"program"`
	// Origin is "hand" for a parcel that was not exported but made of a folder.
	Origin    string        `json:"origin,omitempty"`
	Resealed  []Reseal      `json:"resealed,omitempty"` // oldest first
	Selection Selection     `json:"selection"`
	Keys      record.Shapes `json:"keys"` // key fields of every type that a key or reference needs
	Types     []Type        `json:"types"`
	Catalog   Sum           `json:"catalog"`
	Files     []Sum         `json:"files"`
	Referred  *Referred     `json:"referred,omitempty"`
	Outside   []Outside     `json:"outside,omitempty"`
	// UpTo is, of agreed values, when the newest parcel was exported that they were taken
	// from, by SOURCE/TYPE.
	UpTo map[string]string `json:"up_to,omitempty"`
	// Covered says, of agreed values, which types were matched whole, and when.
	Covered map[string]known.Coverage `json:"covered,omitempty"`
	Seal    string                    `json:"seal"`
}

// Reseal is one time that an edited parcel was checked and sealed again.
type Reseal struct {
	At   string `json:"at"`
	By   string `json:"by"`
	Note string `json:"note"`
}

// Selection is what the export was asked for; all empty is everything.
type Selection struct {
	Saved        string            `json:"saved,omitempty"` // name under which anagram.yaml has it
	Areas        []string          `json:"areas,omitempty"`
	Types        []string          `json:"types,omitempty"`
	Records      []string          `json:"records,omitempty"` // addresses and patterns
	Where        map[string]string `json:"where,omitempty"`   // condition by record type
	ChangedSince string            `json:"changed_since,omitempty"`
	Since        string            `json:"since,omitempty"` // the moment that ChangedSince stood for, UTC
	// SinceBy are the moments that it stood for by record type, where they differ; types that
	// are not named were to be taken whole.
	SinceBy  map[string]string `json:"since_by,omitempty"`
	LeaveOut []string          `json:"leave_out,omitempty"`
	Related  string            `json:"related,omitempty"` // all, parts or none; "" is all
	NoFiles  bool              `json:"no_files,omitempty"`
}

// Moment gives since when changes of a type are wanted, "" where all of it is.
func (s Selection) Moment(typ string) string {
	if s.SinceBy != nil {
		return s.SinceBy[typ]
	}
	return s.Since
}

// Dated reports whether only changes are wanted.
func (s Selection) Dated() bool { return s.Since != "" || s.SinceBy != nil }

// Kinds of related records that come along.
const (
	RelatedAll   = "all"   // everything referred to, and parts
	RelatedParts = "parts" // parts alone
	RelatedNone  = "none"
)

// Type is one record type in a parcel.
type Type struct {
	Name    string         `json:"name"`
	Fields  []record.Field `json:"fields"`
	Records int            `json:"records"`
	Chosen  int            `json:"chosen"` // the others came along
	// Whole says that all records of the type were taken, but those left out by name.
	Whole  bool   `json:"whole,omitempty"`
	Newest string `json:"newest,omitempty"` // the latest stamp among its records
	// Unkeyed are records of the source that are in no line, as their keys cannot be read.
	Unkeyed *Unkeyed `json:"unkeyed,omitempty"`
	Sum
}

// Unkeyed tells of records whose keys cannot be read.
type Unkeyed struct {
	Records int      `json:"records"`
	Named   []string `json:"named"` // the first of them: internal id, and why
}

// mostNamed is how many of them are named.
const mostNamed = 20

// Note adds one, which is named as long as there are few.
func (u *Unkeyed) Note(id, why string) *Unkeyed {
	if u == nil {
		u = &Unkeyed{}
	}
	if u.Records++; u.Records <= mostNamed {
		u.Named = append(u.Named, "internal id "+id+": "+why)
	}
	return u
}

// Referred is the list of records that are only referred to.
type Referred struct {
	Records int `json:"records"`
	Sum
}

// Sum is the size and the SHA-256 of a file.
type Sum struct {
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"`
}

// Type finds a record type in the manifest.
func (m *Manifest) Type(name string) (Type, bool) {
	for _, t := range m.Types {
		if t.Name == name {
			return t, true
		}
	}
	return Type{}, false
}

// Chosen tells how many of its records were chosen, not taken along.
func (m *Manifest) Chosen() int {
	total := 0
	for _, t := range m.Types {
		total += t.Chosen
	}
	return total
}

// Records tells how many records the parcel holds.
func (m *Manifest) Records() int {
	total := 0
	for _, t := range m.Types {
		total += t.Records
	}
	return total
}

const referredName = "referred.jsonl"

func recordsName(typ string) string { return "records/" + typ + ".jsonl" }
func fileName(sha string) string    { return "files/" + sha }

// The seal is the SHA-256 of the manifest's bytes with zeros in place of the seal;
// the manifest holds the SHA-256 of everything else.
var (
	sealPattern = pattern.Of(`"seal": "sha256:([0-9a-f]{64})"\n}\n$`)
	zeroHash    = string(bytes.Repeat([]byte("0"), 64))
)

func encodeManifest(m Manifest) ([]byte, error) {
	m.Seal = "sha256:" + zeroHash
	var buffer bytes.Buffer
	encoder := json.NewEncoder(&buffer)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	if err := encoder.Encode(m); err != nil {
		return nil, err
	}
	text := buffer.Bytes()
	at := sealPattern.FindSubmatchIndex(text)
	sum := sha256.Sum256(text)
	copy(text[at[2]:at[3]], hex.EncodeToString(sum[:]))
	return text, nil
}

// decodeManifest reads a manifest; sealed reports whether its seal fits its bytes.
func decodeManifest(text []byte) (m Manifest, sealed bool, err error) {
	if n := bytes.Count(text, []byte("{")) + bytes.Count(text, []byte("[")); n > limit.ManifestParts {
		return m, false, fmt.Errorf("it has %d parts, and at most %d are read", n, limit.ManifestParts)
	}
	var head struct {
		Format  string `json:"format"`
		Version int    `json:"version"`
	}
	if err := json.Unmarshal(text, &head); err != nil {
		return m, false, fmt.Errorf("it is not JSON: %w", err)
	}
	if head.Format != Format {
		return m, false, fmt.Errorf("it says format %q, not %q", head.Format, Format)
	}
	if head.Version != Version {
		return m, false, fmt.Errorf("it says version %d; this program knows version %d. A newer Anagram may know it", head.Version, Version)
	}
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&m); err != nil {
		return m, false, err
	}
	at := sealPattern.FindSubmatchIndex(text)
	if at == nil {
		return m, false, nil
	}
	stated := string(text[at[2]:at[3]])
	unsealed := bytes.Clone(text)
	copy(unsealed[at[2]:at[3]], zeroHash)
	sum := sha256.Sum256(unsealed)
	return m, stated == hex.EncodeToString(sum[:]), nil
}

// Why a record is in a parcel, as record lines say it.
const (
	WhyChosen = "chosen" // it was selected
	WhyAlong  = "along"  // a record that was selected needs it, or it is a part of one
	// WhyOwner is a record that came along just as the owner of a part; its other parts did
	// not, so the parcel says nothing about them.
	WhyOwner = "owner"
)
