package engine

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"anagram/internal/core/catalog"
)

func TestLimitsOfDeclaredTypes(t *testing.T) {
	for declared, want := range map[string]catalog.Limits{
		"character varying(20)": {Characters: 20}, "character(3)": {Characters: 3}, "varchar(8)": {Characters: 8}, "character varying": {}, "text": {}, "character varying(20)[]": {},
		"numeric(8,2)": {Digits: 8, Scale: 2}, "numeric": {}, "decimal(5,0)": {Digits: 5}, "DECIMAL(6,3) unsigned": {Digits: 6, Scale: 3},
		"smallint": {Least: "-32768", Most: "32767"}, "int(11)": {Least: "-2147483648", Most: "2147483647"}, "bigint(20) unsigned": {Least: "0", Most: "18446744073709551615"},
		"tinyint(1)": {}, "tinyint(4)": {Least: "-128", Most: "127"}, "tinytext": {Bytes: 255}, "enum('a','it''s')": {OneOf: []string{"a", "it's"}},
		"timestamp(3) without time zone": {}, "bit(8)": {}, "integer[]": {}, "double precision": {},
	} {
		assert.Equal(t, want, Limits(declared), declared)
	}
}
