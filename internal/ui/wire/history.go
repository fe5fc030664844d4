package wire

import (
	"anagram/internal/flow/audit"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/register"
)

// History is the output of history.
type History struct {
	Dockets []Docket `json:"dockets"`
}

// Docket is a docket with what became of it; of one that cannot be read only its number and why.
type Docket struct {
	Docket int    `json:"docket"`
	Error  string `json:"error,omitempty"`
	*Summary
}

// Summary counts the decisions in a docket and lists its runs.
type Summary struct {
	Approved   int    `json:"approved"`
	Declined   int    `json:"declined"`
	Held       int    `json:"held"`
	MatchedAt  string `json:"matched_at"`
	MatchedBy  string `json:"matched_by"`
	Open       int    `json:"open"`
	Parcel     string `json:"parcel"`
	Restores   int    `json:"restores"` // the docket that it takes back, 0 for none
	Runs       []Run  `json:"runs"`
	Source     string `json:"source"`
	Target     string `json:"target"`
	TargetKept int    `json:"target_kept"`
}

// Run is an import or a rehearsal.
type Run struct {
	By        string `json:"by"`
	Changed   int    `json:"changed"`
	EndedAt   string `json:"ended_at"`
	Kind      string `json:"kind"`
	LeftOut   int    `json:"left_out"`
	Message   string `json:"message"`
	New       int    `json:"new"`
	Outcome   string `json:"outcome"`
	Removed   int    `json:"removed"`
	StartedAt string `json:"started_at"`
}

// DocketOf tells of a docket as the register has it.
func DocketOf(e register.Entry) Docket {
	if e.Err != nil {
		return Docket{Docket: e.Header.Number, Error: e.Err.Error()}
	}
	summary := SummaryOf(e.Summary)
	return Docket{Docket: e.Header.Number, Summary: &summary}
}

// SummaryOf tells what became of a docket.
func SummaryOf(s docket.Summary) Summary {
	h, t := s.Header, s.Tally
	out := Summary{Parcel: h.Parcel, Source: h.Source, Target: h.Target, MatchedAt: h.MatchedAt, MatchedBy: h.MatchedBy, Open: t.Open,
		Approved: t.Approved, Declined: t.Declined, Held: t.Held, TargetKept: t.Kept, Restores: h.Restores, Runs: []Run{}}
	for _, r := range s.Runs {
		out.Runs = append(out.Runs, Run{Kind: r.Kind, By: r.Who, StartedAt: r.StartedAt, EndedAt: r.EndedAt, Outcome: OutcomeOf(r),
			New: r.New, Changed: r.Changed, Removed: r.Removed, LeftOut: r.LeftOut, Message: r.Message})
	}
	return out
}

// OutcomeOf says how a run ended; one without an end was cut off.
func OutcomeOf(r run.Run) string {
	if r.EndedAt == "" && !r.Unsettled() {
		return run.Interrupted
	}
	return r.Outcome
}

// DocketHistory is the output of history DOCKET.
type DocketHistory struct {
	Docket int     `json:"docket"`
	Events []Event `json:"events"`
	People []Acted `json:"people"`
	Summary
}

// Event is something that happened to a docket.
type Event struct {
	At        string   `json:"at"`
	Who       string   `json:"who"`
	What      string   `json:"what"` // matched, decided, commented, signed, or the kind of a run
	Decision  string   `json:"decision,omitempty"`
	Note      string   `json:"note,omitempty"`
	Records   int      `json:"records,omitempty"`
	Addresses []string `json:"addresses,omitempty"`
	Rule      bool     `json:"rule,omitempty"`
	Carried   int      `json:"carried,omitempty"`
	Outcome   string   `json:"outcome,omitempty"`
	EndedAt   string   `json:"ended_at,omitempty"`
	New       int      `json:"new,omitempty"`
	Changed   int      `json:"changed,omitempty"`
	Removed   int      `json:"removed,omitempty"`
	LeftOut   int      `json:"left_out,omitempty"`
}

