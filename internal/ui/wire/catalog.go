package wire

import (
	"maps"
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/draft"
	"anagram/internal/flow/fit"
)

// Draft is the output of catalog draft.
type Draft struct {
	Catalog      string   `json:"catalog"` // its text
	Doubtful     []Note   `json:"doubtful"`
	Environments []string `json:"environments"`
	Guesses      int      `json:"guesses"`
	LeftOut      []Note   `json:"left_out"`
	Types        int      `json:"types"`
}

// Drafted is the output of init with addresses.
type Drafted struct {
	Check        []Checked `json:"check"`
	Doubtful     []Note    `json:"doubtful"`
	Environments []string  `json:"environments"`
	Files        []string  `json:"files"`
	Guesses      int       `json:"guesses"`
	LeftOut      []Note    `json:"left_out"`
	Types        int       `json:"types"`
	Workspace    string    `json:"workspace"`
}

// Note says why a table was left out, or came in doubtfully.
type Note struct {
	Rows  []int  `json:"rows"` // in each environment
	Table string `json:"table"`
	Type  string `json:"type,omitempty"`
	Why   string `json:"why"`
}

// DraftOf tells of a draft.
func DraftOf(d *draft.Draft, from []string, guesses int, text []byte) Draft {
	out := Draft{Environments: texts(from), Types: len(d.Types), LeftOut: []Note{}, Doubtful: []Note{}, Guesses: guesses,
		Catalog: string(text)}
	for _, n := range d.Notes {
		one := Note{Table: n.Place, Rows: append([]int{}, n.Rows...), Why: n.Why, Type: n.Type}
		if n.Type == "" {
			out.LeftOut = append(out.LeftOut, one)
		} else {
			out.Doubtful = append(out.Doubtful, one)
		}
	}
	return out
}

// DraftedInto is the output of catalog draft --into.
type DraftedInto struct {
	Added   []string `json:"added"`
	File    string   `json:"file"`
	Missing []string `json:"missing"`
	Named   []string `json:"named"`
}

// CatalogFile is the output of catalog show --docket --out.
type CatalogFile struct {
	Docket string `json:"docket"`
	File   string `json:"file"`
	Types  int    `json:"types"`
}

// Catalog is the output of catalog show.
type Catalog struct {
	Types []Type `json:"types"`
}

// Type is a record type as the catalog describes it.
type Type struct {
	Areas  []string          `json:"areas"`
	At     map[string]string `json:"at"`
	ID     string            `json:"id"`
	Key    []string          `json:"key"`
	Only   string            `json:"only"`
	PartOf string            `json:"part_of"`
	Refers map[string]any    `json:"refers"` // field -> record type, or a list of them
	Type   string            `json:"type"`
}

// TypeOf describes a record type.
func TypeOf(c *catalog.Catalog, t *catalog.Type) Type {
	out := Type{Type: t.Name, At: map[string]string{}, Key: texts(t.Key), ID: t.ID, Refers: map[string]any{}, Only: t.Only,
		PartOf: t.PartOf, Areas: []string{}}
	maps.Copy(out.At, t.At)
	for _, area := range c.Areas {
		if slices.Contains(area.Types, t.Name) {
			out.Areas = append(out.Areas, area.Name)
		}
	}
	for field, ref := range t.Refers {
		if out.Refers[field] = ref.To; len(ref.To) == 1 {
			out.Refers[field] = ref.To[0]
		}
	}
	return out
}

// CatalogCheck is the output of catalog check.
type CatalogCheck struct {
	Checks       []Check   `json:"checks"`
	Environments []Checked `json:"environments"`
	OneSided     []string  `json:"one_sided"`
}

// Checked tells whether the catalog holds in an environment.
type Checked struct {
	Environment string         `json:"environment"`
	Holds       bool           `json:"holds"`
	Problems    []Problem      `json:"problems"`
	Records     map[string]int `json:"records"`
}

// Problem is what does not hold.
type Problem struct {
	Level   string `json:"level" one:"blocker,caution"`
	Line    int    `json:"line"`
	Message string `json:"message"`
	Type    string `json:"type"`
}

// CheckedOf tells what was found in an environment.
func CheckedOf(r fit.CatalogReport) Checked {
	out := Checked{Environment: r.Environment, Holds: r.Broken() == 0, Problems: []Problem{}, Records: map[string]int{}}
	maps.Copy(out.Records, r.Records)
	for _, p := range r.Problems {
		level := "blocker"
		if p.Caution {
			level = "caution"
		}
		out.Problems = append(out.Problems, Problem{Type: p.Type, Line: p.Line, Level: level, Message: p.Message})
	}
	return out
}

// CatalogCheckOf tells what was found in all.
func CatalogCheckOf(reports fit.CatalogReports) CatalogCheck {
	out := CatalogCheck{Checks: checksOf(reports.Checks), Environments: []Checked{}, OneSided: texts(reports.OneSided)}
	for _, r := range reports.Environments {
		out.Environments = append(out.Environments, CheckedOf(r))
	}
	return out
}

// Build is the output of version.
type Build struct {
	Version  string `json:"version"`
	Commit   string `json:"commit,omitempty"`   // "" where it was not built from a checkout
	Date     string `json:"date,omitempty"`     // of the commit, RFC 3339
	Modified bool   `json:"modified,omitempty"` // the checkout held changes that were not committed
	Go       string `json:"go"`
	Platform string `json:"platform"`
}
