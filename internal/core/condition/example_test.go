package condition_test

import (
	"fmt"

	"anagram/internal/core/condition"
	"anagram/internal/core/record"
)

// A condition is compiled for the fields of a record type; it is then asked for each
// record, with the values of the fields that it names.
func Example() {
	fields := []record.Field{{Name: "code", Kind: record.Text}, {Name: "status", Kind: record.Text}, {Name: "price", Kind: record.Decimal}}
	c, err := condition.Compile("status == 'A' && price > 10", "assay", fields)
	fmt.Println(err)
	for _, price := range []string{"9.50", "10.50"} {
		var values []record.Value
		for _, field := range c.Fields() {
			text := map[string]string{"status": "A", "price": price}[field.Name]
			v, _ := record.Parse(field.Kind, text)
			values = append(values, v)
		}
		holds, err := c.Holds(values, nil)
		fmt.Println(price, holds, err)
	}
	_, err = condition.Compile("stat == 'A'", "assay", fields)
	fmt.Println(err)
	// Output:
	// <nil>
	// 9.50 false <nil>
	// 10.50 true <nil>
	// condition "stat == 'A'", column 1: assay has no field "stat"; did you mean "status"?
}