// Acted is one person as they decided in a docket or ran it, from one place.
type Acted struct {
	Name    string `json:"name"`
	Account string `json:"account"`
	Host    string `json:"host"`
	Named   bool   `json:"named,omitempty"` // another name than the account's was given
}

// DocketHistoryOf tells all that happened to a docket.
func DocketHistoryOf(s docket.Summary, people []docket.Acted, events []audit.Event) DocketHistory {
	out := DocketHistory{Docket: s.Header.Number, Summary: SummaryOf(s), People: []Acted{}, Events: []Event{}}
	for _, p := range people {
		out.People = append(out.People, Acted{p.Who, p.Account, p.Host, p.Named})
	}
	for _, e := range events {
		out.Events = append(out.Events, Event{At: e.At, Who: e.Who, What: e.What, Decision: e.Decision, Note: e.Note, Records: e.Records,
			Addresses: e.Addresses, Rule: e.Rule, Carried: e.Carried, Outcome: e.Outcome, EndedAt: e.EndedAt, New: e.New,
			Changed: e.Changed,
			Removed: e.Removed, LeftOut: e.LeftOut})
	}
	return out
}

// RecordHistory is the output of history RECORD.
type RecordHistory struct {
	Address string    `json:"address"`
	Dockets []Chapter `json:"dockets"`
}

// Chapter is what a docket says of a record.
type Chapter struct {
	Docket    int      `json:"docket"`
	MatchedAt string   `json:"matched_at"`
	Source    string   `json:"source"`
	Target    string   `json:"target"`
	Restores  int      `json:"restores,omitempty"`
	Status    string   `json:"status" one:"conflict,changed,new,target-edit,target-only,same"`
	Decision  string   `json:"decision"`
	DecidedBy []string `json:"decided_by"`
	DecidedAt string   `json:"decided_at,omitempty"`
	Note      string   `json:"note,omitempty"`
	Outcome   string   `json:"outcome,omitempty" one:"written,already,left-out"`
	At        string   `json:"at,omitempty"` // when it was imported
	By        string   `json:"by,omitempty"` // who imported it
	Why       string   `json:"why,omitempty"`
	Fields    []Field  `json:"fields"`
}

// RecordHistoryOf tells the life of a record.
func RecordHistoryOf(address string, chapters []audit.Chapter) RecordHistory {
	out := RecordHistory{Address: address, Dockets: []Chapter{}}
	for _, c := range chapters {
		out.Dockets = append(out.Dockets, Chapter{Docket: c.Docket, MatchedAt: c.MatchedAt, Source: c.Source, Target: c.Target,
			Restores: c.Restores, Status: string(c.Status), Decision: c.Decision, DecidedBy: texts(c.DecidedBy), DecidedAt: c.DecidedAt,
			Note:    c.Note,
			Outcome: c.Outcome, At: c.At, By: c.By, Why: c.Why, Fields: FieldsOf(c.Fields)})
	}
	return out
}

// HistoryFile is the output of history DOCKET --out.
type HistoryFile struct {
	Docket int    `json:"docket"`
	File   string `json:"file"`
}

// Proof is the output of prove.
type Proof struct {
	AsApproved     int         `json:"as_approved"`
	Differs        []Otherwise `json:"differs"`
	Docket         int         `json:"docket"`
	Gone           []Otherwise `json:"gone"`
	Imported       int         `json:"imported"`
	LeftOpen       []Left      `json:"left_open"`
	LookedWith     int         `json:"looked_with"` // the docket that was made to look, 0 for none
	Moved          []Moved     `json:"moved"`
	NewDifferences []Moved     `json:"new_differences"`
	NotLooked      string      `json:"not_looked,omitempty"` // why what else moved was not looked at
	Settled        int         `json:"settled"`
	Sound          bool        `json:"sound"` // all that was imported is as approved
	Twice          []Otherwise `json:"twice"`
}

