package wire

import (
	"anagram/internal/core/match"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/joining"
	"anagram/internal/store/docket"
)

// Finding is a line of the output of review.
type Finding struct {
	Address   string    `json:"address"`
	Was       string    `json:"target_address,omitempty"` // where the target has it under another one
	Type      string    `json:"type"`
	Title     string    `json:"title"`
	Group     string    `json:"group"` // the record that all of its group hang on
	Status    string    `json:"status" one:"conflict,changed,new,target-edit,target-only"`
	Reasons   []string  `json:"reasons"`
	Decision  string    `json:"decision" one:"open,approved,declined,held,target-kept"`
	Stands    string    `json:"stands" one:"open,waiting,approved,in-part,declined,held,clash,to-see,target-kept"`
	Needs     int       `json:"needs,omitempty"` // approvals that are still asked for
	DecidedBy string    `json:"decided_by"`
	DecidedAt string    `json:"decided_at"`
	Approvers []string  `json:"approvers"` // whose last word on the record is an approval
	ByRule    bool      `json:"by_rule,omitempty"`
	Before    int       `json:"approved_before,omitempty"` // the docket that approved it, as it still is
	Note      string    `json:"note"`
	Carried   int       `json:"carried_from,omitempty"` // the docket that it was decided in first
	Fields    []Field   `json:"fields"`
	Filled    []Filled  `json:"filled,omitempty"` // what the import gives it beside them
	Changed   []changed `json:"changed"`          // last on either side, where it is known
	Checks    []Check   `json:"checks"`
	Comments  []Comment `json:"comments"`
	Decisions []Word    `json:"decisions"` // what everybody said last, in the order in which they spoke first
}

// Field is one field of a finding, as people see it.
type Field struct {
	Field       string  `json:"field"`
	Source      *string `json:"source"`
	Target      *string `json:"target"`
	Agreed      *string `json:"agreed"`
	AgreedKnown bool    `json:"agreed_known"`
	Moved       string  `json:"moved" one:",source,target,both"`
	Take        string  `json:"take" one:",source,target"`
	Decision    string  `json:"decision,omitempty" one:"open,approved,declined,held,target-kept"` // where it differs from the record's
}

// changed is when and by whom a record was last changed in an environment, as that told it.
type changed struct {
	Environment string `json:"environment"`
	At          string `json:"at"`             // as it stands there
	Zone        string `json:"zone,omitempty"` // of a time without one, where it is known
	By          string `json:"by"`
	Docket      int    `json:"docket,omitempty"` // whose import or restore it was
}

func changedOf(h docket.Header, f docket.Finding) []changed {
	out := []changed{}
	for _, c := range h.Changes(f) {
		one := changed{Environment: c.Environment, At: c.At, By: c.By}
		if c.Zone != nil {
			one.Zone = c.Zone.String()
		}
		if c.Own != nil {
			one.Docket = c.Own.Docket
		}
		out = append(out, one)
	}
	return out
}

// Filled is a field that an import gives a new record beside what the source brings.
type Filled struct {
	Field string `json:"field"`
	What  string `json:"what" one:"value,time,person"`
	Value string `json:"value,omitempty"`
}

// Comment is what somebody asked or answered.
type Comment struct {
	By   string `json:"by"`
	At   string `json:"at"`
	Text string `json:"text"`
	To   string `json:"to,omitempty"` // who is asked
}

