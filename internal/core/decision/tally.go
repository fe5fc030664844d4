package decision

// Tally counts the findings that can be decided, by decision.
type Tally struct {
	Open     int `json:"open"`
	Approved int `json:"approved"`
	Declined int `json:"declined"`
	Held     int `json:"held"`
	// Kept counts those of which the target's side was taken.
	Kept int `json:"target_kept,omitempty"`
	// Stuck counts those open that no decision can bring on: conflicts as they stand.
	Stuck int `json:"stuck"`
}

// Decided counts a finding as it was decided, which was counted as open before.
func (t *Tally) Decided(f Finding) {
	t.Take(f, -1)
	t.Count(f)
}

// Take adds so many findings on which nothing was decided.
func (t *Tally) Take(f Finding, n int) {
	if f.Asks() {
		t.Open += n
		if f.Hopeless() {
			t.Stuck += n
		}
	}
}

// Count adds a finding.
func (t *Tally) Count(f Finding) {
	switch f.Stand() {
	case Approved:
		t.Approved++
	case Declined:
		t.Declined++
	case Held:
		t.Held++
	case TargetKept:
		t.Kept++
	default:
		t.Take(f, 1)
	}
}
