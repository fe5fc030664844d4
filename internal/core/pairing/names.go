// Package pairing brings the keys by which a target knows its records to those by which
// the source knows them, where a person said that two keys are one record.
//
// The contract: a Names is told which key of the target is which key of the source. It
// translates keys through any depth, so that parts, links and references follow, and
// back again. A reference that holds the key itself does not follow when a record is
// read: the target has to be told, so the difference is left to be seen. Types that no
// pair can reach cost nothing.
package pairing

import (
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
)

// Names translates between two sides.
type Names struct {
	catalog    *catalog.Catalog
	shapes     record.Shapes
	source     map[string]map[string]record.Key // type -> order of the target's key
	target     map[string]map[string]record.Key // type -> order of the source's key
	followedBy map[string]map[string]record.Key // see moved
	written    map[string]bool                  // type and order of source's keys that the target has by now
	touched    map[string]bool
}

// New makes a Names without pairs.
func New(c *catalog.Catalog, shapes record.Shapes) *Names {
	return &Names{catalog: c, shapes: shapes, source: map[string]map[string]record.Key{}, target: map[string]map[string]record.Key{},
		written: map[string]bool{}, touched: map[string]bool{}}
}

// Add says that the target knows by one key what the source knows by another.
func (n *Names) Add(typ string, target, source record.Key) {
	for _, side := range []struct {
		of       map[string]map[string]record.Key
		from, to record.Key
	}{{n.source, target, source}, {n.target, source, target}} {
		if side.of[typ] == nil {
			side.of[typ] = map[string]record.Key{}
		}
		side.of[typ][side.from.Order()] = side.to
	}
	n.followedBy = nil
	n.touch(typ)
}

// touch marks a type and all whose references lead to it.
func (n *Names) touch(typ string) {
	if n.touched[typ] {
		return
	}
	n.touched[typ] = true
	for _, t := range n.catalog.Types {
		if slices.Contains(t.Targets(), typ) {
			n.touch(t.Name)
		}
	}
}

// Touches reports whether records of a type may be known by other keys, or refer to such.
func (n *Names) Touches(typ string) bool { return n != nil && n.touched[typ] }

// Paired reports whether the source knows a record by this key that the target knows by
// another one.
func (n *Names) Paired(typ string, source record.Key) bool {
	if n == nil {
		return false
	}
	_, ok := n.target[typ][source.Order()]
	return ok
}

// Written says that the target has taken over the source's key of a record.
func (n *Names) Written(typ string, source record.Key) { n.written[typ+"\x00"+source.Order()] = true }

// Source gives the key by which the source knows a record of the target, as the target
// names it by now.
func (n *Names) Source(typ string, key record.Key) record.Key {
	if !n.Touches(typ) {
		return key
	}
	if other, ok := n.known(n.source, typ, key); ok {
		return other
	}
	key = n.follow(typ, key, n.Source)
	if other, ok := n.known(n.source, typ, key); ok {
		return other
	}
	// What it belongs to may have got its new key before it did itself.
	if other, ok := n.known(n.moved(), typ, key); ok {
		return other
	}
	return key
}

// original gives the key by which the source knows what the target named so before
// anything was written.
func (n *Names) original(typ string, key record.Key) record.Key {
	if !n.Touches(typ) {
		return key
	}
	if other, ok := n.source[typ][key.Order()]; ok {
		return other
	}
	key = n.follow(typ, key, n.original)
	if other, ok := n.source[typ][key.Order()]; ok {
		return other
	}
	return key
}

// known gives what a key of the target stands for; one that was given up by now stands for
// nothing.
func (n *Names) known(in map[string]map[string]record.Key, typ string, key record.Key) (record.Key, bool) {
	other, ok := in[typ][key.Order()]
	return other, ok && !n.written[typ+"\x00"+other.Order()]
}

// moved gives the same as source by keys in which all that they refer to has got its key.
func (n *Names) moved() map[string]map[string]record.Key {
	if n.followedBy == nil {
		n.followedBy = map[string]map[string]record.Key{} // it is asked for while it is made
		made := map[string]map[string]record.Key{}
		for typ, pairs := range n.source {
			made[typ] = map[string]record.Key{}
			for _, source := range pairs {
				made[typ][n.follow(typ, n.target[typ][source.Order()], n.original).Order()] = source
			}
		}
		n.followedBy = made
	}
	return n.followedBy
}

