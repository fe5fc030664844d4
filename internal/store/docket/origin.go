package docket

import (
	"context"
	"encoding/json"
)

// Origin is where a decision or a run was made, beside the name that was given for it. It is
// what the machine said, which proves no more than the name does to who owns the machine.
type Origin struct {
	Account string `json:"account"` // of the operating system
	Host    string `json:"host"`
	Named   bool   `json:"named,omitempty"` // another name than the account's was given
}

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
	rows, err := d.db.QueryContext(ctx, "SELECT kind, content FROM links WHERE kind IN (?, ?, ?, ?) ORDER BY seq", linkDecide, linkStart, linkComment, linkSign)
	if err != nil {
		return nil, d.wrap(err)
	}
	defer rows.Close()
	var out []Acted
	seen := map[Acted]bool{}
	for rows.Next() {
		var kind, content string
		if err := rows.Scan(&kind, &content); err != nil {
			return nil, d.wrap(err)
		}
		var link struct {
			Who        string      `json:"who"`
			ReadBy     string      `json:"read_by"`
			Origin     *Origin     `json:"origin"`
			Verdicts   []LogEntry  `json:"verdicts"`
			Comments   []Comment   `json:"comments"`
			Signatures []Signature `json:"signatures"`
		}
		if err := json.Unmarshal([]byte(content), &link); err != nil {
			return nil, d.wrap(err)
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
		if link.Origin == nil {
			continue
		}
		if one := (Acted{name, *link.Origin}); !seen[one] {
			seen[one] = true
			out = append(out, one)
		}
	}
	return out, d.wrap(rows.Err())
}
