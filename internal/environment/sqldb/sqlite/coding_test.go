package sqlite

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
)

func TestSQLiteDecodes(t *testing.T) {
	for _, c := range []struct {
		stored any
		kind   record.Kind
		want   string // "" where it is refused
	}{
		{int64(7), record.Integer, "7"}, {int64(7), record.Decimal, "7"}, {int64(1), record.Boolean, "true"}, {int64(2), record.Boolean, ""},
		{int64(7), record.Text, ""}, {int64(20260101), record.Date, ""}, {1.5, record.Decimal, "1.5"}, {0.1, record.Decimal, "0.1"}, {1e21, record.Decimal, "1000000000000000000000"},
		{5.0, record.Integer, "5"}, {5.5, record.Integer, ""}, {math.Inf(1), record.Decimal, ""}, {math.NaN(), record.Decimal, ""}, {1.5, record.Text, ""},
		{"x", record.Text, "x"}, {"1.50", record.Decimal, "1.5"}, {"0", record.Boolean, "false"}, {"maybe", record.Boolean, ""}, {"x", record.Bytes, ""},
		{"2026-01-02 03:04:05", record.LocalTimestamp, "2026-01-02T03:04:05"}, {"2026-01-02 03:04:05+01:00", record.Timestamp, "2026-01-02T02:04:05Z"},
		{[]byte("a"), record.Bytes, "ca978112ca1bbdcafac231b39a23dc4da786eff8147c4e72b9807785afee48bb"}, {[]byte("a"), record.Text, ""},
	} {
		v, err := dialect{}.Decode(c.stored, c.kind, catalog.Column{})
		if c.want == "" {
			assert.Error(t, err, "%v as %s", c.stored, c.kind)
			continue
		}
		require.NoError(t, err, "%v as %s", c.stored, c.kind)
		assert.Equal(t, c.want, v.Text())
		back, err := dialect{}.Encode(v, catalog.Column{})
		require.NoError(t, err)
		again, err := dialect{}.Decode(back, c.kind, catalog.Column{})
		require.NoError(t, err)
		assert.True(t, v.Equal(again), "%v as %s", c.stored, c.kind)
	}
	null, err := dialect{}.Decode(nil, record.Text, catalog.Column{})
	require.NoError(t, err)
	assert.True(t, null.IsNull())
	huge, err := record.Parse(record.Integer, "9223372036854775808")
	require.NoError(t, err)
	_, err = dialect{}.Encode(huge, catalog.Column{})
	assert.ErrorContains(t, err, "64 bit")
}

func TestSQLiteKindsByDeclaredType(t *testing.T) {
	for declared, want := range map[string]record.Kind{
		"INTEGER": record.Integer, "bigint unsigned": record.Integer, "VARCHAR(20)": record.Text, "CHARACTER(1)": record.Text, "DECIMAL(10,2)": record.Decimal, "REAL": record.Decimal,
		"double precision": record.Decimal, "BOOLEAN": record.Boolean, "DATE": record.Date, "DATETIME": record.LocalTimestamp, "TIMESTAMP": record.LocalTimestamp,
		"TIMESTAMP WITH TIME ZONE": record.Timestamp, "timestamptz": record.Timestamp, "TIME": record.Time, "JSON": record.JSON, "BLOB": record.Bytes, "": record.Null, "POINT": record.Integer,
	} {
		assert.Equal(t, want, kindOf(declared), declared)
	}
}
