package parcel_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"anagram/internal/core/record"
	"anagram/internal/store/parcel"
)

// A parcel is written record by record, in any order, and read back in key order once its
// seal was verified. Errors are left out here to be short.
func Example() {
	dir, _ := os.MkdirTemp("", "example")
	defer os.RemoveAll(dir)
	catalog := "types:\n  unit: {key: [code]}\n"
	keys := record.Shapes{"unit": {{Name: "code", Kind: record.Text}}}
	fields := []record.Field{{Name: "name", Kind: record.Text}}

	w, _ := parcel.Create(dir, parcel.Manifest{Name: "june", Source: "sandbox", Keys: keys}, []byte(catalog))
	defer w.Discard()
	units := w.Type("unit", fields)
	for _, of := range [][2]string{{"mmol/L", "millimole per litre"}, {"g/L", "gram per litre"}} {
		code, _ := record.TextValue(of[0])
		name, _ := record.TextValue(of[1])
		_ = units.Add(record.Record{Key: keys.Key("unit", []record.Value{code}), Values: []record.Value{name}})
	}
	n, _ := units.Finish(true)
	path := filepath.Join(dir, "june.parcel")
	_, err := w.Finish(path, false)
	fmt.Println(n, "records written, error:", err)

	r, _ := parcel.Open(path)
	defer r.Close()
	fmt.Println("seal verified, error:", r.Verify(context.Background()))
	for unit, err := range r.Records(context.Background(), "unit") {
		fmt.Println(r.Catalog.Address("unit", unit.Key), unit.Values[0].Text(), err)
	}
	// Output:
	// 2 records written, error: <nil>
	// seal verified, error: <nil>
	// unit/g%2FL gram per litre <nil>
	// unit/mmol%2FL millimole per litre <nil>
}
