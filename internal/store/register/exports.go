package register

import (
	"encoding/json"

	"anagram/internal/store/workspace"
)

// exported is what the register says of a parcel that this workspace exported itself: what
// others say of where theirs come from is their word.
type exported struct {
	Parcel string `json:"exported"` // name that it was given
	Export
}

// Export is what tells an export from all others.
type Export struct {
	Seal   string `json:"seal"`
	Source string `json:"source"`
	At     string `json:"at"` // UTC
}

// AddExport makes a parcel known as one that was exported here.
func AddExport(w *workspace.Workspace, name string, e Export) error {
	text, err := json.Marshal(exported{name, e})
	if err != nil {
		return err
	}
	return appendTo(path(w), append(text, '\n'), true)
}

// Exported reports whether a parcel is one that was exported here, as it was then.
func Exported(w *workspace.Workspace, m Export) (found bool, err error) {
	err = eachLine(w, m.Seal, func(line []byte) {
		var e exported
		found = found || json.Unmarshal(line, &e) == nil && e.Export == m && m.Seal != ""
	})
	return found, err
}
