package wire

import (
	"maps"
	"slices"
	"time"

	"anagram/internal/flow/inspect"
	"anagram/internal/flow/session"
	"anagram/internal/store/workspace"
)

// Status is the output of status.
type Status struct {
	Cautions     []string  `json:"cautions,omitempty"` // about how the workspace is described
	Dockets      int       `json:"dockets"`
	Environments int       `json:"environments"`
	NewestDocket *Docket   `json:"newest_docket,omitempty"`
	Parcels      int       `json:"parcels"`
	Waiting      []Waiting `json:"waiting"`
	Workspace    string    `json:"workspace"`
}

// Waiting is a docket that waits for something.
type Waiting struct {
	Docket   int    `json:"docket"`
	Source   string `json:"source"`
	Target   string `json:"target"`
	WaitsFor string `json:"waits_for"`
	Yours    int    `json:"yours,omitempty"` // findings that wait for the word of who asks
}

// Environments is the output of env list.
type Environments struct {
	Environments []Environment `json:"environments"`
}

// Environment is one of the workspace.
type Environment struct {
	Connect string `json:"connect"`
	Name    string `json:"name"`
}

// Password is the output of env password.
type Password struct {
	Environment string `json:"environment"`
	Kept        bool   `json:"kept"`
}

// Tested is the output of env test.
type Tested struct {
	Environments []Reached `json:"environments"`
}

// Reached is an environment that was tried, with what it is or why it was not reached.
type Reached struct {
	Error string `json:"error,omitempty"`
	*About
	Name    string `json:"name"`
	Reached bool   `json:"reached"`
}

// About is what an environment says of itself.
type About struct {
	Account      string   `json:"account"`
	Address      string   `json:"address"`
	Broken       []Broken `json:"broken"`
	ClockAhead   float64  `json:"clock_ahead_seconds"`
	MayNotInsert []string `json:"may_not_insert"`
	MayNotRead   []string `json:"may_not_read"`
	MayNotUpdate []string `json:"may_not_update"`
	Places       int      `json:"places"`
	Product      string   `json:"product"`
	Rights       string   `json:"rights"`
}

// Broken is a place that is there and cannot be read.
type Broken struct {
	Place string `json:"place"`
	Why   string `json:"why"`
}

// ReachedOf tells of an environment that was tried.
func ReachedOf(r inspect.EnvironmentReport) Reached {
	out := Reached{Name: r.Name, Reached: r.Err == nil}
	if r.Err != nil {
		out.Error = r.Err.Error()
		return out
	}
	out.About = &About{Product: r.About.Product, Address: r.About.Address, Account: r.About.Account, Rights: r.About.Rights,
		Places: len(r.About.Places), ClockAhead: r.About.Ahead.Round(time.Millisecond).Seconds(), MayNotRead: texts(r.NoRead),
		MayNotInsert: texts(r.NoInsert), MayNotUpdate: texts(r.NoUpdate)}
	out.Broken = []Broken{}
	for _, place := range slices.Sorted(maps.Keys(r.About.Broken)) {
		out.Broken = append(out.Broken, Broken{place, r.About.Broken[place]})
	}
	return out
}

// Begun is the output of init without addresses.
type Begun struct {
	Files     []string `json:"files"`
	Workspace string   `json:"workspace"`
}

// Stakes is the output of trust.
type Stakes struct {
	AtStake     bool    `json:"at_stake"`
	Fingerprint string  `json:"fingerprint"`
	Folder      string  `json:"folder"`
	Parts       []Stake `json:"parts"`
	Trusted     bool    `json:"trusted"`
}

// Stake is what an environment of the workspace does that has to be trusted.
type Stake struct {
	Environment string   `json:"environment"`
	Facts       []string `json:"facts"`
}

// StakesOf tells what is at stake in a workspace.
func StakesOf(s session.Stakes) Stakes {
	out := Stakes{Folder: s.Folder, Fingerprint: s.Fingerprint, AtStake: s.Any, Trusted: s.Given, Parts: []Stake{}}
	for _, part := range s.Parts {
		out.Parts = append(out.Parts, Stake{part.Environment, texts(part.Facts)})
	}
	return out
}

// Paired is the output of pair.
type Paired struct {
	Known bool   `json:"known"`
	New   string `json:"new"`
	Old   string `json:"old"`
}

// Forgotten is the output of pair --forget.
type Forgotten struct {
	Forgotten bool   `json:"forgotten"`
	New       string `json:"new"`
	Old       string `json:"old"`
}

// Pairs is the output of pair without addresses.
type Pairs struct {
	Pairs []Pair `json:"pairs"`
}

// Pair is two addresses of one record, or of two that stand beside each other.
type Pair struct {
	Old    string `json:"old"`
	New    string `json:"new"`
	By     string `json:"by"`
	At     string `json:"at"`
	Note   string `json:"note,omitempty"`
	Beside bool   `json:"beside,omitempty"`
	Source string `json:"source,omitempty"`
	Target string `json:"target,omitempty"`
}

// PairsOf lists pairs.
func PairsOf(pairs []workspace.Pair) Pairs {
	out := Pairs{Pairs: []Pair{}}
	for _, p := range pairs {
		out.Pairs = append(out.Pairs, Pair(p))
	}
	return out
}
