package odata

import (
	"encoding/json"
	"testing"

	"anagram/internal/core/record"
)

// Metadata of whatever kind is read or refused; what is read can be described.
func FuzzMetadata(f *testing.F) {
	f.Add([]byte(inXML))
	f.Add([]byte(inJSON))
	f.Add([]byte(`<?xml version="1.0"?><!DOCTYPE a [<!ENTITY b "c">]><a>&b;</a>`))
	f.Add([]byte(`{"$EntityContainer":"A.B","A":{"B":{"$Kind":"EntityContainer","s":{"$Collection":true,"$Type":"A.T"}},"T":{"$Kind":"EntityType","$BaseType":"A.T"}}}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		for _, read := range []func([]byte) (*schema, error){readXML, readJSON} {
			of, err := read(text)
			if err != nil {
				continue
			}
			s := &service{name: "lab", schema: of, able: newAble(), web: nowhere(t)}
			if s.makePlaces() != nil {
				continue
			}
			for _, p := range s.places {
				if place := s.described(p); len(place.Columns) == 0 || len(place.Primary) == 0 {
					t.Fatalf("%s has %d columns and a key of %d", p.name, len(place.Columns), len(place.Primary))
				}
			}
		}
	})
}

// A value that was read from JSON is written so that it reads the same.
func FuzzValue(f *testing.F) {
	for i, raw := range []string{`"a"`, `12.50`, `"2026-01-02T03:04:05.123456789+02:00"`, `true`, `"AP8"`, `{"b":[1,{"a":null}]}`, `9223372036854775807`, `"12:00"`, `"2026-02-29"`} {
		f.Add(i, raw)
	}
	types := []string{"Edm.String", "Edm.Decimal", "Edm.DateTimeOffset", "Edm.Boolean", "Edm.Binary", "Edm.Untyped", "Edm.Int64", "Edm.TimeOfDay", "Edm.Date"}
	f.Fuzz(func(t *testing.T, n int, raw string) {
		s := &service{schema: newSchema()}
		c := s.column(property{name: "p", typ: types[max(n, 0)%len(types)]})
		held, err := c.held(json.RawMessage(raw))
		if err != nil || held == nil {
			return
		}
		for _, texts := range []bool{false, true} {
			value, err := c.written(held, texts)
			if err != nil {
				t.Fatalf("%s %q: %v", c.typ, raw, err)
			}
			text, err := json.Marshal(value)
			if err != nil {
				t.Fatalf("%s %q: %v", c.typ, raw, err)
			}
			again, err := c.held(text)
			if err != nil || c.kind != record.Bytes && again != held {
				t.Fatalf("%s %q: %v, and then %v (%v)", c.typ, raw, held, again, err)
			}
		}
	})
}
