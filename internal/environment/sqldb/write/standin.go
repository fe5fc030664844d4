package write

import (
	"context"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/query"
)

// Stand-ins: what new records that require each other hold in their references until all of
// them are there.

// untilLater gives what stands in the references of a new record that get their values
// later, where null is refused.
func (w *writer) untilLater(ctx context.Context, t query.Table, c environment.Change) ([]setting, error) {
	out := w.standIn(t, c)
	if len(out) > 0 {
		if w.Can.Defer != "" && !w.deferred {
			if _, err := w.Q.ExecContext(ctx, w.Can.Defer); err != nil {
				return nil, w.Explain(err)
			}
		}
		w.deferred = true
	}
	return out, nil
}

// standIn is what untilLater gives.
func (s *Session) standIn(t query.Table, c environment.Change) []setting {
	var out []setting
	for _, field := range slices.Concat(c.Later, c.Clear) {
		if column := t.Columns[field.Name]; column.Required && !column.Default && !column.Derived {
			out = append(out, setting{column.Name, s.standInFor(column)})
		}
	}
	return out
}

// standInFor gives a value that no record has and that a column takes.
func (s *Session) standInFor(c catalog.Column) any {
	s.standIns++
	switch c.Kind {
	case record.Integer:
		most, err := strconv.ParseInt(c.Limits.Most, 10, 64)
		if err != nil {
			most = math.MaxInt64
		}
		return most - int64(s.standIns)
	case record.Bytes:
		id := uuid.New()
		return id[:]
	case record.Text:
		if strings.HasPrefix(c.Declared, "uuid") || c.Limits.Characters == 0 || c.Limits.Characters >= 36 {
			return uuid.NewString()
		}
	}
	return strconv.Itoa(s.standIns)
}
