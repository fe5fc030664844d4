package docket

import (
	"context"
	"encoding/json"

	"anagram/internal/files/sqlitefile"
	"anagram/internal/store/docket/run"
)

// Origin is where a decision or a run was made.
type Origin = run.Origin

// From says where what is decided and run from here on is made.
func (d *Docket) From(o Origin) { d.origin = &o }

// Acted is one person as they decided in a docket or ran it, from one place.
type Acted struct {
	Who string `json:"name"`
	Origin
}

// People gives who decided in a docket or ran it and from where, each once, in the order in
// which they first did. What was read in from elsewhere has the place where it was read in.
func (d *Docket) People(ctx context.Context) ([]Acted, error) {
	var out []Acted
	seen := map[Acted]bool{}
	for l, err := range sqlitefile.Rows(ctx, d.db, scanLink,
		"SELECT seq, kind, content, sum FROM links WHERE kind IN (?, ?, ?, ?) ORDER BY seq",
		linkDecide, linkRun, linkComment, linkSign) {
		if err != nil {
			return nil, d.Wrap(err)
		}
		one, known, err := acted(l)
		if err != nil {
			return nil, d.Wrap(err)
		}
		if known && !seen[one] {
			seen[one] = true
			out = append(out, one)
		}
	}
	return out, nil
}

// acted tells who did what a link says; known is false where it does not say from where.
func acted(l linked) (one Acted, known bool, err error) {
	var link struct {
		Who        string      `json:"who"`
		ReadBy     string      `json:"read_by"`
		Origin     *Origin     `json:"origin"`
		Verdicts   []LogEntry  `json:"verdicts"`
		Comments   []Comment   `json:"comments"`
		Signatures []Signature `json:"signatures"`
	}
	if err := json.Unmarshal([]byte(l.content), &link); err != nil || link.Origin == nil {
		return one, false, err
	}
	name := link.Who
	switch {
	case link.ReadBy != "":
		name = link.ReadBy
	case len(link.Verdicts) > 0:
		name = link.Verdicts[0].Who
	case len(link.Comments) > 0:
		name = link.Comments[0].Who
	case len(link.Signatures) > 0:
		name = link.Signatures[0].Who
	}
	return Acted{name, *link.Origin}, true, nil
}