// Target gives the key by which the target knows a record of the source, by now.
func (n *Names) Target(typ string, key record.Key) record.Key {
	if !n.Touches(typ) {
		return key
	}
	if other, ok := n.target[typ][key.Order()]; ok && !n.written[typ+"\x00"+key.Order()] {
		key = n.follow(typ, other, n.original)
	}
	return n.follow(typ, key, n.Target)
}

// TargetWas gives the key by which the target knew a record before anything was written.
// What follows by itself is named as it is by now.
func (n *Names) TargetWas(typ string, key record.Key) record.Key {
	if !n.Touches(typ) {
		return key
	}
	if other, ok := n.target[typ][key.Order()]; ok {
		key = n.follow(typ, other, n.original)
	}
	t := n.Type(typ)
	parts := slices.Clone(key.Parts())
	for i, part := range parts {
		if t.Refers[t.Key[i]].ByKey {
			parts[i] = n.value(part, n.TargetWas)
		} else {
			parts[i] = n.value(part, n.Target)
		}
	}
	return n.shapes.Key(typ, parts)
}

// TargetParts translates what a key refers to, but not the key itself.
func (n *Names) TargetParts(typ string, key record.Key) record.Key {
	return n.follow(typ, key, n.Target)
}

// Type gives a record type by its name.
func (n *Names) Type(typ string) *catalog.Type {
	t, _ := n.catalog.Type(typ)
	return t
}

// follow translates what a key refers to.
func (n *Names) follow(typ string, key record.Key, by func(string, record.Key) record.Key) record.Key {
	var parts []record.Value
	for i, part := range key.Parts() {
		if v := n.value(part, by); !v.Equal(part) {
			if parts == nil {
				parts = slices.Clone(key.Parts())
			}
			parts[i] = v
		}
	}
	if parts == nil {
		return key
	}
	return n.shapes.Key(typ, parts)
}

func (n *Names) value(v record.Value, by func(string, record.Key) record.Key) record.Value {
	switch v.Kind() {
	case record.Reference:
		to := by(v.Refers(), v.Key())
		switch {
		case to.Order() == v.Key().Order():
			return v
		case v.IsAmong():
			return record.AmongValue(v.Refers(), to)
		default:
			return record.ReferenceValue(v.Refers(), to)
		}
	case record.Woven:
		pieces := slices.Clone(v.Parts())
		for i := range pieces {
			pieces[i] = n.value(pieces[i], by)
		}
		return record.WovenValue(pieces)
	default:
		return v
	}
}

// ToSource gives a record of the target as the source would name it and what it refers
// to. Where the target has it under a key that has to be written to become the source's,
// Was is that key.
func (n *Names) ToSource(typ string, fields []record.Field, rec record.Record) record.Record {
	if !n.Touches(typ) {
		return rec
	}
	t, _ := n.catalog.Type(typ)
	here := n.followed(t, rec.Key)
	rec.Key = n.Source(typ, rec.Key)
	rec.Was = nil
	if here.Order() != rec.Key.Order() {
		rec.Was = &here
	}
	values := make([]record.Value, len(rec.Values))
	for i, v := range rec.Values {
		if !t.Refers[fields[i].Name].ByKey {
			v = n.value(v, n.Source)
		}
		values[i] = v
	}
	rec.Values = values
	return rec
}

// followed gives a key of the target with those references translated that follow by
// themselves.
func (n *Names) followed(t *catalog.Type, key record.Key) record.Key {
	parts := slices.Clone(key.Parts())
	for i, part := range parts {
		if !t.Refers[t.Key[i]].ByKey {
			parts[i] = n.value(part, n.Source)
		}
	}
	return n.shapes.Key(t.Name, parts)
}

// ToTarget gives a value of the source as the target names what it refers to, by now.
func (n *Names) ToTarget(v record.Value) record.Value { return n.value(v, n.Target) }