// FindingOf tells of a finding of a docket and of its group.
func FindingOf(h docket.Header, g docket.Group, r decide.Reviewed) Finding {
	out := Finding{Address: r.Address, Was: r.Was, Type: r.Type, Title: r.Title, Group: g.Address, Status: string(r.Status),
		Reasons: []string{}, Decision: string(r.Decision), Stands: string(r.Stands()), Needs: r.Needs, DecidedBy: r.DecidedBy,
		DecidedAt: r.DecidedAt, Approvers: texts(r.Approvers),
		ByRule: r.ByRule, Before: r.Before.Docket, Note: r.Note, Carried: r.CarriedFrom, Fields: FieldsOf(r.Fields),
		Changed: changedOf(h, r.Finding), Checks: checksOf(r.Checks), Comments: []Comment{}, Decisions: wordsOf(r.Finding)}
	for _, reason := range r.Reasons {
		out.Reasons = append(out.Reasons, string(reason))
	}
	for _, c := range r.Said {
		out.Comments = append(out.Comments, Comment{c.Who, c.At, c.Text, c.To})
	}
	if r.Adds() && !match.Hopeless(r.Reasons) {
		for _, f := range h.Fills[r.Type].New {
			out.Filled = append(out.Filled, Filled(f))
		}
	}
	return out
}

// Word is what one person said last of a finding, or of a field of it.
type Word struct {
	By          string `json:"by"`
	Decision    string `json:"decision" one:"approved,declined,held,target-kept"`
	Field       string `json:"field,omitempty"`
	At          string `json:"at"`
	Note        string `json:"note"`
	Overrules   bool   `json:"overrules,omitempty"`    // declines and holds of others that were said before
	OverruledBy string `json:"overruled_by,omitempty"` // so that it does not count
}

func wordsOf(f docket.Finding) []Word {
	out := []Word{}
	for _, w := range f.Said() {
		one := Word{By: w.Who, Decision: string(w.Decision), Field: w.Field, At: w.At, Note: w.Note, Overrules: w.Overrules}
		for _, o := range f.Overruled {
			if o.Who == w.Who && w.Stops() {
				one.OverruledBy = o.By
			}
		}
		out = append(out, one)
	}
	return out
}

// FieldsOf tells of the fields of a finding.
func FieldsOf(fields []docket.Field) []Field {
	out := []Field{}
	for _, f := range fields {
		out = append(out, Field(f))
	}
	return out
}

// Decided is the output of approve, decline, hold and reopen.
type Decided struct {
	Approved        int            `json:"approved"`
	Blocked         []Blocked      `json:"blocked"`
	ByStatus        map[string]int `json:"by_status"`
	Decided         int            `json:"decided"`
	Decision        string         `json:"decision" one:"open,approved,declined,held"`
	Declined        int            `json:"declined"`
	Docket          int            `json:"docket"`
	Held            int            `json:"held"`
	Kept            int            `json:"kept"`
	KeptFields      int            `json:"kept_fields"`
	NewlyBlocked    []Blocked      `json:"newly_blocked"`
	NoLongerBlocked []Blocked      `json:"no_longer_blocked"`
	OfOthers        []Stopped      `json:"of_others,omitempty"` // that only others decided, so that they are not open again
	Open            int            `json:"open"`
	PassedOver      map[string]int `json:"passed_over"`
	Stopped         []Stopped      `json:"stopped,omitempty"` // that others declined or hold
	Take            string         `json:"take" one:",source,target"`
	TakenFields     int            `json:"taken_fields,omitempty"` // whose source's value was approved by --take source
	MovedFields     int            `json:"moved_fields,omitempty"` // of these: those that the target had changed itself
	LeftFields      int            `json:"left_fields,omitempty"`  // left to the target, as only it changed them
	TargetKept      int            `json:"target_kept"`
	WithNeeds       []string       `json:"with_needs"`
	WithParts       []string       `json:"with_parts"`
}

// Stopped is a finding on which other people's words go before.
type Stopped struct {
	Address string   `json:"address"`
	By      []string `json:"by"`
}

func stopped(list []decide.Other) []Stopped {
	var out []Stopped
	for _, o := range list {
		out = append(out, Stopped(o))
	}
	return out
}

// Blocked is an approved record that cannot be imported as things stand, and why.
type Blocked struct {
	Address string  `json:"address"`
	Checks  []Check `json:"checks"`
}