// Otherwise is a record that was imported and is not there as it was approved.
type Otherwise struct {
	Address string     `json:"address"`
	At      string     `json:"at,omitempty"` // when it was last changed there, as the target tells it
	By      string     `json:"by,omitempty"`
	Fields  []FieldNow `json:"fields"`
	Later   int        `json:"later_docket,omitempty"` // that wrote it later
	What    string     `json:"what"`                   // for people
}

// FieldNow is a field that does not hold what was approved.
type FieldNow struct {
	Field    string  `json:"field"`
	Approved *string `json:"approved"`
	Now      *string `json:"now"`
}

// Moved is a record of which something else moved since.
type Moved struct {
	Address string `json:"address"`
	At      string `json:"at,omitempty"` // when it was last changed, as that side tells it
	By      string `json:"by,omitempty"`
	Where   string `json:"where" one:",source,target,both"`
	What    string `json:"what"` // for people
}

// Left is a record that was not imported.
type Left struct {
	Address string `json:"address"`
	Why     string `json:"why" one:"open,declined,held,target-kept,approved,left-out"`
}

// ProofOf tells what was found of an import.
func ProofOf(r audit.Proof) Proof {
	out := Proof{Docket: r.Header.Number, LookedWith: r.Docket, Imported: r.Imported, AsApproved: r.AsApproved, Sound: r.Sound(),
		Moved: movedOf(r.Moved), LeftOpen: []Left{}, Settled: r.Settled, NewDifferences: movedOf(r.Since), NotLooked: r.NotLooked,
		Differs: otherwiseOf(r.Differs), Gone: otherwiseOf(r.Gone), Twice: otherwiseOf(r.Twice)}
	for _, l := range r.Open {
		out.LeftOpen = append(out.LeftOpen, Left(l))
	}
	return out
}

func movedOf(list []audit.Moved) []Moved {
	out := []Moved{}
	for _, m := range list {
		out = append(out, Moved{Address: m.Address, At: m.Change.At, By: m.Change.By, Where: m.Where, What: m.What})
	}
	return out
}

func otherwiseOf(list []*audit.Otherwise) []Otherwise {
	out := []Otherwise{}
	for _, o := range list {
		one := Otherwise{Address: o.Address, At: o.Change.At, By: o.Change.By, Fields: []FieldNow{}, Later: o.Later, What: o.What}
		for _, field := range o.Fields {
			one.Fields = append(one.Fields, FieldNow(field))
		}
		out = append(out, one)
	}
	return out
}

// Whereabouts is the output of status PARCEL.
type Whereabouts struct {
	Environments []Stay `json:"environments"`
	Parcel       string `json:"parcel"`
}

// Stay is what is known of a parcel in one environment.
type Stay struct {
	Environment string `json:"environment"`
	Docket      int    `json:"docket"`               // the newest with the parcel, 0 where it was never matched there
	MatchedAt   string `json:"matched_at,omitempty"` // of that docket
	State       string `json:"state"`
	ImportedAt  string `json:"imported_at,omitempty"`
	By          string `json:"by,omitempty"`
	New         int    `json:"new"`
	Changed     int    `json:"changed"`
	LeftOut     int    `json:"left_out"` // approved, and left out of the last import
	Open        int    `json:"open"`
	Declined    int    `json:"declined"`
	Held        int    `json:"held"`
	AsApproved  int    `json:"as_approved" least:"-1"` // of what was imported; -1 where nobody asked
	Asked       int    `json:"asked"`
	Failure     string `json:"failure,omitempty"` // why the environment could not be asked
}

// WhereaboutsOf tells where the records of a parcel are.
func WhereaboutsOf(parcel string, stays []audit.Stay) Whereabouts {
	out := Whereabouts{Parcel: parcel, Environments: []Stay{}}
	for _, s := range stays {
		out.Environments = append(out.Environments, Stay{s.Environment, s.Docket, s.MatchedAt, s.State, s.ImportedAt, s.By, s.New,
			s.Changed,
			s.LeftOut, s.Open, s.Declined, s.Held, s.AsApproved, s.Asked, s.Failure})
	}
	return out
}
