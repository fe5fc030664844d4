package match_test

import (
	"fmt"

	"anagram/internal/core/match"
	"anagram/internal/core/record"
)

// stream gives records of one field, which have to be in key order.
func stream(records ...[2]string) record.Stream {
	return func(yield func(record.Record, error) bool) {
		for _, of := range records {
			code, err := record.TextValue(of[0])
			name, _ := record.TextValue(of[1])
			if !yield(record.Record{Key: record.NewKey([]record.Value{code}, nil), Values: []record.Value{name}}, err) {
				return
			}
		}
	}
}

// Join goes once through both sides, and through what they last agreed on, in key order.
// Only what differs is found.
func Example() {
	counts, err := match.Join(match.Input{
		Fields:    []record.Field{{Name: "name", Kind: record.Text}},
		Source:    stream([2]string{"g", "gram"}, [2]string{"l", "litre"}, [2]string{"mg", "milligram"}),
		Target:    stream([2]string{"g", "gramme"}, [2]string{"kg", "kilogram"}, [2]string{"l", "litre"}),
		Agreed:    stream([2]string{"g", "gramme"}, [2]string{"l", "litre"}),
		InScope:   func(record.Key) bool { return true },
		Ambiguous: func(record.Key) bool { return false },
	}, func(f match.Finding) error {
		fmt.Println(f.Key.Parts()[0].Text(), f.Status)
		for _, d := range f.Differences {
			fmt.Println("  moved in the", d.Moved)
		}
		return nil
	})
	fmt.Println(counts.By[match.Same], "same,", err)
	// Output:
	// g changed
	//   moved in the source
	// kg target-only
	// mg new
	// 1 same, <nil>
}