// DecidedOf tells what a decision came to.
func DecidedOf(h docket.Header, r decide.Request, result decide.Result) Decided {
	t := result.Now.Tally
	return Decided{Docket: h.Number, Decision: string(r.Decision), Take: r.Take, KeptFields: result.KeptFields, Decided: result.Decided,
		ByStatus: byStatus(result.ByStatus), WithParts: texts(result.Parts), WithNeeds: texts(result.Needed),
		PassedOver: byStatus(result.PassedOver), Kept: result.Kept, Blocked: blocked(result.Blocked), NewlyBlocked: blocked(result.Newly),
		NoLongerBlocked: blocked(result.Freed), Stopped: stopped(result.Stopped), OfOthers: stopped(result.OfOthers),
		TakenFields: result.Taken, MovedFields: result.Moved, LeftFields: result.Left, Open: t.Open, Approved: t.Approved,
		Declined: t.Declined, Held: t.Held, TargetKept: t.Kept}
}

func byStatus(counts map[match.Status]int) map[string]int {
	out := map[string]int{}
	for status, n := range counts {
		out[string(status)] = n
	}
	return out
}

func blocked(records []decide.BlockedRecord) []Blocked {
	out := []Blocked{}
	for _, b := range records {
		out = append(out, Blocked{b.Address, checksOf(b.Checks)})
	}
	return out
}

// Joined is the output of decide.
type Joined struct {
	Clashes    []Clash   `json:"clashes"`
	OfOthers   []Stopped `json:"of_others,omitempty"` // to be opened again, and decided by others alone
	Older      int       `json:"older,omitempty"`     // decisions that do not count, as their people decided otherwise later
	Stopped    []Stopped `json:"stopped,omitempty"`   // approved in what was read in, and declined or held by others
	Copies     []Copy    `json:"copies"`
	Docket     int       `json:"docket"`
	Signatures int       `json:"signatures"`
}

// Copy is what a copy of a docket brought.
type Copy struct {
	By        []string `json:"by"`
	Comments  int      `json:"comments"`
	Decisions int      `json:"decisions"`
	From      string   `json:"from"`
}

// Clash is a record that people decided otherwise at the same time.
type Clash struct {
	Address string   `json:"address"`
	Field   string   `json:"field"`
	People  []string `json:"people"`
}

// JoinedOf tells what was read in from files.
func JoinedOf(r joining.Joined, from []string) Joined {
	out := Joined{Docket: r.Docket, Copies: []Copy{}, Clashes: []Clash{}, Signatures: r.Signatures, Older: r.Older,
		Stopped: stopped(r.Stopped), OfOthers: stopped(r.OfOthers)}
	for i, c := range r.Copies {
		out.Copies = append(out.Copies, Copy{From: from[i], Decisions: c.Fresh, Comments: c.Comments, By: texts(c.By)})
	}
	for _, c := range r.Clashes {
		out.Clashes = append(out.Clashes, Clash{c.Address, c.Field, texts(c.People)})
	}
	return out
}

// Beside is the output of approve --beside.
type Beside struct {
	Docket int    `json:"docket"`
	New    string `json:"new"`
	Old    string `json:"old"`
	Source string `json:"source"`
	Target string `json:"target"`
}

// Commented is the output of comment.
type Commented struct {
	Address string `json:"address"`
	By      string `json:"by"`
	Docket  int    `json:"docket"`
	Text    string `json:"text"`
	To      string `json:"to,omitempty"`
}

// Signed is the output of sign.
type Signed struct {
	By      string `json:"by"`
	Docket  int    `json:"docket"`
	Key     string `json:"key"`
	Signed  int    `json:"signed"`            // decisions
	Refused string `json:"refused,omitempty"` // why the target does not take the key
}

// Reviewed is the output of review --out.
type Reviewed struct {
	Docket   int    `json:"docket"`
	File     string `json:"file"`
	Findings int    `json:"findings"`
}

// FilesWritten is the output of review --files.
type FilesWritten struct {
	Docket   int      `json:"docket"`
	Files    int      `json:"files"`
	Findings int      `json:"findings"`
	Folder   string   `json:"folder"`
	NotHeld  []string `json:"not_held"` // attachments that the docket does not hold, for people
}
