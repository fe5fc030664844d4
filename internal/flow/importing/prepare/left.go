package prepare

// Stamps are those that written records were read back with, by finding: what this workspace wrote is
// told from what others do by them. Records that are written together mostly have the same.
type Stamps struct {
	of  map[int64]int32
	all []stamp
}

type stamp struct{ at, by string }

// Note takes down the stamps of records as they were read back.
func (s *Stamps) Note(list []Now) {
	if s.of == nil {
		s.of = map[int64]int32{}
	}
	for _, n := range list {
		if len(n.Here) != 1 || n.Here[0].ChangedAt == "" {
			continue
		}
		one := stamp{n.Here[0].ChangedAt, n.Here[0].ChangedBy}
		if last := len(s.all) - 1; last < 0 || s.all[last] != one {
			s.all = append(s.all, one)
		}
		s.of[n.ID] = int32(len(s.all) - 1)
	}
}

// Of gives the stamp of a finding's record, "" where it is not known.
func (s *Stamps) Of(finding int64) (at, by string) {
	if s == nil {
		return "", ""
	}
	i, ok := s.of[finding]
	if !ok {
		return "", ""
	}
	return s.all[i].at, s.all[i].by
}
