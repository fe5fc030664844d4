package check

// Candidate is an approved finding, with what it needs from the same docket.
type Candidate struct {
	ID      int64
	Blocked string // code of a blocker that no decision can mend, "" for none
	Needs   []int64
}

// Standing tells for each candidate that cannot be imported why: 0 where it is
// blocked itself, else the finding that it needs and that is not going to be there,
// because it is not a candidate or cannot be imported either. Circles of candidates
// that only need each other stand. Time and memory are linear in candidates and needs.
func Standing(candidates []Candidate) map[int64]int64 {
	present := make(map[int64]bool, len(candidates))
	for _, c := range candidates {
		present[c.ID] = true
	}
	fallen := map[int64]int64{}
	neededBy := map[int64][]int64{}
	var queue []int64
	fall := func(id, because int64) {
		if _, already := fallen[id]; !already {
			fallen[id] = because
			queue = append(queue, id)
		}
	}
	for _, c := range candidates {
		for _, need := range c.Needs {
			if !present[need] {
				fall(c.ID, need)
			}
			neededBy[need] = append(neededBy[need], c.ID)
		}
		if c.Blocked != "" {
			fallen[c.ID] = 0
			queue = append(queue, c.ID)
		}
	}
	for len(queue) > 0 {
		id := queue[0]
		queue = queue[1:]
		for _, dependent := range neededBy[id] {
			fall(dependent, id)
		}
	}
	return fallen
}
