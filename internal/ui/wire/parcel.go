package wire

import "encoding/json"

// Parcels is the output of parcel list.
type Parcels struct {
	Parcels []Parcel `json:"parcels"`
}

// Parcel is a parcel of the library; of one that cannot be read only its name and why.
type Parcel struct {
	*Known
	Error       string `json:"error,omitempty"`
	File        string `json:"file"`
	Parcel      string `json:"parcel"`
	SourceMoved string `json:"source_moved,omitempty"`
}

// Known is what a parcel says of itself.
type Known struct {
	Bytes      int64  `json:"bytes"`
	ExportedAt string `json:"exported_at"`
	ExportedBy string `json:"exported_by"`
	Note       string `json:"note"`
	Records    int    `json:"records"`
	Source     string `json:"source"`
}

// ParcelRecord is the output of parcel show PARCEL ADDRESS.
type ParcelRecord struct {
	Address string          `json:"address"`
	Record  json.RawMessage `json:"record"` // as in a parcel
	Type    string          `json:"type"`
}

// Verified is the output of parcel verify.
type Verified struct {
	Files   int    `json:"files"`
	Parcel  string `json:"parcel"`
	Records int    `json:"records"`
	Whole   bool   `json:"whole"`
}

// Made is the output of parcel make and parcel edit.
type Made struct {
	Bytes    int64  `json:"bytes"`
	File     string `json:"file"`
	Files    int    `json:"files"`
	Parcel   string `json:"parcel"`
	Records  int    `json:"records"`
	Resealed int    `json:"resealed"`
	Types    int    `json:"types"`
}

// Table is the output of a type of a parcel written as a table.
type Table struct {
	File    string `json:"file"`
	Parcel  string `json:"parcel"`
	Records int    `json:"records"`
	Type    string `json:"type"`
}

// Stored is the output of what keeps a parcel under a name, or removes it.
type Stored struct {
	File    string `json:"file"`
	Parcel  string `json:"parcel"`
	Removed bool   `json:"removed,omitempty"`
}

// Selections is the output of selection list.
type Selections struct {
	Selections []Selection `json:"selections"`
}

// Selection is one that is kept.
type Selection struct {
	Records   []string `json:"records"`
	Selection string   `json:"selection"`
	Takes     string   `json:"takes"` // in words
}

// Preview is the output of selection show --from.
type Preview struct {
	Along     int         `json:"along"`
	Chosen    int         `json:"chosen"`
	Records   []Previewed `json:"records"`
	Selection string      `json:"selection"`
	Source    string      `json:"source"`
}

// Previewed is a record that an export would take.
type Previewed struct {
	Address string `json:"address"`
	Through string `json:"through"`
	Why     string `json:"why"`
}

// Selected is the output of selection add and remove.
type Selected struct {
	Added     *[]string `json:"added,omitempty"` // by selection add: even where none was
	Records   []string  `json:"records"`
	Removed   *[]string `json:"removed,omitempty"` // by selection remove
	Selection string    `json:"selection"`
}
